package transfer

import (
	"bytes"
	"crypto/sha256"
	"envask/internal/durable"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"
)

// ResumeFrom is from what size on a file that was interrupted goes on from its last byte, in bytes.
const ResumeFrom = 1 << 20

// compared is how much of a file is read again at both ends of what is there already, in bytes, to make sure that it is still
// the same.
const compared = 64 << 10

// Endings of files in the folder of what is not whole.
const (
	ResumeEnding = ".resume" // the bytes that came
	aboutEnding  = ".about"  // of which file they are
)

// Part is a file of ours that is not whole yet.
type part struct {
	name     string
	file     *os.File
	hash     hash.Hash
	had      int64     // bytes that came earlier
	size     int64     // of the file when it was begun
	modified time.Time // the same
	stays    bool      // it is kept for going on later
	resume   bool
}

// about is what is remembered of the file that a part is of.
type about struct {
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// openPart begins a file of ours, or goes on with one that was interrupted.
func (g File) openPart(f fs.File, info fs.FileInfo) (*part, error) {
	p := &part{name: g.Part, hash: sha256.New(), size: info.Size(), modified: info.ModTime()}
	if g.Resume != "" && info.Size() >= ResumeFrom {
		p.name, p.resume = g.Resume, true
		if p.goOn(f, info) {
			return p, nil
		}
		data, err := json.Marshal(about{info.Size(), info.ModTime()})
		if err == nil {
			err = durable.WriteFile(p.about(), data, 0o600)
		}
		if err != nil {
			return nil, Ours(err)
		}
	}
	var err error
	if p.file, err = os.OpenFile(p.name, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600); err != nil {
		return nil, Ours(err)
	}
	return p, nil
}

func (p *part) about() string { return strings.TrimSuffix(p.name, ResumeEnding) + aboutEnding }

// goOn goes on with what came earlier, when the file is still the same: it has its time, or has only grown, and at both ends of
// what is there are the same bytes.
func (p *part) goOn(f fs.File, info fs.FileInfo) bool {
	data, err := os.ReadFile(p.about())
	var was about
	if err != nil || json.Unmarshal(data, &was) != nil || info.Size() < was.Size ||
		info.Size() == was.Size && !info.ModTime().Equal(was.Modified) {
		return false
	}
	seek, ok := f.(io.Seeker)
	if !ok {
		return false
	}
	file, err := os.OpenFile(p.name, os.O_RDWR, 0o600)
	if err != nil {
		return false
	}
	good := false
	defer func() {
		if !good {
			file.Close()
			p.file, p.had = nil, 0
			p.hash.Reset()
		}
	}()
	p.file = file
	if p.had, err = io.Copy(p.hash, file); err != nil || p.had > was.Size || p.had == 0 || !p.agrees(f, p.had) {
		return false
	}
	if _, err := seek.Seek(p.had, io.SeekStart); err != nil {
		return false
	}
	p.size, p.modified = was.Size, was.Modified
	good = true
	return true
}

// agrees says whether the first n bytes of our file begin and end as those of the file on the system do now.
func (p *part) agrees(f fs.File, n int64) bool {
	at, ok := f.(io.ReaderAt)
	if !ok {
		return true // nothing says otherwise
	}
	k := min(n, compared)
	for _, off := range []int64{0, n - k} {
		ours, theirs := make([]byte, k), make([]byte, k)
		if _, err := p.file.ReadAt(ours, off); err != nil && err != io.EOF {
			return false
		}
		if _, err := at.ReadAt(theirs, off); err != nil && err != io.EOF {
			return false
		}
		if !bytes.Equal(ours, theirs) {
			return false
		}
	}
	return true
}

// end removes the part, unless it got its final name or is to be gone on with.
func (p *part) end() {
	p.file.Close()
	if p.resume && p.stays {
		return
	}
	os.Remove(p.name) // fails harmlessly after the rename
	if p.resume {
		os.Remove(p.about())
	}
}

// DropParts removes what an interrupted run left and cannot be gone on with.
func DropParts(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ResumeEnding) && !strings.HasSuffix(e.Name(), aboutEnding) {
			if err := durable.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}
