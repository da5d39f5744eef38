package collect

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"time"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/logset"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/window"
)

// Event logs come in files, too: a folder or an archive of a system runs no wevtutil, and some engineers export by hand. XML is cut to
// the window here; the binary form (.evtx) is taken as it is.

// exportedPatterns gives where the logs of an item are looked for.
func exportedPatterns(spec ask.Events) (out []string) {
	if len(spec.Exported) > 0 {
		return spec.Exported
	}
	for _, log := range spec.Logs {
		out = append(out, `C:\Windows\System32\winevt\Logs\`+strings.ReplaceAll(log, "/", "%4")+".evtx",
			"/**/"+strings.ReplaceAll(log, "/", "-")+".xml")
	}
	return out
}

func takeExported(ctx context.Context, w *work, spec ask.Events) error {
	f := newFilesWork(w, ask.Files{Patterns: exportedPatterns(spec), Cut: "none", History: ask.AllHistory})
	list, err := f.list(ctx)
	if err != nil {
		return err
	}
	defer closeList(list)
	found, err := matchesOf(list)
	if err != nil {
		return transfer.Ours(err)
	}
	if len(found) == 0 {
		w.add(round.Entry{Source: strings.Join(spec.Logs, ", "), State: round.Missing,
			Reason: "no exported event log at " + strings.Join(f.spec.Patterns, ", ")})
		return w.failure()
	}
	w.report(Event{Kind: ItemSize, System: w.sys.Name, Item: w.item.ID, Files: len(found)})
	for _, c := range f.admitAll(found, false) {
		c.whole, c.member = true, &logset.Member{Name: c.real, Info: c.info}
		c.target = "events/" + w.item.ID + "/" + SafePath(path.Base(c.name))
		if strings.EqualFold(path.Ext(c.name), ".xml") && !f.dryRun {
			err = f.takeEventXML(ctx, c)
		} else {
			_, err = f.take(ctx, c, spec.Max)
		}
		if err != nil {
			return err
		}
	}
	return w.failure()
}

// takeEventXML takes the events of the window out of one file, and makes the copy to read.
func (f *filesWork) takeEventXML(ctx context.Context, c *candidate) error {
	in, err := reach.OpenResolved(f.target.FS(), c.real)
	if err != nil {
		_, _, err = f.spoiled(ctx, c, err)
		return err
	}
	defer in.Close()
	part := f.part()
	defer os.Remove(part) // fails harmlessly after the rename
	var kept, all int
	var odd error
	n, sum, err := writePart(part, func(out io.Writer) error {
		kept, all, odd = CutEvents(io.TeeReader(in, arriving(f.count)), out, f.window())
		return ctx.Err()
	})
	e := &c.entry
	switch {
	case err != nil:
		return err
	case kept == 0 && odd == nil:
		f.leave(c, round.Empty, fmt.Sprintf("none of %d events is of the window", all))
		return f.failure()
	case kept == 0:
		f.leave(c, round.Failed, odd.Error())
		return f.failure()
	}
	e.State, e.Bytes, e.SHA256 = round.Taken, n, sum
	if e.Reason = fmt.Sprintf("%d of %d events", kept, all); odd != nil {
		e.State, e.Reason = round.Cut, round.Join(e.Reason, odd.Error())
	}
	if err := f.settlePlace(part, c.target, e); err != nil {
		return err
	}
	f.add(*e)
	s := stored{name: c.target, readable: strings.TrimSuffix(c.target, path.Ext(c.target)) + ".txt",
		convert: func(in io.Reader, out io.Writer) error { return EventsText(in, out, f.clock.Location) }}
	return errors.Join(f.failure(), s.copy(f.work, e))
}

// arriving counts what passes.
type arriving func(int64)

func (a arriving) Write(b []byte) (int, error) { a(int64(len(b))); return len(b), nil }

// CutEvents copies the events of a window from events as XML (MS-EVEN6), as UTF-8, and gives how many of how many. The error says why the
// events end early.
func CutEvents(in io.Reader, out io.Writer, w window.Window) (kept, all int, err error) {
	bounded := &perEvent{r: transform.NewReader(in, unicode.BOMOverride(unicode.UTF8.NewDecoder())), left: maxEvent}
	held := &heldText{r: bufio.NewReader(bounded)}
	d := xml.NewDecoder(held)
	d.Strict = false
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	if _, err := io.WriteString(out, "<Events>\n"); err != nil {
		return 0, 0, err
	}
	end := func(why error) (int, int, error) {
		_, err := io.WriteString(out, "</Events>\n")
		return kept, all, errors.Join(why, err)
	}
	for {
		bounded.left = maxEvent
		from := d.InputOffset()
		held.forget(from)
		t, err := d.Token()
		if err == io.EOF {
			return end(nil)
		}
		if err != nil {
			return end(fmt.Errorf("the events end early: %w", err))
		}
		start, ok := t.(xml.StartElement)
		if !ok || start.Name.Local != "Event" {
			continue
		}
		var e event
		if err := d.DecodeElement(&e, &start); err != nil {
			return end(fmt.Errorf("the events end early: %w", err))
		}
		all++
		at, err := time.Parse(time.RFC3339Nano, e.System.TimeCreated.SystemTime)
		if err == nil && w.Limited() && !w.Overlaps(at, at) {
			continue
		}
		kept++
		if _, err := out.Write(append(bytes.TrimSpace(held.text(from, d.InputOffset())), '\n')); err != nil {
			return kept, all, err
		}
	}
}

// heldText keeps what an event is read from, so that it can be copied as it is.
type heldText struct {
	r    *bufio.Reader
	base int64 // offset of the first byte that is held
	b    []byte
}

func (h *heldText) Read(p []byte) (int, error) {
	n, err := h.r.Read(p)
	h.b = append(h.b, p[:n]...)
	return n, err
}

// ReadByte makes the decoder read no further than it has to.
func (h *heldText) ReadByte() (byte, error) {
	c, err := h.r.ReadByte()
	if err == nil {
		h.b = append(h.b, c)
	}
	return c, err
}

func (h *heldText) forget(before int64) {
	if n := before - h.base; n > 0 && n <= int64(len(h.b)) {
		h.b = append(h.b[:0], h.b[n:]...)
		h.base = before
	}
}

func (h *heldText) text(from, to int64) []byte {
	from, to = max(0, from-h.base), min(int64(len(h.b)), to-h.base)
	return h.b[from:max(from, to)]
}
