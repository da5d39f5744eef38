package flow

import (
	"context"
	"errors"
	"io"
	"os"
	"time"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/logset"
	"envask/internal/stamp"
	"envask/internal/window"
)

// TimesRequest is which files to look at, and what is known of them.
type TimesRequest struct {
	Files []string
	Zone  *time.Location // nil: this machine's
	AsOf  time.Time      // the day for missing years and dates; zero: each file's own date
	Boot  time.Time      // when the system was started; zero: unknown
	// Each, if not nil, gets every line: its number, its time (zero where it has none), and its start.
	Each func(file string, line int64, t time.Time, d stamp.Doubt, text []byte) error
}

// FileTimes is what one file looks like in time.
type FileTimes struct {
	File string
	*logset.Survey
}

// Times finds out how files are dated. A file that cannot be read is in the error; the others are told all the same.
func (a *App) Times(ctx context.Context, q TimesRequest) ([]FileTimes, error) {
	var out []FileTimes
	var failed []error
	for _, name := range q.Files {
		s, err := timesOf(ctx, q, name)
		if errors.Is(err, context.Canceled) {
			return out, &fault.Error{Class: fault.Interrupted, Op: "times", Err: errors.New("interrupted")}
		}
		if err != nil {
			failed = append(failed, fault.Wrap("read the times", name, plainPath(err)))
			continue
		}
		out = append(out, FileTimes{name, s})
	}
	return out, errors.Join(failed...)
}

// plainPath takes the path out of an error that names it beside.
func plainPath(err error) error {
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

func timesOf(ctx context.Context, q TimesRequest, name string) (*logset.Survey, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("is no regular file; name files")
	}
	f, err := durable.OpenRegular(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	facts := stamp.Facts{Zone: q.Zone, ZoneFrom: "given", ZoneGiven: true, AsOf: q.AsOf, AsOfDay: true, Name: name, Boot: q.Boot}
	if q.Zone == nil {
		facts.Zone, facts.ZoneFrom, facts.ZoneGiven = window.LocalZone(), "this machine's", false
	}
	if q.AsOf.IsZero() {
		facts.AsOf, facts.AsOfDay = info.ModTime(), false
	}
	content := logset.Content{Open: func() (io.ReadCloser, error) { return os.Open(name) }, ReadAt: f.ReadAt, Size: info.Size()}
	var each func(int64, time.Time, stamp.Doubt, []byte) error
	if q.Each != nil {
		each = func(n int64, t time.Time, d stamp.Doubt, line []byte) error { return q.Each(name, n, t, d, line) }
	}
	return logset.Examine(ctx, content, facts, each)
}
