package phrase

import (
	"fmt"
	"strings"

	"envask/internal/redact/chars"
)

// How templates are compiled.

// node is a compiled word of a template.
type node struct {
	kind     nodeKind
	words    []string        // of a literal, without capitals unless exact
	set      map[string]bool // of a literal that is any of a set
	suffix   bool            // its words may end others, behind a dash
	part     bool            // and are looked for only there, where the whole word announces a secret
	exact    bool
	optional bool
	sought   bool
	pieces   []piece // of a word with slots
}

type nodeKind uint8

const (
	literal nodeKind = iota
	slots
	begin
	end
	gap
	anyWord
	number
	address
	lineEnd
	keyWord
	whoWord
	noArticle
)

// piece is a part of a word: a text, a slot, or a run of anything.
type piece struct {
	text string
	slot Slot
	any  bool
}

// template is a compiled phrase.
type template struct {
	nodes  []node
	anchor int // the literal behind which it is looked for
}

// compile reads a template.
func compile(text string) (template, error) {
	t := template{anchor: -1}
	for _, w := range strings.Fields(text) {
		n, err := compileWord(w)
		if err != nil {
			return t, fmt.Errorf("%q: %w", text, err)
		}
		t.nodes = append(t.nodes, n)
	}
	best := 0
	for i := range t.nodes {
		n := &t.nodes[i]
		if n.sought {
			t.anchor = i
			break
		}
		if n.hasSlot() && best > 0 { // words behind slots often end their line, and have no blank behind them
			break
		}
		if r := n.rarity(); r > best {
			t.anchor, best = i, r
		}
	}
	return t, nil
}

// common are words that stand in many lines of which few have a secret or a name.
var common = chars.WordSet(`user name set for from with and open opened closed accepted failed that there file session password login
	started
	stopped get post`)

// rarity says how well a node does as the word by which a phrase is looked for: the longer the rarer; 0 is not at all.
func (n *node) rarity() int {
	if n.kind != literal || n.optional {
		return 0
	}
	if n.set != nil {
		return 3
	}
	least := 99
	for _, w := range n.words {
		for i := 0; i < len(w); i++ {
			if c := w[i]; !(chars.IsWord(c) || c == '-' || c == '.' && i == len(w)-1) || w[0] == '-' {
				return 0
			}
		}
		if len(w) < 2 {
			return 0
		}
		rare := len(w)
		switch {
		case len(w) < 4:
			rare = 1
		case common.Has(strings.ToLower(w)):
			rare = 2
		}
		least = min(least, rare)
	}
	return least
}

func (n *node) hasSlot() bool {
	for _, p := range n.pieces {
		if p.slot != "" {
			return true
		}
	}
	return false
}

func compileWord(w string) (node, error) {
	switch w {
	case "^":
		return node{kind: begin}, nil
	case "$":
		return node{kind: end}, nil
	case "...":
		return node{kind: gap}, nil
	case "*":
		return node{kind: anyWord}, nil
	case "#":
		return node{kind: number}, nil
	case "@":
		return node{kind: address}, nil
	case "NL":
		return node{kind: lineEnd}, nil
	case "KEY":
		return node{kind: keyWord}, nil
	case "WHO":
		return node{kind: whoWord}, nil
	case "NOARTICLE":
		return node{kind: noArticle}, nil
	case "*?":
		return node{kind: anyWord, optional: true}, nil
	case "#?":
		return node{kind: number, optional: true}, nil
	case "@?":
		return node{kind: address, optional: true}, nil
	}
	if w == `\*` {
		return node{kind: literal, words: []string{"*"}}, nil
	}
	if strings.ContainsAny(w, "{*") {
		pieces, err := compilePieces(w)
		return node{kind: slots, pieces: pieces}, err
	}
	n := node{kind: literal}
	if set := sets[strings.Trim(w, "!?")]; set != nil {
		part := strings.HasPrefix(w, "PART")
		return node{kind: literal, set: set.All(), suffix: part || strings.HasPrefix(w, "TELLING"), part: part,
			optional: strings.HasSuffix(w, "?"), sought: strings.HasSuffix(w, "!")}, nil
	}
	if len(w) > 1 {
		w, n.optional = strings.CutSuffix(w, "?")
		w, n.sought = strings.CutSuffix(w, "!")
	}
	if w == `\|` {
		n.words = []string{"|"}
		return n, nil
	}
	n.exact = strings.ToLower(w) != w
	n.words = strings.Split(w, "|")
	return n, nil
}

func compilePieces(w string) (out []piece, err error) {
	for len(w) > 0 {
		at := strings.IndexAny(w, "{*")
		switch {
		case at > 0 && w[at] == '*' && w[at-1] == '\\': // the sign itself
			text := w[:at-1] + "*"
			if n := len(out); n > 0 && out[n-1].text != "" {
				out[n-1].text += text
			} else {
				out = append(out, piece{text: text})
			}
			w = w[at+1:]
		case at < 0:
			return append(out, piece{text: w}), nil
		case at > 0:
			out, w = append(out, piece{text: w[:at]}), w[at:]
		case w[0] == '*':
			out, w = append(out, piece{any: true}), w[1:]
		default:
			n := strings.IndexByte(w, '}')
			if n < 0 {
				return nil, fmt.Errorf("a slot is not closed")
			}
			slot := Slot(w[1:n])
			switch slot {
			case Secret, SureSecret, Unusual, Quoted, Code, Strong, Fierce, Random, User, SureUser, Account, QuotedUser,
				Name, Surname, Phone, Person, Paper:
			default:
				return nil, fmt.Errorf("no slot is called %s", slot)
			}
			out, w = append(out, piece{slot: slot}), w[n+1:]
		}
	}
	return out, nil
}
