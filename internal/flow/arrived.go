package flow

import (
	"bufio"
	"cmp"
	"errors"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/go-json-experiment/json"

	"envask/internal/redact"
	"envask/internal/round"
)

const arrivedFile = "learned.jsonl"

// arrived is what was learned from one file. It holds good for these bytes and these rules alone.
type arrived struct {
	System string      `json:"system"`
	Name   string      `json:"name"`
	SHA256 string      `json:"sha256"`
	Check  string      `json:"check"` // XXH64 of the same bytes: packing sees with it, and quickly, that they are still the same
	Rules  string      `json:"rules"` // digest of what was redacted by
	Form   redact.Form `json:"form"`
	Places []places    `json:"places"`
}

// places are where the values that one rule found in a file stand first: offset, length, offset, length, and so on, in bytes.
// A log can have a hundred thousand of them, and numbers in a row are read five times as fast as an object for each.
type places struct {
	Class redact.Class `json:"class"`
	Rule  string       `json:"rule"`
	At    []int64      `json:"at"`
}

// arrivedReader reads what was learned from the files of a round on arrival, line by line.
type arrivedReader struct {
	file *os.File // nil where nothing was learned
	in   *bufio.Reader
}

func openArrived(r *round.Round) (*arrivedReader, error) {
	f, err := os.Open(filepath.Join(r.Dir(), arrivedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return &arrivedReader{}, nil
	}
	if err != nil {
		return nil, err
	}
	return &arrivedReader{f, bufio.NewReaderSize(f, 256<<10)}, nil
}

// next gives the next line, or io.EOF; a torn line is none.
func (a *arrivedReader) next() ([]byte, error) {
	if a.file == nil {
		return nil, io.EOF
	}
	line, err := a.in.ReadBytes('\n')
	if err != nil {
		return nil, err
	}
	return line, nil
}

func (a *arrivedReader) Close() {
	if a.file != nil {
		a.file.Close()
	}
}

// learnedFrom calls each for what was learned from the files of a round on arrival; damaged lines are left out.
func learnedFrom(r *round.Round, each func(*arrived)) error {
	lines, err := openArrived(r)
	if err != nil {
		return err
	}
	defer lines.Close()
	for {
		line, err := lines.next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if got := new(arrived); json.Unmarshal(line, got) == nil {
			each(got)
		}
	}
}

// put notes where a value stands.
func (a *arrived) put(v redact.Value, offset int64) {
	i := slices.IndexFunc(a.Places, func(p places) bool { return p.Rule == v.Rule && p.Class == v.Class })
	if i < 0 {
		i = len(a.Places)
		a.Places = append(a.Places, places{Class: v.Class, Rule: v.Rule})
	}
	a.Places[i].At = append(a.Places[i].At, offset, int64(len(v.Text)))
}

// values reads what stands at the places.
func (a *arrived) values(f io.ReaderAt) ([]redact.Value, error) {
	type place struct{ offset, length, of int64 }
	var all []place
	for i, p := range a.Places {
		for at := p.At; len(at) > 0; at = at[2:] {
			if len(at) == 1 {
				return nil, errors.New("an offset has no length")
			}
			if offset, length := at[0], at[1]; length < 1 || length > redact.MaxLearned || offset < 0 || offset > math.MaxInt64-length {
				return nil, errors.New("invalid offset")
			}
			all = append(all, place{at[0], at[1], int64(i)})
		}
	}
	slices.SortFunc(all, func(a, b place) int { return cmp.Compare(a.offset, b.offset) }) // the file is read from its begin to its end
	values := make([]redact.Value, 0, len(all))
	held := heldParts.Get().(*[heldSize]byte)
	defer heldParts.Put(held)
	for len(all) > 0 {
		begin, n := all[0].offset, 1
		end := begin + all[0].length
		for n < len(all) && all[n].offset-end < worthReading && all[n].offset+all[n].length-begin <= heldSize {
			end = max(end, all[n].offset+all[n].length)
			n++
		}
		part := held[:end-begin]
		if _, err := f.ReadAt(part, begin); err != nil { // io.EOF, too: the file is shorter than what was learned from
			return nil, err
		}
		for _, x := range all[:n] {
			text := part[x.offset-begin:][:x.length]
			values = append(values, redact.Value{Text: string(text), Class: a.Places[x.of].Class, Rule: a.Places[x.of].Rule})
		}
		all = all[n:]
	}
	return values, nil
}

// Places that stand close together are read at once.
const (
	heldSize     = 64 << 10 // at most, in bytes
	worthReading = 2 << 10  // of what lies between two places, in bytes: reading more of it takes longer than another call
)

var heldParts = sync.Pool{New: func() any { return new([heldSize]byte) }}
