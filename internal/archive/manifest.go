package archive

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/window"
)

// Names within the top folder.
const (
	PageName     = "START-HERE.html"
	BriefName    = "brief.md"
	ManifestName = "manifest.json"
	SumsName     = "SHA256SUMS"
	// SignatureName is the signature of the manifest, where the engineer signs.
	SignatureName = "manifest.json.sig"
	// Earlier begins the paths of what an earlier round had otherwise, in an archive of several.
	Earlier = "earlier/"
	// Added begins the paths of what persons brought for the case as a whole.
	Added = "added/"
)

// IsEvidence says whether a path below the top folder is one of evidence, not one of Envask's own.
func IsEvidence(name string) bool {
	return strings.HasPrefix(name, "systems/") || strings.HasPrefix(name, Added) || strings.HasPrefix(name, Earlier)
}

// ManifestFormat is the version of the manifest's shape. Fields are only ever added within one version. Version 1 had durations in
// nanoseconds, under keys without a unit.
const ManifestFormat = 2

// Manifest says what is in an archive, how it came there and what is not in it. All text in it went through redaction;
// it never holds an original value.
type Manifest struct {
	Format    int               `json:"format"`
	Envask    string            `json:"envask"` // version of the program
	Rules     string            `json:"rules"`  // version of the redaction rules
	Case      string            `json:"case"`
	Title     string            `json:"title,omitempty"`
	Vendor    string            `json:"vendor"`
	Site      string            `json:"site"`
	Ask       string            `json:"ask"`
	AskSHA256 string            `json:"ask_sha256"`
	SignedBy  string            `json:"signed_by,omitempty"` // public key with which the manifest is signed
	Answers   map[string]string `json:"answers,omitempty"`   // to the questions of the ask, by their ids
	Window    WindowInfo        `json:"window"`
	Rounds    []RoundInfo       `json:"rounds"`
	// a round of which the vendor has the archive: what is the same there is not here
	NewSince  string              `json:"new_since,omitempty"`
	Complete  bool                `json:"complete"`            // nothing that the ask requires is missing
	Lacking   []string            `json:"lacking"`             // what is, as "item on system: reason"
	Clocks    []round.Clock       `json:"clocks"`              // of the systems, as they were when first reached
	Reached   []round.Place       `json:"reached,omitempty"`   // by which way each system was reached
	Groups    []round.GroupResult `json:"groups,omitempty"`    // what the ask demands together
	Members   []round.Members     `json:"members,omitempty"`   // what systems said about their fellows in a cluster or stack
	Elsewhere []Elsewhere         `json:"elsewhere,omitempty"` // what lies elsewhere
	Coverage  round.Coverage      `json:"coverage"`
	Files     []File              `json:"files"`
	LeftOut   []LeftOut           `json:"left_out"`
	Redaction Redaction           `json:"redaction"`

	// FilesFrom and LeftOutFrom give the two long lists where they are not in memory.
	FilesFrom   func(func(*File) error) error    `json:"-"`
	LeftOutFrom func(func(*LeftOut) error) error `json:"-"`
}

// EachFile calls each for every file.
func (m *Manifest) EachFile(each func(*File) error) error { return eachOf(m.FilesFrom, m.Files, each) }

// EachLeftOut calls each for what was left out.
func (m *Manifest) EachLeftOut(each func(*LeftOut) error) error {
	return eachOf(m.LeftOutFrom, m.LeftOut, each)
}

func eachOf[T any](from func(func(*T) error) error, list []T, each func(*T) error) error {
	if from != nil {
		return from(each)
	}
	for i := range list {
		if err := each(&list[i]); err != nil {
			return err
		}
	}
	return nil
}

// WindowInfo is the window as given.
type WindowInfo struct {
	Text  string        `json:"text"`
	Zone  string        `json:"zone"`
	Extra string        `json:"extra,omitempty"` // time that was taken more on both sides
	Spans []window.Span `json:"spans"`           // empty means no limit
	// Remarks say that it was not over, or what does not reach it.
	Remarks []string `json:"remarks,omitempty"`
}

// RoundInfo is one round of which the archive holds evidence.
type RoundInfo struct {
	ID      string    `json:"id"`
	Note    string    `json:"note,omitempty"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended"`
	Depth   string    `json:"depth"`
	Window  string    `json:"window"`
	// AskSHA256 is of the ask by which it was collected, where that is another version than the archive was packed by.
	AskSHA256 string `json:"ask_sha256,omitempty"`
}

