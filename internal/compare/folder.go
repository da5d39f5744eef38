package compare

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/archive"
	"envask/internal/collect"
	"envask/internal/round"
	"envask/internal/site"
)

// Folder reads a side from a folder: an unpacked archive, the folder of a round, or any other, which is one system then.
func Folder(dir string) (*Side, error) {
	info, err := os.Stat(dir)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, fmt.Errorf("%s is no folder", dir)
	}
	s := &Side{Files: map[Key]*File{}, Facts: map[string]collect.Vitals{}}
	top, err := topOf(dir)
	if err != nil {
		return nil, err
	}
	for _, within := range []string{"systems", "raw"} {
		entries, err := os.ReadDir(filepath.Join(top, within))
		if err != nil {
			continue
		}
		for _, e := range entries {
			if e.IsDir() {
				if err := s.add(e.Name(), filepath.Join(top, within, e.Name()), ""); err != nil {
					return nil, err
				}
			}
		}
		if added := filepath.Join(top, strings.TrimSuffix(archive.Added, "/")); within == "systems" {
			if _, err := os.Stat(added); err == nil { // of the case as a whole
				if err := s.add(site.Case, added, archive.Added); err != nil {
					return nil, err
				}
			}
		}
		s.fromManifest(filepath.Join(top, archive.ManifestName))
		return s, nil
	}
	return s, s.add("", top, "")
}

// topOf goes into the one folder that an unpacked archive has.
func topOf(dir string) (string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	if len(entries) == 1 && entries[0].IsDir() {
		if _, err := os.Stat(filepath.Join(dir, entries[0].Name(), "systems")); err == nil {
			return filepath.Join(dir, entries[0].Name()), nil
		}
	}
	return dir, nil
}

// fromManifest takes from an archive's manifest which file is of which item, which was cut by line, and what was asked for.
func (s *Side) fromManifest(file string) {
	in, err := os.Open(file)
	if err != nil {
		return // without it the files are compared by their names
	}
	defer in.Close()
	m, err := archive.ReadManifest(in, func(f *archive.File) error {
		if x := s.Files[Key{f.System, strings.TrimPrefix(f.Path, "systems/"+f.System+"/")}]; x != nil {
			x.Item, x.Log = f.Item, x.Log || f.Cut != nil || !f.First.IsZero()
		}
		return nil
	})
	if err != nil {
		return
	}
	s.AskedFor(m.Coverage)
}

// AskedFor takes from a coverage what was asked for.
func (s *Side) AskedFor(table round.Coverage) {
	s.Took = map[[2]string]bool{}
	for _, c := range table {
		if c.State != round.Skipped {
			s.Took[[2]string{c.System, c.Item}] = true
		}
	}
}

// add takes the files of a folder; their paths begin with prefix.
func (s *Side) add(system, dir, prefix string) error {
	return filepath.WalkDir(dir, func(file string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if !e.Type().IsRegular() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, file)
		if err != nil {
			return err
		}
		key := Key{system, prefix + filepath.ToSlash(rel)}
		s.Files[key] = &File{Size: info.Size(), Log: LooksLikeLog(key.Path), Open: func() (io.ReadCloser, error) { return os.Open(file) }}
		if key.Path == vitalsName {
			s.AddFacts(system, file)
		}
		return nil
	})
}

// AddFacts reads the vitals of a system; what cannot be read has no facts.
func (s *Side) AddFacts(system, file string) {
	f, err := os.Open(file)
	if err != nil {
		return
	}
	defer f.Close()
	var v collect.Vitals
	if json.NewDecoder(io.LimitReader(f, maxVitals)).Decode(&v) == nil {
		s.Facts[system] = v
	}
}

// maxVitals is the most that is read of what an archive says of a system's state, in bytes.
const maxVitals = 4 << 20

// LooksLikeLog says by its path whether a file is a log, of which only the name and size are compared.
func LooksLikeLog(name string) bool {
	parts := strings.Split(strings.ToLower(name), "/")
	base := parts[len(parts)-1]
	return slices.Contains(parts[:len(parts)-1], "log") || slices.Contains(parts[:len(parts)-1], "logs") ||
		strings.HasSuffix(base, ".log") ||
		strings.Contains(base, ".log.") || strings.HasSuffix(base, ".jsonl") || strings.HasPrefix(name, "journal/") ||
		strings.HasPrefix(name, "events/")
}
