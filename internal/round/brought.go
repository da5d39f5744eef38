package round

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/durable"
)

// What persons bring stands beside the log of a round, in a file of its own: it comes after the round is finished as well as before, and
// can be taken back. The ledger has a record of each change.

// Brought is how an entry came by a person.
type Brought struct {
	Name  string    `json:"name,omitempty"` // the file's own
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	From  string    `json:"from"` // path on the person's machine, or "-" for what was typed or pasted
	Note  string    `json:"note,omitempty"`
	Type  string    `json:"type,omitempty"`  // what its content is, one of ask.FileTypes; "" is none of them
	About string    `json:"about,omitempty"` // of what it is, in words: size of a picture, entries of a recording
	// Link is where it lies, when it was not brought itself; size and SHA-256 of the entry are then as somebody gave them.
	Link     string   `json:"link,omitempty"`
	Older    bool     `json:"older_version,omitempty"` // another version of it counts
	Boxes    []string `json:"boxes,omitempty"`         // rectangles of a picture that were made black, as x,y,width,height
	Original string   `json:"original,omitempty"`      // below raw/<system>/: the picture as it was; it never leaves
	OfSHA256 string   `json:"original_sha256,omitempty"`
	Remarks  []string `json:"remarks,omitempty"` // what the person may want to do again
}

// broughtFile is what persons brought, an entry a line.
func (r *Round) broughtFile() string { return filepath.Join(r.dir, "brought.jsonl") }

// Brought gives what persons brought into the round, sorted as all entries are; of the same source in the order in which it came.
func (r *Round) Brought() ([]Entry, error) {
	f, err := os.Open(r.broughtFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []Entry
	dec := json.NewDecoder(bufio.NewReader(f))
	for dec.More() {
		var e Entry
		if err := dec.Decode(&e); err != nil {
			return nil, fmt.Errorf("%s: %w", r.broughtFile(), err)
		}
		if e.Brought == nil {
			return nil, fmt.Errorf("%s: an entry that nobody brought", r.broughtFile())
		}
		out = append(out, e)
	}
	Sort(out)
	return out, nil
}

// SaveBrought writes what persons brought, and what the round has with it.
func (r *Round) SaveBrought(a *ask.Ask, list []Entry) error {
	var text []byte
	for i := range list {
		line, err := json.Marshal(&list[i])
		if err != nil {
			return err
		}
		text = append(append(text, line...), '\n')
	}
	if err := durable.WriteFile(r.broughtFile(), text, 0o600); err != nil {
		return err
	}
	FillBrought(a, r.Coverage, list)
	if !r.Finished() {
		return nil // its coverage is made when it ends
	}
	var err error
	if r.Groups, err = CheckGroups(a, r.Coverage, r.Entries); err != nil {
		return err
	}
	return r.Save()
}

// FillBrought fills the cells of what persons bring by what they brought.
func FillBrought(a *ask.Ask, table Coverage, list []Entry) {
	for i := range table {
		cell := &table[i]
		item := a.Item(cell.Item)
		if item == nil || !item.Brought() || cell.Code == CodeNoRole {
			continue
		}
		of := slices.DeleteFunc(slices.Clone(list), func(e Entry) bool { return e.System != cell.System || e.Item != cell.Item })
		if len(of) == 0 && cell.State == Skipped {
			continue // it was not chosen, or another round has it
		}
		*cell = broughtCell(item, *cell, of)
	}
}

// ToBring gives the cell of an item that a person brings and nobody did yet.
func ToBring(cell Cell) Cell {
	return Cell{System: cell.System, Item: cell.Item, Required: cell.Required, State: Missing, Code: CodeToBring,
		Reason: "a person brings it: envask show --todo"}
}

// broughtCell makes a cell of what was brought of an item.
func broughtCell(item *ask.Item, cell Cell, of []Entry) Cell {
	spec := item.Spec.(ask.Person)
	cell = ToBring(cell)
	good, links, demand := 0, []string{}, item.Each.Begin()
	failed := ""
	for i := range of {
		e := &of[i]
		name := e.Brought.Name
		switch {
		case e.Brought.Older:
			cell.note(name + ": an older version")
		case e.Brought.Link != "":
			links = append(links, e.Brought.Link)
		case e.State == Taken:
			good++
			cell.Files, cell.Bytes = cell.Files+1, cell.Bytes+e.Bytes
			demand.Saw(e.Source)
			if e.Reason != "" {
				cell.note(name + ": " + e.Reason)
			}
		default:
			if failed == "" {
				failed = name + ": " + e.Reason
			}
			cell.note(name + ": " + e.Reason)
		}
	}
	unmet := spec.Expect.Unmet(good)
	if unmet == "" {
		unmet = demand.Unmet()
	}
	switch {
	case unmet == "":
		cell.State, cell.Code, cell.Reason = Taken, "", ""
	case len(links) > 0 && spec.Expect.Unmet(good+len(links)) == "":
		cell.State, cell.Code, cell.Reason = Skipped, CodeElsewhere, "it lies elsewhere: "+strings.Join(links, ", ")
	case failed != "":
		cell.State, cell.Code, cell.Reason = Failed, CodeDemand, Join(failed, map[bool]string{true: unmet}[spec.Expect.Files > 1])
	case good+len(links) > 0:
		cell.State, cell.Code, cell.Reason = Failed, CodeDemand, "not all that it demands: "+unmet
	}
	if cell.State == Taken && len(cell.Notes) > 0 {
		cell.Code = CodeSome
	}
	return cell
}

func (c *Cell) note(text string) {
	if len(c.Notes) < MaxNotes {
		c.Notes = append(c.Notes, text)
	}
}
