package flow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"envask/internal/ask"
	"envask/internal/bring"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/unpack"
)

// source is one file that a person brings.
type source struct {
	path  string // where its bytes are
	shown string // where it came from, in words of the person
	name  string // its own name
	done  func()
}

// maxBrought bounds how many files one run brings: what is brought by hand is listed by hand.
const maxBrought = 10_000

// each calls take for every file that was named, in folders and archives too. A file that cannot be taken does not stop the others.
func (b *bringing) each(ctx context.Context, take func(source) error) error {
	var failed []error
	files := 0
	one := func(s source) error {
		if files++; files > maxBrought {
			s.done()
			return fault.New(fault.Usage, "add", "", fmt.Sprintf("more than %d files", maxBrought),
				"bring an archive of them, for an item that expects one")
		}
		if err := take(s); err != nil {
			if ctx.Err() != nil {
				return err
			}
			failed = append(failed, err)
		}
		return nil
	}
	for _, p := range b.q.Paths {
		if err := b.sources(ctx, p, one, func(err error) { failed = append(failed, err) }); err != nil {
			return err
		}
	}
	if len(failed) == 1 {
		return failed[0]
	}
	return errors.Join(failed...)
}

func (b *bringing) sources(ctx context.Context, given string, one func(source) error, bad func(error)) error {
	if given == "-" {
		s, err := b.fromInput(ctx)
		if err != nil {
			bad(err)
			return nil
		}
		return one(s)
	}
	path := bring.Dragged(given)
	info, err := os.Stat(path)
	if err != nil {
		bad(fault.New(fault.Usage, "add", given, transfer.Plain(err), "give the path of what was brought"))
		return nil
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		abs = path
	}
	switch {
	case info.IsDir():
		return b.folder(ctx, abs, one, bad)
	case !info.Mode().IsRegular():
		bad(fault.New(fault.Usage, "add", given, transfer.ErrSpecial(info.Mode()).Error(), ""))
		return nil
	}
	if err := b.fits(abs, info.Size()); err != nil {
		bad(err)
		return nil
	}
	s := source{path: abs, shown: abs, name: filepath.Base(abs), done: func() {}}
	if opened, err := b.opens(ctx, s); err != nil {
		bad(err)
		return nil
	} else if opened != nil {
		defer opened.Close()
		return b.archived(ctx, opened, abs, one, bad)
	}
	return one(s)
}

// folder brings the files below a folder. Links in it are left: what they lead to was not named.
func (b *bringing) folder(ctx context.Context, dir string, one func(source) error, bad func(error)) error {
	left := 0
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			bad(fault.Wrap("add", path, transfer.PlainPath(err)))
			return nil
		case d.IsDir():
			return nil
		case !d.Type().IsRegular():
			left++
			return nil
		}
		return one(source{path: path, shown: path, name: d.Name(), done: func() {}})
	})
	if left > 0 {
		b.app.note("%s: %d %s no file (links, sockets and the like) and stayed", dir, left, plural(left, "entry is", "entries are"))
	}
	return err
}

// fromInput takes what was pasted or piped.
func (b *bringing) fromInput(ctx context.Context) (source, error) {
	if b.q.As == "" || filepath.Base(b.q.As) != b.q.As {
		return source{}, fault.New(fault.Usage, "add", "-", "what comes from standard input needs a name",
			"give it with --as NAME, without a folder")
	}
	path := filepath.Join(b.tmp, "input")
	err := durable.Write(path, 0o600, func(w io.Writer) error {
		_, err := io.Copy(w, durable.Until(ctx, b.q.Input))
		return err
	})
	if err != nil {
		return source{}, fault.Wrap("add", "-", transfer.Ours(err))
	}
	return source{path: path, shown: "-", name: b.q.As, done: func() { os.Remove(path) }}, nil
}

