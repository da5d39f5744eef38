package flow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/bring"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/collect/transfer"
	"envask/internal/fault"
	"envask/internal/logset"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/stamp"
)

// BringRequest is what a person brings into a case.
type BringRequest struct {
	Paths        []string // files, folders, archives; "-" is Input. As a terminal writes them when they are dragged into it
	Item, System string   // "" finds out by what the items expect
	Note         string
	From         string // where it came from, in place of the path; "" is the path
	As           string // the name of what comes from Input
	Input        io.Reader
	Link         string // where it lies, when it is not brought itself
	LinkSize     int64  // bytes, as somebody said; 0 is unknown
	LinkSHA256   string // the same
	Boxes        []string
	// Choose asks which of several answers is meant, and gives its number; nil when nobody can be asked.
	Choose func(question string, answers []string) (int, error)
}

// Brought is what came of it.
type Brought struct {
	Round    string              `json:"round"`
	New      bool                `json:"new_round"` // it was begun for this
	Files    []BroughtFile       `json:"files"`
	Coverage round.Coverage      `json:"coverage"` // of the items that were brought
	Groups   []round.GroupResult `json:"groups,omitempty"`
}

// BroughtFile is one file of it.
type BroughtFile struct {
	round.Entry
	Known   string `json:"known,omitempty"`   // the round has it already, under this name
	Counts  bool   `json:"counts"`            // it is the version that counts
	Instead string `json:"instead,omitempty"` // which other version counts, or counted until now
}

// bringing is one run of Bring.
type bringing struct {
	app   *App
	c     *casefile.Case
	w     *casefile.Writer
	q     BringRequest
	ask   *ask.Ask
	site  *site.Site
	round *round.Round
	list  []round.Entry // what the round has of persons
	tmp   string
	out   *Brought
	items map[string]bool // of which something was brought
}

// Bring takes into a case what a person brings: it copies, tells what it is, holds it against what the item expects, and writes down who
// brought it. The source is never touched.
func (a *App) Bring(ctx context.Context, c *casefile.Case, q BringRequest) (*Brought, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, err
	}
	if err := a.approved(k); err != nil {
		return nil, err
	}
	if len(k.Persons()) == 0 {
		return nil, fault.New(fault.Usage, "add", "", "the ask "+k.Name+" has no item that a person brings",
			"an item with person: in "+k.File+" says what is wanted; receipts are added as they are, and the desk's answer with --reply")
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	if err := a.keepApproved(w, k); err != nil {
		return nil, err
	}
	tmp, err := w.Temp()
	if err != nil {
		return nil, fault.Wrap("add", c.Name, err)
	}
	b := &bringing{app: a, c: c, w: w, q: q, ask: k, site: s, tmp: tmp, out: &Brought{Files: []BroughtFile{}}, items: map[string]bool{}}
	err = b.run(ctx)
	if ctx.Err() != nil {
		return b.out, &fault.Error{Class: fault.Interrupted, Op: "add", Err: errors.New("interrupted"),
			Hint: "what is listed is in the case; add the rest again"}
	}
	return b.out, err
}

func (b *bringing) run(ctx context.Context) error {
	if b.q.Link != "" {
		return b.link(ctx)
	}
	return b.each(ctx, func(src source) error {
		defer src.done()
		return b.take(ctx, src)
	})
}