// File is one piece of evidence in the archive.
type File struct {
	Path      string         `json:"path"`            // below the top folder
	Round     string         `json:"round,omitempty"` // where the archive holds several
	System    string         `json:"system"`
	Item      string         `json:"item"`
	Source    string         `json:"source"` // path on the system, or the command line
	State     round.State    `json:"state"`
	How       string         `json:"how,omitempty"`  // why it was taken, how it was cut, what was odd
	SizeThere int64          `json:"size_on_system"` // bytes
	SizeTaken int64          `json:"size_taken"`     // bytes
	Size      int64          `json:"size"`           // bytes in the archive, after redaction
	SHA256    string         `json:"sha256"`         // of the bytes in the archive
	Modified  time.Time      `json:"modified,omitzero"`
	First     time.Time      `json:"first_dated_line,omitzero"` // of the file as it is on the system
	Last      time.Time      `json:"last_dated_line,omitzero"`
	Cut       *round.CutInfo `json:"cut,omitempty"` // how it was cut to the window
	Form      redact.Form    `json:"form"`
	Findings  redact.Counts  `json:"findings,omitempty"` // replaced, by rule
	Command   *round.Ran     `json:"command,omitempty"`
	Brought   *Brought       `json:"brought,omitempty"` // by a person
	Active    bool           `json:"-"`                 // a browser might run or draw it; known while the archive is made
}

// Brought is how a file came that a person brought.
type Brought struct {
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Type     string    `json:"type,omitempty"`  // what its content is
	About    string    `json:"about,omitempty"` // in a few words
	Note     string    `json:"note,omitempty"`
	Boxes    int       `json:"boxes,omitempty"` // rectangles that were made black
	Requests []Request `json:"failed_requests,omitempty"`
	More     int       `json:"more_failed_requests,omitempty"` // beyond those
}

// Request is one request of a browser's recording that failed or was slow.
type Request struct {
	Method string    `json:"method"`
	Path   string    `json:"path"`
	Status int       `json:"status"` // 0: there was no answer
	Took   float64   `json:"took_seconds"`
	At     time.Time `json:"at"`
	Why    string    `json:"why,omitempty"`
}

// Elsewhere is what an item wants and was not brought, with where it lies. Size and checksum are as somebody gave them.
type Elsewhere struct {
	System  string    `json:"system"`
	Item    string    `json:"item"`
	Address string    `json:"address"`
	Size    int64     `json:"size,omitempty"`
	SHA256  string    `json:"sha256,omitempty"`
	Note    string    `json:"note,omitempty"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
}

// LeftOut is what was there, or should have been, and is not in the archive.
type LeftOut struct {
	System string      `json:"system"`
	Item   string      `json:"item"`
	Source string      `json:"source"`
	State  round.State `json:"state"`
	Reason string      `json:"reason"`
	Size   int64       `json:"size_on_system,omitempty"`
	Round  string      `json:"round,omitempty"` // where the archive holds several
}

// Redaction says what was replaced, and what could not be looked into.
type Redaction struct {
	Findings  redact.Counts  `json:"findings"`            // by rule, over all files
	Learned   int            `json:"learned"`             // values that were removed wherever they stood
	Opaque    []string       `json:"opaque"`              // files that went unread, on the engineer's word
	Disclosed map[string]int `json:"disclosed,omitempty"` // values that stay readable on purpose, by kind
	Weaker    []string       `json:"weaker,omitempty"`    // what takes less out than the rules alone
	AsIs      []string       `json:"as_is,omitempty"`     // files that stay as they are, on the engineer's word
	// StillThere are learned values in files that went unread or stay as they are, on the engineer's word.
	StillThere []StillThere `json:"values_still_there,omitempty"`
}

// StillThere is how often values that one rule taught stand in a file that was not redacted.
type StillThere struct {
	File  string `json:"file"` // path in the archive, and the member of a container
	Rule  string `json:"rule"`
	Count int    `json:"count"` // places
}

// Words says it in a line.
func (s StillThere) Words() string {
	return fmt.Sprintf("%s: %d × %s", s.File, s.Count, s.Rule)
}

// Write writes the manifest as indented JSON. The two lists that grow with the evidence are written entry by entry, so that
// their text is never in memory as a whole.
func (m *Manifest) Write(w io.Writer) error {
	head := *m
	head.Files, head.LeftOut = []File{}, []LeftOut{}
	text, err := json.MarshalIndent(head, "", "  ")
	if err != nil {
		return err
	}
	rest := append(text, '\n')
	for _, list := range []struct {
		key   string
		write func(io.Writer) error
	}{
		{"files", func(w io.Writer) error { return writeList(w, m.EachFile) }},
		{"left_out", func(w io.Writer) error { return writeList(w, m.EachLeftOut) }},
	} {
		// No string can hold a line end, so this stands only where the key does.
		before, after, ok := bytes.Cut(rest, []byte("\n  \""+list.key+"\": []"))
		if !ok {
			return fmt.Errorf("the manifest has no place for %s", list.key)
		}
		if _, err := fmt.Fprintf(w, "%s\n  \"%s\": [", before, list.key); err != nil {
			return err
		}
		if err := list.write(w); err != nil {
			return err
		}
		rest = after
	}
	_, err = w.Write(rest)
	return err
}

func writeList[T any](w io.Writer, entries func(func(*T) error) error) error {
	before, end := "", "]"
	err := entries(func(x *T) error {
		entry, err := json.MarshalIndent(x, "    ", "  ")
		if err == nil {
			_, err = fmt.Fprintf(w, "%s\n    %s", before, entry)
		}
		before, end = ",", "\n  ]"
		return err
	})
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, end)
	return err
}
