package collect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/reach"
)

// needTimeout bounds looking for one thing that an item needs.
const needTimeout = 30 * time.Second

// needHead is how much of a file or an output is looked at, in bytes.
const needHead = 1 << 20

// unmet gives what of an item's needs does not hold, in words that say what to do.
func unmet(ctx context.Context, w *work) []string {
	var out []string
	for _, n := range w.item.Needs {
		if why := failing(ctx, w, n); why != "" && ctx.Err() == nil {
			text := "needs " + n.String() + ": " + why
			if n.Do != "" {
				text += "; " + n.Do
			}
			out = append(out, text)
		}
	}
	return out
}

// unmetReason says what does not hold in the reason of a cell. What files hold may do all the same; anything else is not taken.
func (c *Cell) unmetReason(item *ask.Item) {
	switch {
	case len(c.Unmet) == 0:
	case item.Spec.Kind() == "files":
		c.Reason = join(strings.Join(c.Unmet, "; "), c.Reason)
	default:
		c.State, c.Code, c.Reason = Missing, CodeNeeds, strings.Join(c.Unmet, "; ")
	}
}

// failing says why a need does not hold, or "".
func failing(ctx context.Context, w *work, n ask.Need) string {
	var text string
	switch {
	case n.File != "":
		data, err := readHead(w.target.FS(), reach.Name(w.at(n.File)), needHead)
		if err != nil {
			if notThere(err) {
				return "there is no such file"
			}
			return plain(err)
		}
		text = string(data)
	default:
		run, why := w.runner()
		if run == nil {
			return why
		}
		if n.Command != "" {
			if state, why := lookUp(ctx, run, n.Command); state != Taken {
				return why
			}
			return ""
		}
		ctx, cancel := context.WithTimeout(ctx, needTimeout)
		defer cancel()
		out := head{room: needHead}
		exit, err := run.Run(ctx, n.Run, &out, &out)
		switch {
		case err != nil:
			return plain(err)
		case exit != 0:
			return fmt.Sprintf("it ended with exit code %d", exit)
		}
		text = out.String()
	}
	if n.Like == nil && n.Least == "" {
		return ""
	}
	return n.Judge(text)
}

// takenFiles gives the paths of an item's files that were taken.
func takenFiles(entries []Entry) (paths []string) {
	for _, e := range entries {
		if e.Name != "" && !e.Special && e.Command == nil && (e.State == Taken || e.State == Cut) {
			paths = append(paths, e.Source)
		}
	}
	return paths
}

// demand holds a cell against what the item demands of each system.
func (c *Cell) demand(item *ask.Item, entries []Entry) {
	if c.State != Taken && c.State != Cut {
		return
	}
	if why := item.Each.Unmet(takenFiles(entries)); why != "" {
		c.State, c.Code, c.Reason = Failed, CodeDemand, join("not all that it demands: "+why, c.Reason)
	}
}

// CheckGroups says for every group of the ask on which systems it is not there as a whole: an item, or a file of one, or a file that
// the group demands. each gives the entries of the round; it is asked only where there are groups.
func CheckGroups(a *ask.Ask, plan Coverage, each func(func(Entry) error) error) ([]GroupResult, error) {
	if len(a.Groups) == 0 {
		return nil, nil
	}
	entries := map[[2]string][]Entry{}
	if err := each(func(e Entry) error {
		if k := [2]string{e.System, e.Item}; a.InGroup(e.Item) {
			entries[k] = append(entries[k], e)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	var out []GroupResult
	for _, g := range a.Groups {
		out = append(out, checkGroup(g, plan, entries))
	}
	return out, nil
}

func checkGroup(g ask.Group, plan Coverage, entries map[[2]string][]Entry) GroupResult {
	r := GroupResult{Name: g.Name, Why: g.Why, Items: g.Items}
	lacks, files, without := map[string][]string{}, map[string][]string{}, map[string]bool{}
	var order []string
	for _, cell := range plan {
		if !slices.Contains(g.Items, cell.Item) || cell.System == "" || cell.NotChosen() {
			continue
		}
		if _, seen := lacks[cell.System]; !seen {
			lacks[cell.System] = nil
			order = append(order, cell.System)
		}
		of := entries[[2]string{cell.System, cell.Item}]
		files[cell.System] = append(files[cell.System], takenFiles(of)...)
		if cell.State != Taken && cell.State != Cut {
			lacks[cell.System], without[cell.System] = append(lacks[cell.System], cell.Item), true
			continue
		}
		for _, e := range of {
			if e.Name == "" && !e.Special && e.State != Empty && e.State != Skipped && e.State != Refused {
				lacks[cell.System] = append(lacks[cell.System], fmt.Sprintf("%s (%s: %s)", cell.Item, e.Source, e.State))
			}
		}
	}
	for _, system := range order {
		if why := g.Each.Unmet(files[system]); why != "" && len(lacks[system]) == 0 {
			lacks[system] = append(lacks[system], "files ("+why+")")
		}
		if items := lacks[system]; len(items) > 0 {
			r.Lacking = append(r.Lacking, system+" lacks "+strings.Join(items, ", "))
			if !without[system] {
				r.Short = append(r.Short, system)
			}
		} else {
			r.Whole = append(r.Whole, system)
		}
	}
	return r
}

// GroupResult is what became of items that are demanded together.
type GroupResult struct {
	Name    string   `json:"name"`
	Why     string   `json:"why,omitempty"`
	Items   []string `json:"items"`
	Whole   []string `json:"whole"`             // systems that have all of them
	Lacking []string `json:"lacking,omitempty"` // what the others lack, in words
	Short   []string `json:"-"`                 // systems that have all its items, and lack files
}