// take copies one file, and writes it down in the round. All that is told of it is told of the copy.
func (b *bringing) take(ctx context.Context, src source) error {
	part := filepath.Join(b.tmp, "brought")
	got, err := b.copy(ctx, src, part)
	if err != nil {
		return err
	}
	defer os.Remove(part) // fails harmlessly once it has its place
	looked, err := bring.Look(ctx, part, src.name, b.c.Window.Zone)
	if err != nil {
		return fault.Wrap("add", src.shown, transfer.PlainPath(err))
	}
	cell, err := b.belongs(ctx, looked, part)
	if err != nil {
		return err
	}
	if err := b.join(ctx, cell); err != nil {
		return err
	}
	e := round.Entry{System: cell[0], Item: cell[1], Source: collect.SafePath(b.cameFrom(src)), Size: got.Size,
		Bytes: got.Bytes, SHA256: got.SHA256,
		ModTime: got.Modified.UTC(), First: looked.First.UTC(), Last: looked.Last.UTC(), State: round.Taken,
		Brought: &round.Brought{Name: src.name, By: b.app.Who, At: b.app.Now().UTC().Truncate(time.Second), From: b.cameFrom(src),
			Note: b.q.Note, Type: looked.Kind,
			About: looked.About}}
	if known := b.known(&e); known != nil {
		b.out.Files = append(b.out.Files, BroughtFile{Entry: *known, Known: known.Name, Counts: !known.Brought.Older})
		return nil
	}
	item := b.ask.Item(cell[1])
	expect := item.Spec.(ask.Person).Expect
	verdict, err := looked.Against(ctx, expect, b.c.Window, part)
	if err != nil {
		return fault.Wrap("add", src.shown, err)
	}
	if got.Torn || got.Short {
		verdict.Fails = append(verdict.Fails, "it changed while it was added: add it again")
	}
	if len(verdict.Fails) > 0 {
		e.State, e.Reason = round.Failed, strings.Join(verdict.Fails, "; ")
	} else {
		e.Reason = strings.Join(verdict.Remarks, "; ")
	}
	if expect.Cut && e.State == round.Taken {
		if err := b.cut(ctx, src, part, &e); err != nil {
			return err
		}
	}
	e.Brought.Remarks = verdict.Remarks
	file := BroughtFile{Counts: e.State == round.Taken}
	if err := b.versions(&e, src.name, &file); err != nil {
		return err
	}
	e.Name = b.freeName(cell, src.name)
	if len(b.q.Boxes) > 0 {
		if err = b.blacken(part, &e); err == nil {
			err = b.forget(e.Brought.OfSHA256)
		}
	} else {
		err = transfer.Place(part, b.raw(&e), e.ModTime)
	}
	if err != nil {
		return fault.Wrap("add", src.shown, err)
	}
	file.Entry = e
	return b.keep(&e, file)
}

// fits makes sure that there is room for a file before a byte of it is read.
func (b *bringing) fits(shown string, size int64) error {
	if free := freeSpace(b.c.Dir); free >= 0 && size > free {
		return fault.New(fault.Failed, "add", shown, fmt.Sprintf("it has %s, and only %s are free for the case",
			sizeText(size), sizeText(free)),
			"make room, or say where it lies: envask add --link URL")
	}
	return nil
}

// copy brings the bytes of a file to a place of ours.
func (b *bringing) copy(ctx context.Context, src source, part string) (transfer.Got, error) {
	info, err := os.Stat(src.path)
	if err != nil {
		return transfer.Got{}, fault.Wrap("add", src.shown, errors.New(transfer.Plain(err)))
	}
	if err := b.fits(src.shown, info.Size()); err != nil {
		return transfer.Got{}, err
	}
	var sofar int64
	f := transfer.File{FS: onDisk(src.path), Name: src.name, Part: part + ".part", Final: part,
		Count: func(n int64) {
			sofar += n
			b.app.report(BringProgress{Name: src.name, Done: sofar, Total: info.Size()})
		}}
	got, err := f.Take(ctx)
	var room *transfer.RoomError
	if errors.As(err, &room) {
		return got, fault.New(fault.Failed, "add", src.shown, "there is no room for it in the case folder",
			"make room, or say where it lies: envask add --link URL")
	}
	if err != nil && ctx.Err() == nil {
		return got, fault.Wrap("add", src.shown, errors.New(transfer.Plain(err)))
	}
	return got, err
}

// onDisk is a file of this machine, whatever bytes its name has: io/fs takes names in UTF-8 alone.
type onDisk string

// Open opens it, whatever it is called there.
func (f onDisk) Open(string) (fs.File, error) { return os.Open(string(f)) }

