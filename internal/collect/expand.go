package collect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/reach"
)

// maxLevels bounds how deep ** goes down, so that a file system that contains itself ends.
const maxLevels = 64

// expander finds what patterns match on a system. Everything it could not look into is a problem, never silence.
type expander struct {
	ctx     context.Context
	fsys    reach.FS
	found   func(name string, info fs.FileInfo)
	problem func(name string, err error)
	seen    map[string]bool // nil finds what several patterns match several times
	count   int
}

func (x *expander) expand(pattern string) error {
	return x.walk(".", strings.Split(reach.Name(pattern), "/"), 0)
}

func hasMeta(s string) bool { return strings.ContainsAny(s, `*?[{\`) }

// walk matches the pattern elements below a folder. Only an ended context is an error.
func (x *expander) walk(dir string, elements []string, level int) error {
	if err := x.ctx.Err(); err != nil {
		return err
	}
	element, rest := elements[0], elements[1:]
	if !hasMeta(element) {
		name := path.Join(dir, element)
		if len(rest) > 0 {
			return x.walk(name, rest, level+1)
		}
		info, err := x.fsys.Lstat(name)
		if err == nil {
			x.add(name, info)
		} else if !notThere(err) {
			x.problem(name, err)
		}
		return nil
	}
	if element == "**" {
		return x.everywhere(dir, elements, level)
	}
	var down []string // folders of an unending listing must not be gone into while it comes
	err := reach.EachEntry(x.ctx, x.fsys, dir, func(e fs.DirEntry) error {
		if ok, err := doublestar.Match(element, e.Name()); err != nil || !ok {
			return nil
		}
		name := path.Join(dir, e.Name())
		if len(rest) == 0 {
			x.addEntry(name, e)
		} else if e.IsDir() || e.Type()&fs.ModeSymlink != 0 {
			down = append(down, name)
		}
		return x.tooMany(len(down))
	})
	return errors.Join(x.listed(dir, err), x.all(down, rest, level))
}

// maxMatches bounds how many files one item may match, and how many folders of one folder are gone into.
const maxMatches = 1_000_000

var errManyMatches = fmt.Errorf("the patterns match more than %d files; name them more exactly", maxMatches)

func (x *expander) tooMany(folders int) error {
	if x.count+folders > maxMatches {
		return errManyMatches
	}
	return nil
}

// listed sorts out how a listing ended. Only an ended context is an error, all else a problem of the folder.
func (x *expander) listed(dir string, err error) error {
	if e := x.ctx.Err(); e != nil {
		return e
	}
	if err != nil {
		x.folderProblem(dir, err)
	}
	return nil
}

// all walks on below folders.
func (x *expander) all(dirs, elements []string, level int) error {
	sort.Strings(dirs)
	for _, d := range dirs {
		if err := x.walk(d, elements, level+1); err != nil {
			return err
		}
	}
	return nil
}

// everywhere matches ** at a folder: nothing, or one level down and again. Links to folders are not gone down.
func (x *expander) everywhere(dir string, elements []string, level int) error {
	rest := elements[1:]
	var down []string
	err := reach.EachEntry(x.ctx, x.fsys, dir, func(e fs.DirEntry) error {
		name := path.Join(dir, e.Name())
		switch {
		case e.IsDir() && level >= maxLevels:
			x.problem(name, errors.New("more folders within each other than are looked into"))
		case e.IsDir():
			down = append(down, name)
		case len(rest) == 0:
			x.addEntry(name, e)
		}
		return x.tooMany(len(down))
	})
	if e := x.listed(dir, err); e != nil || err != nil {
		return e
	}
	if len(rest) > 0 {
		if err := x.walk(dir, rest, level); err != nil {
			return err
		}
	}
	return x.all(down, elements, level)
}

func (x *expander) addEntry(name string, e fs.DirEntry) {
	info, err := e.Info()
	if err == nil {
		x.add(name, info)
	} else if !notThere(err) { // removed since the folder was listed
		x.problem(name, err)
	}
}

func (x *expander) add(name string, info fs.FileInfo) {
	if info.IsDir() || x.seen[name] {
		return
	}
	if x.seen != nil {
		x.seen[name] = true
	}
	x.count++
	x.found(name, info)
}

// folderProblem reports a folder that cannot be listed, unless it is not there or is no folder.
func (x *expander) folderProblem(dir string, err error) {
	if notThere(err) {
		return
	}
	if info, e := x.fsys.Lstat(dir); e != nil && notThere(e) || e == nil && !info.IsDir() && info.Mode()&fs.ModeSymlink == 0 {
		return
	}
	x.problem(dir, err)
}

func notThere(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// matchesAny says whether a name on a system is matched by one of the patterns.
func matchesAny(patterns []string, name string) bool {
	for _, p := range patterns {
		if ok, err := doublestar.Match(reach.Name(p), name); err == nil && ok {
			return true
		}
	}
	return false
}
