package compare

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"envask/internal/collect"
)

// Key names a file: its system, and its path below that system's folder (files/etc/x, commands/state.txt, …).
type Key struct {
	System string `json:"system"`
	Path   string `json:"path"`
}

// File is one file of a side.
type File struct {
	Size   int64
	SHA256 string // "" when it has to be read for it
	Item   string // of the ask; "" is not known
	Log    bool   // it is dated by line: its lines are not compared
	Open   func() (io.ReadCloser, error)
}

// Side is one of the two states.
type Side struct {
	Files map[Key]*File
	Facts map[string]collect.Vitals // by system
	Took  map[[2]string]bool        // which item was asked for on which system; nil is not known
}

// lacks says whether a file is not there because nobody asked for its item.
func (s *Side) lacks(system, item string) bool {
	return s.Took != nil && item != "" && !s.Took[[2]string{system, item}]
}

// What became of a file.
const (
	New     = "new"
	Gone    = "gone"
	Changed = "changed"
)

// Difference is one file that differs.
type Difference struct {
	Key
	What   string   `json:"what"`
	Before int64    `json:"before"` // size in bytes
	Now    int64    `json:"now"`
	Log    bool     `json:"log,omitempty"`
	Format string   `json:"format,omitempty"` // of its keys: json, yaml, toml, ini
	Keys   []Change `json:"keys,omitempty"`   // where the format has keys
	Diff   string   `json:"diff,omitempty"`   // a unified diff, where it has none
	Note   string   `json:"note,omitempty"`   // why nothing more is said
}

// Change is one key or fact. What is not there is "" with its flag false.
type Change struct {
	Name   string `json:"name"`
	Before string `json:"before,omitempty"`
	Now    string `json:"now,omitempty"`
	Was    bool   `json:"was"` // it was there before
	Is     bool   `json:"is"`  // it is there now
}

// Facts are those of one system that changed.
type Facts struct {
	System  string   `json:"system"`
	Changes []Change `json:"changes"`
}

// Result is what differs.
type Result struct {
	OnlyBefore []string     `json:"systems_gone"`
	OnlyNow    []string     `json:"systems_new"`
	Facts      []Facts      `json:"facts"`
	Files      []Difference `json:"files"`
	Same       int          `json:"same"`          // files that are the same on both sides
	NotAsked   []NotAsked   `json:"not_asked_for"` // items that only one side has, since the other was not asked for them
}

// NotAsked is an item of one system that was taken on one side only.
type NotAsked struct {
	System string `json:"system"`
	Item   string `json:"item"`
	Before bool   `json:"before"` // it is the side before that has it
	Files  int    `json:"files"`
}

// Options say how to show what differs.
type Options struct {
	// Hide gives a text without what nobody should read over a shoulder; nil shows all.
	Hide func(text string) string
	// Progress is told of every file; may be nil.
	Progress func(done, total int)
}

// Limits of what is compared within files, in bytes and lines.
const (
	maxText = 1 << 20
	maxDiff = 400
)

// Compare compares two sides. Files that cannot be read are said to be so; only a context that ends is an error.
func Compare(ctx context.Context, before, now *Side, o Options) (*Result, error) {
	if o.Hide == nil {
		o.Hide = func(text string) string { return text }
	}
	r := &Result{OnlyBefore: []string{}, OnlyNow: []string{}, Facts: []Facts{}, Files: []Difference{}, NotAsked: []NotAsked{}}
	was, is := before.systems(), now.systems()
	for s := range was {
		if !is[s] {
			r.OnlyBefore = append(r.OnlyBefore, s)
		}
	}
	for s := range is {
		if !was[s] {
			r.OnlyNow = append(r.OnlyNow, s)
		}
	}
	slices.Sort(r.OnlyBefore)
	slices.Sort(r.OnlyNow)
	keys := map[Key]bool{}
	for k := range before.Files {
		keys[k] = true
	}
	for k := range now.Files {
		keys[k] = true
	}
	done := 0
	for k := range keys {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if o.Progress != nil {
			o.Progress(done, len(keys))
		}
		done++
		if !was[k.System] || !is[k.System] || k.Path == vitalsName { // said of the whole system, and among the facts
			continue
		}
		if r.notAsked(k, before, now) {
			continue
		}
		d, differs, err := difference(ctx, k, before.Files[k], now.Files[k], o)
		switch {
		case err != nil:
			return nil, err
		case differs:
			r.Files = append(r.Files, d)
		default:
			r.Same++
		}
	}
	slices.SortFunc(r.Files, func(a, b Difference) int {
		return cmp.Or(strings.Compare(a.System, b.System), strings.Compare(a.Path, b.Path))
	})
	slices.SortFunc(r.NotAsked, func(a, b NotAsked) int {
		return cmp.Or(strings.Compare(a.System, b.System), strings.Compare(a.Item, b.Item))
	})
	r.Facts = append(r.Facts, facts(before.Facts, now.Facts, o)...)
	return r, nil
}

