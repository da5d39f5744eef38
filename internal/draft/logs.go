package draft

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"envask/internal/late"
	"envask/internal/logset"
	"envask/internal/reach"
	"envask/internal/stamp"
)

// Bounds of what is looked at, so that a system with a million logs is looked at as fast as one with ten.
const (
	maxNames     = 5_000  // of one folder; a folder with more is proposed as a whole
	maxFiles     = 50_000 // in all
	maxDepth     = 4      // of folders below a folder of logs
	maxDated     = 150    // sets whose dates are read
	manySets     = 6      // of one folder: from there on it is proposed as a whole
	staleAfter   = 30 * 24 * time.Hour
	hugeUndated  = 64 << 20 // bytes
	hugeSet      = 20 << 30 // bytes
	datesTimeout = 20 * time.Second
)

// logRoots are folders in which systems keep logs; a star stands for any one name.
var logRoots = []string{"/var/log", "/opt/*/log", "/opt/*/logs", "/srv/*/log", "/srv/*/logs", "/usr/local/*/log", "/usr/local/*/logs"}

var (
	// logName is what files of logs are called, also where their folder says nothing.
	logName = late.Pattern(`(?i)(^|[._-])(log|logs|out|err|error|trace|trc)([._-]|\d*$)`)
	// secretName is what files are called that are there for a secret.
	secretName = late.Pattern(`(?i)(^|[/._-])(secrets?|passwd|passwords?|tokens?|credentials?|private|shadow|keytab|` +
		`id_(rsa|dsa|ecdsa|ed25519)|` +
		`vault|\.env|wallet)([/._-]|$)|\.(key|pem|p12|pfx|jks|kdbx|keytab|env)$`)
	// noLog are files in folders of logs that are none: databases of logins, of mail and of counters.
	noLog = late.Pattern(`^(wtmp|btmp|lastlog|faillog|tallylog|utmp)([.-]|$)|\.(journal|db|sqlite|pid|sock|lock)(~|$)|^sa\d|^README`)
)

// Set is a log with its rotated members.
type Set struct {
	Dir     string
	Head    string   // the member that is written now
	Pattern string   // matches all of its members
	Members []string // newest first
	Size    int64    // of all members, in bytes
	Written time.Time
	By      []*Process // that hold it open for writing

	First, Last time.Time // of its lines; zero where they are not dated or were not read
	Form        string    // how lines are dated
	ZoneFrom    string
	PerHour     float64 // bytes
	Binary      bool
	Denied      bool // the account may not read it
}

// Crowd is a folder with more files than are looked at.
type Crowd struct {
	Dir string
	By  []*Process
}

// walk collects the files of folders of logs.
type walk struct {
	ctx    context.Context
	fsys   reach.FS
	files  map[string]fs.FileInfo // by path
	seen   map[string]bool
	crowds []string
	denied []string // folders
	full   bool
}

var errCrowd = errors.New("more names than are looked at")

// below looks into a folder and the folders below it. Links are not followed.
func (w *walk) below(dir string, depth int) {
	if w.seen[dir] || dir == "/var/log/journal" {
		return
	}
	w.seen[dir] = true
	folders := w.members(dir, func(string) bool { return true })
	slices.Sort(folders)
	for _, f := range folders {
		if depth > 0 {
			w.below(f, depth-1)
		}
	}
}

// members takes files of a folder, and gives the folders in it.
func (w *walk) members(dir string, takes func(name string) bool) (folders []string) {
	if w.ctx.Err() != nil || w.full {
		return nil
	}
	found := map[string]fs.FileInfo{}
	n := 0
	err := reach.EachEntry(w.ctx, w.fsys, reach.Name(dir), func(e fs.DirEntry) error {
		if n++; n > maxNames {
			return errCrowd
		}
		switch name := path.Join(dir, e.Name()); {
		case e.IsDir():
			folders = append(folders, name)
		case e.Type().IsRegular() && !noLog().MatchString(e.Name()) && takes(e.Name()):
			if info, err := e.Info(); err == nil && info.Size() > 0 {
				found[name] = info
			}
		}
		return nil
	})
	switch {
	case errors.Is(err, errCrowd), errors.Is(err, reach.ErrManyNames):
		w.crowds = append(w.crowds, dir)
		return nil
	case errors.Is(err, fs.ErrPermission):
		w.denied = append(w.denied, dir)
		return nil
	}
	if len(w.files)+len(found) > maxFiles {
		w.full = true
		return nil
	}
	for name, info := range found {
		w.files[name] = info
	}
	return folders
}

