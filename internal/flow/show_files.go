package flow

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"time"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/seal"
)

// FileView is one file of a round or of an archive in detail.
type FileView struct {
	Round  string `json:"round,omitempty"`
	System string `json:"system"`
	Item   string `json:"item"`
	Source string `json:"source"` // path on the system, or the command line
	// in the round's raw evidence, or in the archive; "" when nothing was taken, or it was removed
	Path      string         `json:"path,omitempty"`
	State     round.State    `json:"state"`
	How       string         `json:"how,omitempty"`
	SizeThere int64          `json:"size_on_system"` // bytes
	SizeTaken int64          `json:"size_taken"`
	Size      int64          `json:"size,omitempty"` // in the archive, after redaction
	SHA256    string         `json:"sha256,omitempty"`
	Modified  time.Time      `json:"modified,omitzero"`
	First     time.Time      `json:"first,omitzero"` // dated line
	Last      time.Time      `json:"last,omitzero"`
	Cut       *round.CutInfo `json:"cut,omitempty"`
	Form      redact.Form    `json:"form,omitempty"`
	Findings  redact.Counts  `json:"findings,omitempty"` // replaced in the archive, by rule
	Learned   redact.Counts  `json:"learned,omitempty"`  // values that redaction learned from it on arrival, by rule
	Command   *round.Ran     `json:"command,omitempty"`
	Gone      bool           `json:"removed,omitempty"` // its bytes are not here any more
}

// ArchiveDetail is what an archive tells about itself.
type ArchiveDetail struct {
	*archive.Report
	Manifest *archive.Manifest `json:"manifest"`
}

// ShowArchive reads an archive, checking it on the way.
func (a *App) ShowArchive(ctx context.Context, file string) (*ArchiveDetail, error) {
	if strings.HasSuffix(file, seal.Ending) {
		return nil, fault.New(fault.Usage, "show", file, "it is encrypted", "name the plain archive")
	}
	files, left := []archive.File{}, []archive.LeftOut{}
	rep, err := archive.Verify(ctx, file, archive.Look{
		File:    func(f *archive.File) { files = append(files, *f) },
		LeftOut: func(l *archive.LeftOut) { left = append(left, *l) },
		Again:   func() { files, left = files[:0], left[:0] },
	})
	if err != nil {
		return nil, fault.Wrap("show", file, err)
	}
	if rep.Manifest == nil {
		return nil, fault.New(fault.Failed, "show", file, "it has no manifest that can be read", "envask verify says what is wrong with it")
	}
	rep.Manifest.Files, rep.Manifest.LeftOut = files, left
	return &ArchiveDetail{rep, rep.Manifest}, nil
}

// ArchiveFiles gives the files of an archive of which system and item are wanted (all, where none is named) and whose path
// or source contains a text.
func ArchiveFiles(m *archive.Manifest, systems, items []string, text string) []FileView {
	out := []FileView{}
	for _, f := range m.Files {
		if !wanted(systems, f.System) || !wanted(items, f.Item) || !strings.Contains(f.Path, text) && !strings.Contains(f.Source, text) {
			continue
		}
		out = append(out, FileView{f.Round, f.System, f.Item, f.Source, f.Path, f.State, f.How, f.SizeThere, f.SizeTaken, f.Size, f.SHA256,
			f.Modified, f.First, f.Last, f.Cut, f.Form, f.Findings, nil, f.Command, false})
	}
	return out
}

// RoundFiles does the same for a round; what was not taken is among them.
func (a *App) RoundFiles(r *round.Round, systems, items []string, text string) ([]FileView, error) {
	out, at := []FileView{}, map[string]int{}
	err := r.Entries(func(e round.Entry) error {
		if wanted(systems, e.System) && wanted(items, e.Item) && (strings.Contains(e.Source, text) || strings.Contains(e.Name, text)) {
			at[e.System+"/"+e.Name] = len(out)
			path := ""
			gone := false
			if e.Name != "" {
				path = filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name))
				if _, err := os.Lstat(path); err != nil {
					path, gone = "", true
				}
			}
			out = append(out, FileView{r.ID, e.System, e.Item, e.Source, path, e.State, e.Reason, e.Size, e.Bytes, 0, e.SHA256, e.ModTime,
				e.First, e.Last, e.Cut, "", nil, nil, e.Command, gone})
		}
		return nil
	})
	if err == nil {
		err = learnedFrom(r, func(got *arrived) {
			if i, ok := at[got.System+"/"+got.Name]; ok && out[i].SHA256 == got.SHA256 {
				out[i].Form, out[i].Learned = got.Form, redact.Counts{}
				for _, p := range got.Places {
					out[i].Learned[p.Rule] += len(p.At) / 2
				}
			}
		})
	}
	return out, fault.Wrap("read the round", r.ID, err)
}

func wanted(list []string, x string) bool { return len(list) == 0 || contains(list, x) }

// ArchivePath finds an archive by its path, or by its name among those of a case; "" when there is none.
func ArchivePath(c *casefile.Case, name string) string {
	paths := []string{name}
	if c != nil && filepath.Base(name) == name {
		paths = append(paths, filepath.Join(c.OutDir(), name))
	}
	for _, p := range paths {
		if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() {
			return p
		}
	}
	return ""
}
