package alias

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/go-json-experiment/json"
)

// Marshal gives the table as a file.
func (t *Table) Marshal() ([]byte, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var b bytes.Buffer // a line for each: there may be tens of thousands
	b.WriteString("{\"version\": 1, \"aliases\": [")
	for i, a := range t.given {
		line, err := json.Marshal(a)
		if err != nil {
			return nil, err
		}
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteByte('\n')
		b.Write(line)
	}
	b.WriteString("\n]}\n")
	return b.Bytes(), nil
}

type tableFile struct {
	Version int     `json:"version"`
	Aliases []Alias `json:"aliases"` // in the order in which they were given
}

// LoadTable reads a table; a file that is not there is an empty table.
func LoadTable(file string) (*Table, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return NewTable(), nil
	}
	if err != nil {
		return nil, err
	}
	return parseTable(data, file)
}

// parseTable reads a table from the bytes of a file.
func parseTable(data []byte, file string) (*Table, error) {
	var f tableFile
	if err := json.Unmarshal(data, &f); err != nil || f.Version != 1 {
		return nil, fmt.Errorf("%s is not a table of aliases", file)
	}
	t := newTable(len(f.Aliases))
	taken := make(map[string]bool, len(f.Aliases))
	for _, a := range f.Aliases {
		if taken[a.Alias] || t.byOrigin[origin{a.Class, a.Original}] != "" {
			return nil, fmt.Errorf("%s gives the alias %s twice", file, a.Alias)
		}
		taken[a.Alias] = true
		t.asBefore = t.isFirst(a)
		t.apart = t.asBefore && a.Class == Mail
		// Giving it again brings the counters to where they were, and shows whether the file was changed.
		if got := t.give(a.Class, a.Original); got != a.Alias {
			return nil, fmt.Errorf("%s: the alias %s does not follow those before it; the file was changed", file, a.Alias)
		}
	}
	t.changed, t.apart, t.asBefore = false, false, false
	return t, nil
}