// roots gives the folders of logs that are there.
func roots(fsys reach.FS, patterns []string) (out []string) {
	for _, p := range patterns {
		top, rest, star := strings.Cut(p, "/*")
		if !star {
			out = append(out, p)
			continue
		}
		entries, _ := fsys.ReadDir(reach.Name(top)) // what cannot be listed has nothing to propose
		for _, e := range entries[:min(len(entries), 500)] {
			if e.IsDir() {
				out = append(out, path.Join(top, e.Name(), rest))
			}
		}
	}
	return out
}

// sets groups files by their rotation.
func (w *walk) sets() []*Set {
	names := make([]string, 0, len(w.files))
	for name := range w.files {
		names = append(names, name)
	}
	slices.Sort(names)
	var out []*Set
	for _, group := range logset.Sets(names) {
		s := &Set{Head: names[group[0]], Dir: path.Dir(names[group[0]])}
		for _, i := range group {
			info := w.files[names[i]]
			s.Members = append(s.Members, names[i])
			s.Size += info.Size()
			if info.ModTime().After(s.Written) {
				s.Written = info.ModTime()
			}
		}
		s.Pattern = patternOf(s.Members)
		out = append(out, s)
	}
	return out
}

// patternOf gives a pattern that matches all members of a set, and little else.
func patternOf(members []string) string {
	dir := path.Dir(members[0])
	same := !slices.ContainsFunc(members, func(m string) bool { return path.Dir(m) != dir })
	if !same { // rotation into folders of days
		for top := dir; ; top = path.Dir(top) {
			if !slices.ContainsFunc(members, func(m string) bool { return !strings.HasPrefix(m, strings.TrimSuffix(top, "/")+"/") }) {
				return plainly(top) + "/**/*"
			}
		}
	}
	prefix := path.Base(members[0])
	for _, m := range members[1:] {
		b := path.Base(m)
		n := 0
		for n < min(len(prefix), len(b)) && prefix[n] == b[n] {
			n++
		}
		prefix = prefix[:n]
	}
	if len(members) == 1 {
		prefix = path.Base(members[0])
	}
	prefix = strings.TrimRight(prefix, "0123456789._-")
	if stem := strings.TrimSuffix(prefix, "-"); stem == "" {
		return plainly(dir) + "/*"
	}
	return plainly(dir) + "/" + plainly(prefix) + "*"
}

// plainly writes a path as a pattern that matches it, in which nothing but ? is a sign of a pattern and everything can be printed.
func plainly(p string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune("*?[]{}", r) || r == utf8.RuneError || !unicode.IsPrint(r) {
			return '?'
		}
		return r
	}, p)
}

// date reads the dates of a set: both ends of its current member, and the beginning of its oldest one.
func (s *Set) date(ctx context.Context, fsys reach.FS, files map[string]fs.FileInfo, facts stamp.Facts) {
	look := inspect(ctx, fsys, s.Head, files[s.Head], facts)
	switch {
	case look == nil:
		return
	case errors.Is(look.Err, fs.ErrPermission):
		s.Denied = true
		return
	}
	s.Binary = look.Binary
	if !look.Dated() {
		return
	}
	s.First, s.Last = look.First, look.Last
	if s.Last.IsZero() {
		s.Last = s.First
	}
	if forms := look.Profile.Forms; len(forms) > 0 {
		s.Form = forms[0].Label
	}
	from, size := s.First, files[s.Head].Size()
	if n := len(s.Members) - 1; n > 0 {
		if old := inspect(ctx, fsys, s.Members[n], files[s.Members[n]], facts); old != nil && old.Dated() && old.First.Before(s.First) {
			s.First = old.First
			if old.Packing == "" { // the sizes of compressed ones say nothing of what is written
				from, size = old.First, s.Size
			}
		}
	}
	if d := s.Last.Sub(from); d >= time.Minute {
		s.PerHour = float64(size) / d.Hours()
	}
}

func inspect(ctx context.Context, fsys reach.FS, name string, info fs.FileInfo, facts stamp.Facts) *logset.Look {
	if ctx.Err() != nil {
		return nil
	}
	facts.AsOf, facts.Name = info.ModTime(), name
	open := func() (io.ReadCloser, error) { return reach.OpenResolved(fsys, reach.Name(name)) }
	content := logset.Content{Open: open, Size: info.Size(), Far: true}
	f, err := open()
	if err != nil {
		return &logset.Look{Err: err}
	}
	defer f.Close()
	if at, ok := f.(io.ReaderAt); ok {
		content.ReadAt = at.ReadAt
	}
	return logset.Inspect(content, facts)
}