// notAsked counts a file that is on one side only because the other was never asked for it.
func (r *Result) notAsked(k Key, before, now *Side) bool {
	a, b := before.Files[k], now.Files[k]
	n := NotAsked{System: k.System}
	switch {
	case a == nil && before.lacks(k.System, b.Item):
		n.Item = b.Item
	case b == nil && now.lacks(k.System, a.Item):
		n.Item, n.Before = a.Item, true
	default:
		return false
	}
	i := slices.IndexFunc(r.NotAsked, func(o NotAsked) bool { return o.System == n.System && o.Item == n.Item && o.Before == n.Before })
	if i < 0 {
		i, r.NotAsked = len(r.NotAsked), append(r.NotAsked, n)
	}
	r.NotAsked[i].Files++
	return true
}

// vitalsName is the file of the facts.
const vitalsName = "vitals.json"

func (s *Side) systems() map[string]bool {
	m := map[string]bool{}
	for k := range s.Files {
		m[k.System] = true
	}
	for name := range s.Facts {
		m[name] = true
	}
	return m
}

func difference(ctx context.Context, k Key, a, b *File, o Options) (d Difference, differs bool, err error) {
	d = Difference{Key: k, What: Changed}
	switch {
	case a == nil:
		d.What, d.Now, d.Log = New, b.Size, b.Log
		return d, true, nil
	case b == nil:
		d.What, d.Before, d.Log = Gone, a.Size, a.Log
		return d, true, nil
	}
	d.Before, d.Now, d.Log = a.Size, b.Size, a.Log || b.Log
	same, err := equal(ctx, a, b)
	if err != nil {
		if ctx.Err() != nil {
			return d, false, ctx.Err()
		}
		d.Note = err.Error()
		return d, true, nil
	}
	if same || d.Log {
		return d, !same, nil
	}
	if a.Size > maxText || b.Size > maxText {
		d.Note = "too large to be compared within"
		return d, true, nil
	}
	before, err := read(a)
	now, errB := read(b)
	if err := errors.Join(err, errB); err != nil {
		d.Note = err.Error()
		return d, true, nil
	}
	return d, within(&d, before, now, o), nil
}

// within says what differs in two texts; false when it is nothing that counts.
func within(d *Difference, before, now []byte, o Options) bool {
	if strings.HasPrefix(d.Path, "commands/") {
		before, now = output(before), output(now)
		if bytes.Equal(before, now) {
			return false
		}
	}
	if !isText(before) || !isText(now) {
		d.Note = "no text"
		return true
	}
	was, format, okA := keysOf(d.Path, before)
	is, _, okB := keysOf(d.Path, now)
	if okA && okB {
		d.Format = format
		if d.Keys = changes(was, is, o); len(d.Keys) == 0 {
			d.Note = "written otherwise, and of the same content"
		}
		return true
	}
	d.Diff, d.Note = unified(d.Path, before, now, o)
	return true
}

// output gives what a command printed, without the head that says when it ran and how long that took.
func output(text []byte) []byte {
	head, body, ok := bytes.Cut(text, []byte("\n\n"))
	if !ok {
		return text
	}
	var kept []byte
	for _, line := range bytes.SplitAfter(head, []byte("\n")) {
		if !bytes.HasPrefix(line, []byte("started:")) && !bytes.HasPrefix(line, []byte("took:")) &&
			!bytes.HasPrefix(line, []byte("command:")) {
			kept = append(kept, line...)
		}
	}
	return append(append(kept, '\n'), body...)
}

func isText(b []byte) bool { return utf8.Valid(b) && bytes.IndexByte(b, 0) < 0 }

func read(f *File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, maxText+1))
	if err == nil && len(b) > maxText {
		err = fmt.Errorf("it is larger than it was said to be")
	}
	return b, err
}

// equal compares by size and SHA-256, and reads what has none.
func equal(ctx context.Context, a, b *File) (bool, error) {
	if a.SHA256 != "" && a.SHA256 == b.SHA256 {
		return true, nil
	}
	if a.Size != b.Size || a.SHA256 != "" && b.SHA256 != "" {
		return false, nil
	}
	was, err := a.sum(ctx)
	if err != nil {
		return false, err
	}
	is, err := b.sum(ctx)
	return was == is, err
}

func (f *File) sum(ctx context.Context) (string, error) {
	if f.SHA256 != "" {
		return f.SHA256, nil
	}
	r, err := f.Open()
	if err != nil {
		return "", err
	}
	defer r.Close()
	h := sha256.New()
	buf := make([]byte, 256<<10)
	for {
		n, err := r.Read(buf)
		h.Write(buf[:n])
		if err == io.EOF {
			f.SHA256 = hex.EncodeToString(h.Sum(nil))
			return f.SHA256, nil
		}
		if err = cmp.Or(err, ctx.Err()); err != nil {
			return "", err
		}
	}
}
