package bring

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/ask"
	"envask/internal/durable"
	"envask/internal/logset"
	"envask/internal/stamp"
	"envask/internal/window"
)

// File is what was found out about a file that a person brings.
type File struct {
	Name     string // its own name
	Size     int64  // bytes
	Modified time.Time
	Kind     string // one of ask.FileTypes, "" is none of them
	What     string // what its content was taken for, in words
	About    string // in a few words: size of a picture, requests of a recording
	First    time.Time
	Last     time.Time // of what is dated in it; zero where nothing is
	Dated    string    // what First and Last are of
	Broken   string    // why it is not whole, "" when nothing says so

	Recording *Recording // of a browser
	Picture   *Picture
	why       string // why it is no recording
}

// Look finds out what a file is. zone is that of times in it which name none. Reading can be ended by the context.
func Look(ctx context.Context, path, name string, zone *time.Location) (*File, error) {
	in, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	f := &File{Name: name, Size: info.Size(), Modified: info.ModTime()}
	if f.Kind, f.What, err = Kind(in); err != nil {
		return nil, err
	}
	switch f.Kind {
	case "text":
		err = f.lookText(ctx, in, path, zone)
	case "png", "jpeg":
		f.lookPicture(in, zone)
	case "zip":
		if z, e := zip.NewReader(in, f.Size); e != nil {
			f.Broken = "it is no whole zip archive (" + e.Error() + ")"
		} else {
			f.About = fmt.Sprintf("zip archive, %d files", len(z.File))
		}
	case "pdf":
		tail := make([]byte, 2048)
		n, _ := in.ReadAt(tail, max(0, f.Size-int64(len(tail))))
		if !bytes.Contains(tail[:n], []byte("%%EOF")) { // ISO 32000-1, 7.5.5
			f.Broken = "it has no end: the document is cut off"
		}
	}
	return f, err
}

func (f *File) lookText(ctx context.Context, in *os.File, path string, zone *time.Location) error {
	if begin, _ := bufio.NewReader(io.NewSectionReader(in, 0, 64)).Peek(64); bytes.HasPrefix(trimBOM(begin), []byte("{")) {
		rec, err := ReadHAR(durable.Until(ctx, io.NewSectionReader(in, 0, f.Size)))
		var none *NoRecordingError
		switch {
		case err == nil:
			f.Kind, f.What, f.About, f.Recording = "har", "a recording of a browser", rec.About(), rec
			f.First, f.Last, f.Dated = rec.First, rec.Last, "its requests are"
			return nil
		case !errors.As(err, &none):
			return err
		case rec.Entries > 0:
			f.About, f.Recording = rec.About(), rec
		}
		f.What, f.why = "a JSON text", none.Why
	}
	look := logset.Inspect(logset.Content{Size: f.Size, ReadAt: in.ReadAt, Open: func() (io.ReadCloser, error) { return os.Open(path) }},
		stamp.Facts{Name: path, Zone: zone, AsOf: f.Modified})
	if look.Dated() {
		f.First, f.Last, f.Dated = look.First, look.Last, "its lines are"
	}
	return nil
}

func trimBOM(b []byte) []byte {
	return bytes.TrimLeft(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")), " \t\r\n")
}

// pictureHead is in how much of a picture its size and its time are looked for, in bytes: what a camera writes stands at the beginning.
const pictureHead = 64 << 20

func (f *File) lookPicture(in *os.File, zone *time.Location) {
	p, err := ReadPicture(io.NewSectionReader(in, 0, min(f.Size, pictureHead)), zone)
	if err != nil {
		f.Broken = err.Error()
		return
	}
	f.Picture, f.About = &p, p.About()
	if !p.Taken.IsZero() {
		f.First, f.Last, f.Dated = p.Taken, p.Taken, "it was taken"
	}
}

// Verdict is what became of holding a file against what an item expects.
type Verdict struct {
	Fails   []string // it is not what was asked for
	Remarks []string // it may have to be brought again
}

// Against holds a file against what is expected. path is where it can be read, for what it must hold.
func (f *File) Against(ctx context.Context, e ask.Expect, w window.Window, path string) (v Verdict, err error) {
	fail := func(format string, args ...any) { v.Fails = append(v.Fails, fmt.Sprintf(format, args...)) }
	switch {
	case f.Size == 0:
		fail("it is empty")
		return v, nil
	case !f.Is(e):
		fail("it is %s, not %s", f.called(), e.Wanted())
	case f.Broken != "":
		fail("%s", f.Broken)
	}
	if !e.Named(f.Name) {
		fail("its name is not like %s", strings.Join(e.Names, " or "))
	}
	if e.Least > 0 && f.Size < e.Least {
		fail("it has %s, and at least %s are expected", humanize.IBytes(uint64(f.Size)), humanize.IBytes(uint64(e.Least)))
	}
	if e.Most > 0 && f.Size > e.Most {
		fail("it has %s, and at most %s are expected", humanize.IBytes(uint64(f.Size)), humanize.IBytes(uint64(e.Most)))
	}
	if e.Holds != nil {
		holds, err := f.holds(ctx, e, path)
		if err != nil {
			return v, err
		}
		if !holds {
			fail("nothing in it is like %s", e.Holds)
		}
	}
	if f.Kind == "har" {
		v.Remarks = append(v.Remarks, f.Recording.Remarks()...)
	}
	if e.Window && w.Limited() {
		v.Remarks = append(v.Remarks, f.outside(w)...)
	}
	return v, nil
}

// Is reports whether a file is of a type that is expected; a recording is a text, too.
func (f *File) Is(e ask.Expect) bool {
	return len(e.Types) == 0 || slices.Contains(e.Types, f.Kind) || f.Kind == "har" && slices.Contains(e.Types, "text")
}

func (f *File) called() string {
	if f.why != "" {
		return f.What + " (" + f.why + ")"
	}
	return f.What
}

func (f *File) holds(ctx context.Context, e ask.Expect, path string) (bool, error) {
	in, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer in.Close()
	return e.Holds.MatchReader(bufio.NewReader(durable.Until(ctx, in))), ctx.Err()
}

// outside says that nothing in a file is of the window.
func (f *File) outside(w window.Window) []string {
	first, last, what := f.First, f.Last, f.Dated
	if first.IsZero() {
		first, last, what = f.Modified, f.Modified, "it was written"
	}
	if first.IsZero() || w.Overlaps(first, last) {
		return nil
	}
	zone := w.Zone
	if zone == nil {
		zone = time.UTC
	}
	when := "at " + first.In(zone).Format("2006-01-02 15:04 MST")
	if last.Sub(first) >= time.Minute {
		when = "of " + logset.SpanText(first, last, zone)
	}
	return []string{fmt.Sprintf("%s %s, outside of the window (%s): is it of the error?", what, when, w)}
}
