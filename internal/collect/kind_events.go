package collect

import (
	"bufio"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"envask/internal/ask"
)

// takeEvents takes event logs of Windows for the window: as XML from wevtutil, chosen on the system, and beside it a copy that
// can be read.
func takeEvents(ctx context.Context, w *work) error {
	spec := w.item.Spec.(ask.Events)
	if run, _ := w.runner(); run == nil || len(spec.Exported) > 0 {
		return takeExported(ctx, w, spec)
	}
	for _, log := range spec.Logs {
		name := "events/" + w.item.ID + "/" + SafePath(strings.ReplaceAll(log, "/", "-"))
		s := stored{line: w.eventsLine(log), name: name + ".xml", readable: name + ".txt", timeout: spec.Timeout, max: spec.Max,
			convert: func(in io.Reader, out io.Writer) error { return EventsText(in, out, w.clock.Location) },
			empty:   func(size int64) bool { return size < 40 }} // <Events></Events>, with or without a byte order mark
		if err := s.take(ctx, w); err != nil {
			return err
		}
	}
	return nil
}

// eventsLine is the command that reads one event log, in the syntax of cmd.exe, which has no quotes but these.
func (w *work) eventsLine(log string) string {
	query := "*"
	if win := w.window(); win.Limited() {
		var spans []string
		for _, s := range win.Spans {
			spans = append(spans, fmt.Sprintf("(@SystemTime>='%s' and @SystemTime<='%s')", s.From.UTC().Format("2006-01-02T15:04:05.000Z"),
				s.To.UTC().Format("2006-01-02T15:04:05.000Z")))
		}
		query = "*[System[TimeCreated[" + strings.Join(spans, " or ") + "]]]"
	}
	return `wevtutil qe "` + log + `" "/q:` + query + `" /f:xml /e:Events /uni:true`
}

// event is what is read of one event (the schema of Windows' event log, MS-EVEN6).
type event struct {
	System struct {
		Provider struct {
			Name string `xml:"Name,attr"`
		}
		EventID     string
		Level       int
		TimeCreated struct {
			SystemTime string `xml:"SystemTime,attr"`
		}
		Computer string
	}
	EventData struct {
		Data []struct {
			Name string `xml:"Name,attr"`
			Text string `xml:",chardata"`
		}
	}
	RenderingInfo struct {
		Message string
	}
}

var levelNames = map[int]string{1: "critical", 2: "error", 3: "warning", 5: "verbose"}

// EventsText makes lines to read of events as XML: time, computer, provider, number, level, and what they say.
func EventsText(in io.Reader, out io.Writer, zone *time.Location) error {
	bounded := &perEvent{r: transform.NewReader(in, unicode.BOMOverride(unicode.UTF8.NewDecoder())), left: maxEvent}
	r := bufio.NewReader(bounded)
	w := bufio.NewWriter(out)
	d := xml.NewDecoder(r)
	d.Strict = false
	d.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil } // it is UTF-8 by now
	for {
		bounded.left = maxEvent
		t, err := d.Token()
		if err == io.EOF {
			return w.Flush()
		}
		if err != nil {
			return errors.Join(fmt.Errorf("the events end early: %w", err), w.Flush())
		}
		start, ok := t.(xml.StartElement)
		if !ok || start.Name.Local != "Event" {
			continue
		}
		var e event
		if err := d.DecodeElement(&e, &start); err != nil {
			return errors.Join(fmt.Errorf("the events end early: %w", err), w.Flush())
		}
		if err := e.write(w, zone); err != nil {
			return err
		}
	}
}

// maxEvent bounds one event as XML, in bytes; those of Windows have 64 KiB at most.
const maxEvent = 4 << 20

// perEvent is a reader of which so many bytes may be read until the next event.
type perEvent struct {
	r    io.Reader
	left int
}

func (p *perEvent) Read(b []byte) (int, error) {
	if p.left <= 0 {
		return 0, fmt.Errorf("an event of more than %d MiB", maxEvent>>20)
	}
	n, err := p.r.Read(b[:min(len(b), p.left)])
	p.left -= n
	return n, err
}

func (e *event) write(w io.Writer, zone *time.Location) error {
	at := e.System.TimeCreated.SystemTime
	if t, err := time.Parse(time.RFC3339Nano, at); err == nil {
		at = t.In(zone).Format("2006-01-02T15:04:05.000Z07:00")
	}
	level := ""
	if l := levelNames[e.System.Level]; l != "" {
		level = " <" + l + ">"
	}
	text := strings.TrimSpace(e.RenderingInfo.Message)
	if text == "" {
		var parts []string
		for _, d := range e.EventData.Data {
			part := strings.TrimSpace(d.Text)
			if d.Name != "" {
				part = d.Name + "=" + part
			}
			parts = append(parts, part)
		}
		text = strings.Join(parts, ", ")
	}
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r", ""), "\n", "\n    ")
	_, err := fmt.Fprintf(w, "%s %s %s %s%s: %s\n", at, e.System.Computer, e.System.Provider.Name, e.System.EventID, level, text)
	return err
}