// BringProgress says how much of a file is copied, in bytes.
type BringProgress struct {
	Name        string
	Done, Total int64
}

// cut keeps of a text with dated lines those of the window, in the place of the whole.
func (b *bringing) cut(ctx context.Context, src source, part string, e *round.Entry) error {
	if !b.c.Window.Limited() || e.Brought.Type != "text" {
		return nil
	}
	in, err := os.Open(part)
	if err != nil {
		return fault.Wrap("add", src.shown, transfer.Ours(err))
	}
	defer in.Close()
	content := logset.Content{Size: e.Bytes, ReadAt: in.ReadAt, Open: func() (io.ReadCloser, error) { return os.Open(part) }}
	look := logset.Inspect(content, stamp.Facts{Name: src.name, Zone: b.c.Window.Zone, AsOf: e.ModTime})
	if !look.Cuttable() {
		return nil
	}
	out, err := os.Create(part + ".cut")
	if err != nil {
		return fault.Wrap("add", src.shown, transfer.Ours(err))
	}
	o, err := logset.Cut(ctx, content, look, logset.Wish{Window: b.c.Window}, nil, out)
	if e := out.Close(); e != nil && err == nil {
		err = transfer.Ours(e)
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return fault.Wrap("add", src.shown, err)
	case o.All:
		return os.Remove(part + ".cut")
	case o.Nothing():
		e.State, e.Reason = round.Failed, round.Join("no line of it is of the window", e.Reason)
		return os.Remove(part + ".cut")
	}
	e.Brought.OfSHA256 = e.SHA256
	if e.SHA256, e.Bytes, err = sumAndSize(part + ".cut"); err != nil {
		return fault.Wrap("add", src.shown, err)
	}
	e.Cut = collect.CutInfo(o)
	e.Reason = round.Join(e.Reason, e.Cut.Words(b.c.Window.Zone))
	return fault.Wrap("add", src.shown, os.Rename(part+".cut", part))
}

// raw gives the place of a brought file.
func (b *bringing) raw(e *round.Entry) string {
	return filepath.Join(b.round.RawDir(), e.System, filepath.FromSlash(e.Name))
}

// known finds what was brought with the same content.
func (b *bringing) known(e *round.Entry) *round.Entry {
	if len(b.q.Boxes) > 0 {
		return nil
	}
	for i := range b.list {
		x := &b.list[i]
		same := x.SHA256 == e.SHA256 || x.Brought.OfSHA256 == e.SHA256
		if x.System == e.System && x.Item == e.Item && x.Brought.Link == "" && same {
			return x
		}
	}
	return nil
}

// versions decides which of two files of one name counts.
func (b *bringing) versions(e *round.Entry, name string, file *BroughtFile) error {
	for i := range b.list {
		x := &b.list[i]
		if x.System != e.System || x.Item != e.Item || x.Brought.Older || !strings.EqualFold(x.Brought.Name, name) || x.Brought.Link != "" {
			continue
		}
		if x.SHA256 == e.SHA256 { // the whole picture, of which parts are made black now: see forget
			continue
		}
		newer := e.State == round.Taken || x.State != round.Taken
		if newer && x.State == round.Taken && b.app.Confirm != nil {
			yes, err := b.app.Confirm(fmt.Sprintf("%s was brought before (%s, %s). Does the new one count instead? Both are kept", name,
				sizeText(x.Bytes), x.Brought.At.Format("2006-01-02 15:04 MST")))
			if err != nil {
				return err
			}
			newer = yes
		}
		file.Instead = x.Name
		if newer {
			x.Brought.Older = true
			file.Counts = e.State == round.Taken
		} else {
			e.Brought.Older, file.Counts = true, false
		}
	}
	return nil
}

// addedFolder is where what was brought stands, below a system's folder.
const addedFolder = "added/"

