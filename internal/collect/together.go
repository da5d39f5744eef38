package collect

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/reach"
	"envask/internal/round"
)

// groupTries is how often the items of a group are taken until they are of one state.
const groupTries = 3

// source of an entry on the system, for reading it a second time.
type again struct {
	name   string // on the system, without links
	whole  bool   // it was taken as it is, to its size at that time
	size   int64
	sha256 string
}

// settleGroups makes sure that items which belong together are of one state: they are read a second time, and taken anew when
// something changed in between.
func (v *visit) settleGroups(ctx, inner context.Context, cells []*round.Cell) error {
	groups := map[string][]*round.Cell{}
	for _, cell := range cells {
		if g := v.c.item(cell.Item).Together; g != "" && (cell.State == round.Taken || cell.State == round.Cut) {
			groups[g] = append(groups[g], cell)
		}
	}
	var names []string
	for name := range groups {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		if err := v.settleGroup(ctx, inner, name, groups[name]); err != nil {
			return err
		}
	}
	return nil
}

func (v *visit) settleGroup(ctx, inner context.Context, name string, cells []*round.Cell) error {
	for try := 1; ; try++ {
		if v.target == nil || inner.Err() != nil {
			return v.sayTogether(ctx, cells, "whether the group "+name+
				" is of one state is not known: the system was gone before it was read again")
		}
		changed, once, err := v.changed(inner, cells)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		note := "of one state with the group " + name + " (read twice)"
		if once > 0 {
			note = fmt.Sprintf("of one state with the group %s as far as it can be read twice; of %d of the files only a part was taken",
				name,
				once)
		}
		switch {
		case err != nil:
			note = "whether the group " + name + " is of one state is not known: " + transfer.Plain(err)
		case len(changed) > 0 && try < groupTries:
			for _, cell := range cells {
				delete(v.done, cell.Item)
				delete(v.from, cell.Item)
				*cell = round.Cell{System: cell.System, Item: cell.Item, Required: cell.Required}
				if err := v.take(ctx, inner, cell); err != nil {
					return err
				}
			}
			continue
		case len(changed) > 0:
			note = fmt.Sprintf("NOT of one state with the group %s: changed between two readings, %d times in a row: %s", name, groupTries,
				strings.Join(changed, ", "))
		}
		return v.sayTogether(ctx, cells, note)
	}
}

// sayTogether notes in the cells of a group whether it is of one state.
func (v *visit) sayTogether(ctx context.Context, cells []*round.Cell, note string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for _, cell := range cells {
		cell.Together = note
		cell.Reason = round.Join(cell.Reason, note)
		if err := v.c.finishCell(v.round, cell); err != nil {
			return err
		}
	}
	return nil
}

// changed reads what was taken of a group once more and names what is not as it was. once is how much was read once: a part of a file
// cannot be held against what the file is now.
func (v *visit) changed(ctx context.Context, cells []*round.Cell) (out []string, once int, err error) {
	for _, cell := range cells {
		err := v.done[cell.Item].each(func(e *round.Entry) error {
			if a, whole := v.again[cell.Item][e.Source]; (!whole || !a.whole) && e.Command == nil && e.Bytes > 0 {
				once++
			}
			return nil
		})
		if err != nil {
			return nil, 0, err
		}
		for source, a := range v.again[cell.Item] {
			if !a.whole {
				continue
			}
			sum, err := sumOf(ctx, v.target.FS(), a.name, a.size)
			switch {
			case ctx.Err() != nil:
				return nil, 0, ctx.Err()
			case err != nil && notThere(err):
				out = append(out, source)
			case err != nil:
				return nil, 0, err
			case sum != a.sha256:
				out = append(out, source)
			}
		}
		ran, err := v.ranAgain(ctx, cell)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, ran...)
	}
	sort.Strings(out)
	return out, once, nil
}

// ranAgain runs the commands of an item once more and names those that print something else now.
func (v *visit) ranAgain(ctx context.Context, cell *round.Cell) ([]string, error) {
	var out []string
	item := v.c.item(cell.Item)
	err := v.done[cell.Item].each(func(e *round.Entry) error {
		if e.Command == nil || e.Command.Output == "" {
			return nil
		}
		w := &work{req: &v.c.Request, sys: v.sys, item: item, target: v.target, facts: &v.facts}
		run, why := w.runner()
		if run == nil {
			return errors.New(why)
		}
		h := sha256.New()
		if _, err := run.Run(ctx, e.Command.Line, h, io.Discard); err != nil {
			return err
		}
		if hex.EncodeToString(h.Sum(nil)) != e.Command.Output {
			out = append(out, e.Source)
		}
		return nil
	})
	return out, err
}

// sumOf gives the SHA-256 of the first bytes of a file on a system; a file that is not of this size any more has none.
func sumOf(ctx context.Context, fsys reach.FS, name string, size int64) (string, error) {
	f, err := reach.OpenResolved(fsys, name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() != size {
		return "", err
	}
	return durable.Sum(ctx, f)
}
