package flow

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/redact/prove"
	"envask/internal/round"
)

// Why each learned value was learned, and how often it was removed in each way, for a person to agree or not.

// ReviewedValue is a value that redaction found. It holds no original: where that stands is said.
type ReviewedValue struct {
	Number     int          `json:"number"`
	Rule       string       `json:"rule"`
	Class      redact.Class `json:"class"`
	Text       string       `json:"text"`           // masked, unless asked for
	Found      int          `json:"found"`          // places at which rules found it
	Elsewhere  int          `json:"elsewhere"`      // places from which it was removed since it had been found
	Files      int          `json:"files"`          // in which it stood
	Left       string       `json:"left,omitempty"` // why it is replaced at its places only
	File       string       `json:"file"`           // in the archive, where it was found first
	Round      string       `json:"round"`
	Piece      string       `json:"piece,omitempty"` // stands for the evidence that it is in; "" when it cannot be read there
	Offset     int64        `json:"offset"`
	Length     int          `json:"length"`
	Check      string       `json:"check"` // of the original, so that no other one is taken for it
	value      string
	unreadable string // why the original cannot be had
}

// maxValues bounds how many values a review lists; maxTallied, how many are counted.
const (
	maxValues  = 80
	maxTallied = 50_000
)

// tally counts what the workers find.
type tally struct {
	mu     sync.Mutex
	values map[string]*tallied
}

// tallied is what is known of one value.
type tallied struct {
	ReviewedValue
	last *piece // the last file that it was found in
}

// of gives who counts the finds in a file.
func (t *tally) of(x *piece) func(redact.Told) {
	return func(f redact.Told) {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.values == nil {
			t.values = map[string]*tallied{}
		}
		v := t.values[f.Text]
		if v == nil {
			if len(t.values) >= maxTallied {
				return
			}
			v = &tallied{ReviewedValue: ReviewedValue{Rule: f.Rule, Class: f.Class, Length: len(f.Text), Check: checkOf(f.Text),
				Offset: -1}}
			t.values[f.Text] = v
		}
		if f.Taught {
			v.Found++
		} else {
			v.Elsewhere++
		}
		if v.last != x {
			v.last = x
			v.Files++
		}
		first := v.File == "" || x.Path < v.File || x.Path == v.File && f.Offset < v.Offset
		if f.Taught && (v.Piece == "" || first) && f.Offset >= 0 {
			v.Rule, v.File, v.Round, v.Piece, v.Offset = f.Rule, x.Path, x.Round, pieceID(x.Entry), f.Offset
		} else if v.File == "" {
			v.File, v.Round = x.Path, x.Round
		}
	}
}

// list gives the values that a person should look at: those that were removed where no rule found them, and names and secrets that were
// left at other places.
func (t *tally) list(learned *redact.Learned) []ReviewedValue {
	out := []ReviewedValue{}
	type keyed struct {
		ReviewedValue
		text string
	}
	var all []keyed
	for text, v := range t.values {
		v.Left = learned.WhyLeft(redact.Value{Text: text, Class: v.Class, Rule: v.Rule})
		if v.Elsewhere > 0 || v.Left != "" && v.Found > 0 && (v.Class == redact.Secret || v.Class == redact.User) {
			all = append(all, keyed{v.ReviewedValue, text})
		}
	}
	sort.Slice(all, func(i, j int) bool {
		a, b := &all[i], &all[j]
		switch {
		case (a.Left == "") != (b.Left == ""):
			return a.Left == ""
		case a.Elsewhere != b.Elsewhere:
			return a.Elsewhere > b.Elsewhere
		case a.Found != b.Found:
			return a.Found > b.Found
		}
		return a.text < b.text
	})
	for _, k := range all[:min(len(all), maxValues)] {
		out = append(out, k.ReviewedValue)
	}
	return out
}

// readValues reads the originals of values from the evidence, as far as that is still there.
func (v *Review) readValues(files map[string]string, unmask bool) {
	for i := range v.Values {
		x := &v.Values[i]
		x.Number = len(v.Suspects) + 1 + i
		if x.Piece == "" {
			x.unreadable = "it was found as a part of something longer, or only in files that had to be opened or decoded"
		} else {
			x.value, x.unreadable = original(files[x.Round+x.Piece], x.Offset, x.Length)
		}
		if x.value != "" && checkOf(x.value) != x.Check {
			x.value, x.unreadable = "", evidenceChanged
		}
		if x.Text = prove.Mask(x.Length); unmask && x.value != "" {
			x.Text = x.value
		}
	}
}

// checkOf tells a value from another one that stands in its place since, and is too short to tell what it is.
func checkOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:4])
}

// Why an original cannot be had.
const (
	evidenceGone    = "its evidence is gone"
	evidenceChanged = "the source file has changed since"
)

// rawFiles gives the files of the evidence of some rounds, parted by commas, by the round and what stands for the piece.
func rawFiles(c *casefile.Case, rounds string) map[string]string {
	files := map[string]string{}
	for _, id := range strings.Split(rounds, ",") {
		r, err := round.Load(c, id)
		if err != nil {
			continue // what stands in it says that its evidence is gone
		}
		_ = r.Entries(func(e round.Entry) error {
			if e.Name != "" {
				files[id+pieceID(e)] = filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name))
			}
			return nil
		})
	}
	return files
}

// original reads so many bytes of a file of the evidence, or says why they cannot be had.
func original(file string, offset int64, length int) (text, why string) {
	f, err := os.Open(file) // "" is none
	if err != nil {
		return "", evidenceGone
	}
	defer f.Close()
	buf := make([]byte, length)
	if _, err := f.ReadAt(buf, offset); err != nil {
		return "", evidenceChanged
	}
	return string(buf), ""
}

// chosen gives the originals of suspicious and learned values by their numbers.
func (v *Review) chosen(numbers []int) ([]string, error) {
	var out []string
	for _, n := range numbers {
		switch k := n - 1 - len(v.Suspects); {
		case n >= 1 && k < 0:
			out = append(out, v.Suspects[n-1].value)
		case n < 1 || k >= len(v.Values):
			return nil, fault.New(fault.Usage, "review", "", fmt.Sprintf("there is no value %d", n),
				"envask review lists them with their numbers")
		case v.Values[k].value == "":
			return nil, fault.New(fault.Usage, "review", "", fmt.Sprintf("the original of value %d cannot be read: %s", n,
				v.Values[k].unreadable), "write it into redaction.yaml yourself: under never, or as a literal")
		default:
			out = append(out, v.Values[k].value)
		}
	}
	return out, nil
}