// sweep removes what an add that was killed left in the round: files that no entry names, of which the person has the originals.
func (b *bringing) sweep() {
	named := map[string]bool{}
	for i := range b.list {
		e := &b.list[i]
		named[filepath.Join(e.System, filepath.FromSlash(e.Name))] = true
		named[filepath.Join(e.System, filepath.FromSlash(e.Brought.Original))] = true
	}
	for _, folder := range []string{"added", "originals"} {
		found, _ := filepath.Glob(filepath.Join(b.round.RawDir(), "*", folder, "*", "*")) // the pattern is ours
		for _, file := range found {
			if rel, err := filepath.Rel(b.round.RawDir(), file); err == nil && !named[rel] {
				_ = os.Remove(file) // what cannot be removed is in nobody's way
			}
		}
	}
}

// freeName gives the name that a file gets: nothing is ever overwritten.
func (b *bringing) freeName(cell cellKey, name string) string {
	want := addedFolder + cell[1] + "/" + collect.SafePath(strings.ReplaceAll(name, "/", "_"))
	for n, x := 2, want; ; n++ {
		taken := slices.ContainsFunc(b.list, func(e round.Entry) bool { return e.System == cell[0] && strings.EqualFold(e.Name, x) })
		if _, err := os.Lstat(filepath.Join(b.round.RawDir(), cell[0], filepath.FromSlash(x))); !taken && err != nil {
			return x
		}
		ending := path.Ext(want)
		x = fmt.Sprintf("%s%%~%d%s", strings.TrimSuffix(want, ending), n, ending)
	}
}

// blacken puts the blackened copy of a picture in its place, and the picture itself aside, where nothing is ever packed from.
func (b *bringing) blacken(part string, e *round.Entry) error {
	boxes, err := parseBoxes(b.q.Boxes)
	if err != nil {
		return err
	}
	in, err := os.Open(part)
	if err != nil {
		return err
	}
	defer in.Close()
	black, err := os.Create(part + ".black")
	if err != nil {
		return transfer.Ours(err)
	}
	err = bring.Blacken(black, in, boxes)
	if e := black.Close(); e != nil {
		return transfer.Ours(e)
	}
	if err != nil {
		return fault.New(fault.Usage, "--boxes", strings.Join(b.q.Boxes, " "), err.Error(),
			"measure the boxes in the picture as a viewer shows it")
	}
	sum, size, err := sumAndSize(part + ".black")
	if err != nil {
		return err
	}
	original := "originals/" + strings.TrimPrefix(e.Name, addedFolder)
	if err := transfer.Place(part, filepath.Join(b.round.RawDir(), e.System, filepath.FromSlash(original)), e.ModTime); err != nil {
		return err
	}
	e.Brought.Boxes, e.Brought.Original, e.Brought.OfSHA256 = b.q.Boxes, original, e.SHA256
	e.SHA256, e.Bytes = sum, size
	e.Reason = round.Join(e.Reason, fmt.Sprintf("%d %s made black in it", len(boxes),
		plural(len(boxes), "rectangle was", "rectangles were")))
	return transfer.Place(part+".black", b.raw(e), e.ModTime)
}