// opens opens an archive of which no item expects that it stays one; nil leaves it as it is.
func (b *bringing) opens(ctx context.Context, s source) (*unpack.FS, error) {
	kind, err := kindOf(s.path)
	if err != nil {
		return nil, fault.Wrap("add", s.shown, transfer.PlainPath(err))
	}
	if kind != "" && kind != "zip" && kind != "gzip" {
		return nil, nil // it is known, and no archive
	}
	for _, it := range b.ask.Persons() {
		e := it.Spec.(ask.Person).Expect
		if (b.q.Item == "" || b.q.Item == it.ID) && (len(e.Types) == 0 || slices.Contains(e.Types, kind)) {
			return nil, nil
		}
	}
	a, err := unpack.Open(ctx, s.path)
	var no *unpack.BadError
	switch {
	case errors.As(err, &no) && kind != "zip":
		return nil, nil // it is no archive
	case errors.As(err, &no):
		return nil, fault.New(fault.Refused, "add", s.shown, no.Error(), "unpack it yourself, look at it, and bring the files")
	case err != nil:
		return nil, err
	case a.Left > 0:
		b.app.note("%s: %d %s out of it and stayed", s.shown, a.Left, plural(a.Left, "name in it leads", "names in it lead"))
	}
	if a.Cut != "" {
		b.app.note("%s: %s", s.shown, a.Cut)
	}
	if a.Files == 0 {
		a.Close()
		return nil, fault.New(fault.Refused, "add", s.shown, "there is no file in it that can be taken",
			"unpack it yourself, and look at it")
	}
	return a, nil
}

func kindOf(path string) (string, error) {
	in, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer in.Close()
	kind, _, err := bring.Kind(in)
	return kind, err
}

// archived brings the files of an archive, each from a copy of ours.
func (b *bringing) archived(ctx context.Context, a *unpack.FS, shown string, one func(source) error, bad func(error)) error {
	return fs.WalkDir(a, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return cmp.Or(ctx.Err(), err)
		}
		if !d.Type().IsRegular() {
			return nil
		}
		path := filepath.Join(b.tmp, "member")
		if err := b.extract(ctx, a, name, path); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			bad(fault.Wrap("add", shown+"/"+name, transfer.PlainPath(err)))
			return nil
		}
		return one(source{path: path, shown: shown + "/" + name, name: d.Name(), done: func() { os.Remove(path) }})
	})
}

// extract copies one file of an archive, with its time.
func (b *bringing) extract(ctx context.Context, a *unpack.FS, name, path string) error {
	_, err := transfer.File{FS: a, Name: name, Part: path + ".part", Final: path, Count: func(int64) {}}.Take(ctx)
	return err
}

func parseBoxes(texts []string) ([]image.Rectangle, error) {
	var out []image.Rectangle
	for _, t := range texts {
		r, err := bring.ParseBox(t)
		if err != nil {
			return nil, fault.New(fault.Usage, "--boxes", t, err.Error(), "such as --boxes 120,40,300,22")
		}
		out = append(out, r)
	}
	return out, nil
}

func sumAndSize(file string) (sum string, size int64, err error) {
	if sum, err = durable.FileSum(context.Background(), file); err != nil {
		return "", 0, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return "", 0, err
	}
	return sum, info.Size(), nil
}

func checkLink(q BringRequest) error {
	u, err := url.Parse(q.Link)
	switch {
	case err != nil || u.Host == "" || u.Scheme == "":
		return fault.New(fault.Usage, "--link", q.Link, "expected an address such as https://files.example/dump.gz", "")
	case u.User != nil:
		return fault.New(fault.Usage, "--link", u.Redacted(), "an address with a login in it goes nowhere", "leave the login out")
	case q.LinkSHA256 != "" && !sha256Text().MatchString(strings.ToLower(q.LinkSHA256)):
		return fault.New(fault.Usage, "--sha256", q.LinkSHA256, "expected 64 hexadecimal digits", "")
	case q.LinkSize < 0:
		return fault.New(fault.Usage, "--size", "", "expected bytes, such as 40GiB", "")
	case len(q.Paths) > 0:
		return fault.New(fault.Usage, "--link", q.Link, "give an address or files, not both", "")
	}
	return nil
}