// forget takes a picture out of the case that is now there with parts of it black: it must not leave beside that, with whatever round.
func (b *bringing) forget(sum string) error {
	sent, err := b.app.sentEvidence(b.c)
	if err != nil {
		return err
	}
	if b.list, err = b.forgetIn(b.round, b.list, sum, sent); err != nil {
		return err
	}
	rounds, err := round.List(b.c)
	if err != nil {
		return err
	}
	for _, r := range rounds {
		if r.ID == b.round.ID {
			continue
		}
		list, err := r.Brought()
		if err == nil {
			_, err = b.forgetIn(r, list, sum, sent)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// forgetIn takes it out of one round, and gives what is left of the list.
func (b *bringing) forgetIn(r *round.Round, list []round.Entry, sum string, sent map[place]bool) ([]round.Entry, error) {
	for i := 0; i < len(list); i++ {
		e := list[i]
		if e.SHA256 != sum || e.Brought.Original != "" || e.Name == "" {
			continue
		}
		if sent[placeOf(e.System, e.Name, e.SHA256)] {
			b.app.note("the whole picture was sent before, with round %s as %s: tell the vendor", r.ID, e.Name)
			continue
		}
		list = slices.Delete(list, i, i+1)
		i--
		b.app.note("the whole picture, in round %s as %s, is kept among the originals alone: it is not packed any more", r.ID, e.Name)
		if err := b.save(r, list, &e, true); err != nil {
			return list, err
		}
		err := os.Remove(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return list, transfer.Ours(err)
		}
	}
	return list, nil
}

// broughtRecord is what the ledger has of a file that was brought, or of one that was taken back.
type broughtRecord struct {
	Round   string      `json:"round"`
	System  string      `json:"system"`
	Item    string      `json:"item"`
	Name    string      `json:"name,omitempty"`
	SHA256  string      `json:"sha256,omitempty"`
	Size    int64       `json:"size"`
	State   round.State `json:"state"`
	Link    string      `json:"link,omitempty"`
	Dropped bool        `json:"dropped,omitempty"`
	By      string      `json:"by"`
	Facts   string      `json:"facts_sha256"` // of the round, with it
}

// keep writes an entry down: in the round, and in the ledger.
func (b *bringing) keep(e *round.Entry, file BroughtFile) error {
	b.list = append(b.list, *e)
	round.Sort(b.list)
	b.items[e.Item] = true
	if err := b.save(b.round, b.list, e, false); err != nil {
		return err
	}
	b.out.Files = append(b.out.Files, file)
	return nil
}

// save writes down what a round has of persons, after one entry changed.
func (b *bringing) save(r *round.Round, list []round.Entry, e *round.Entry, dropped bool) error {
	if err := r.SaveBrought(b.ask, list); err != nil {
		return fault.Wrap("write down what was brought", r.ID, err)
	}
	facts, err := r.Facts()
	if err != nil {
		return err
	}
	if r == b.round {
		b.out.Round, b.out.Coverage, b.out.Groups = r.ID, nil, r.Groups
		for _, cell := range r.Coverage {
			if b.items[cell.Item] {
				b.out.Coverage = append(b.out.Coverage, cell)
			}
		}
	}
	return fault.Wrap("write the ledger", b.c.Name, b.w.Ledger.Append(kindBrought,
		broughtRecord{Round: r.ID, System: e.System, Item: e.Item, Name: e.Name,
			SHA256: e.SHA256, Size: e.Bytes, State: e.State, Link: e.Brought.Link, Dropped: dropped, By: b.app.Who, Facts: facts}))
}

// link writes down where something lies that was not brought itself.
func (b *bringing) link(ctx context.Context) error {
	if err := checkLink(b.q); err != nil {
		return err
	}
	cell, err := b.named()
	if err != nil {
		return err
	}
	if err := b.join(ctx, cell); err != nil {
		return err
	}
	e := round.Entry{System: cell[0], Item: cell[1], Source: b.q.Link, State: round.Skipped, Size: b.q.LinkSize,
		SHA256:  strings.ToLower(b.q.LinkSHA256),
		Reason:  "it lies elsewhere; nothing of it was read",
		Brought: &round.Brought{By: b.app.Who, At: b.app.Now().UTC().Truncate(time.Second), From: b.q.Link, Note: b.q.Note, Link: b.q.Link}}
	if i := slices.IndexFunc(b.list, func(x round.Entry) bool {
		return x.System == e.System && x.Item == e.Item &&
			x.Source == e.Source
	}); i >= 0 {
		if x := &b.list[i]; x.Size == e.Size && x.SHA256 == e.SHA256 {
			b.out.Round = b.round.ID
			b.out.Files = append(b.out.Files, BroughtFile{Entry: *x, Known: x.Brought.Link})
			return nil
		}
		b.list = slices.Delete(b.list, i, i+1) // what is said of it now counts
	}
	return b.keep(&e, BroughtFile{Entry: e, Counts: true})
}

// cameFrom says where a file came from.
func (b *bringing) cameFrom(src source) string {
	if b.q.From != "" {
		return b.q.From
	}
	return src.shown
}
