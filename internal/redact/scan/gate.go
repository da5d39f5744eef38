package scan

import (
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Gate goes through blocks, one at a time; it is for one goroutine. It decides at nearly every trigger, from a few bytes around it, that
// no rule can find anything there. It may let through what the rules then refuse, never the other way round: a test holds both against
// each other. Without it, a log takes several times as long.
type Gate struct {
	OwnerEnd int  // where the last owner of a file ends, behind which its group stands; -1 is nowhere
	Open     bool // everything is let through: for the test that holds the gate against the rules

	watcher     Watcher
	trigger     [256]bool // bytes at which a rule is asked
	signs       [256]bool // that may fit a context
	domainFirst [256]bool // letters that domains of the site begin with
	digitDomain bool      // one of them begins with a digit
	sieve       *sieve
	announced   *announced
	keys        keyCache
	idleKeys    wordTable // keys that announce nothing
	idleWords   wordTable // words behind which, with a space between, nothing stands
	marks       Marks     // of the chunk that is looked at
	numbers     []*Number
	hots        []hotPlaces
	numbered    int   // so far hots are gathered
	nextAt      []int // where each of numbers goes on
}

// Watcher is told of each chunk of a block that is looked at with vectors: which stretches of it are somebody else's.
type Watcher interface {
	// Chunk may clear places.
	Chunk(b []byte, m *Marks)
	// Quotes says whether any sign of TextSigns stands from one place to another.
	Quotes(b []byte, from, to int, any bool)
}

// Needs is what a gate lets through.
type Needs struct {
	Triggers string    // bytes at which a rule is asked
	Domains  []string  // of the site, in small letters
	Numbers  []*Number // of the rules that look for themselves, in their order; nil is one that looks anywhere
}

// New makes a gate. A nil watcher is none.
func (t *Tables) New(n Needs, w Watcher) *Gate {
	g := &Gate{OwnerEnd: -1, watcher: w, announced: t.words(), numbers: n.Numbers, nextAt: make([]int, len(n.Numbers))}
	for _, d := range n.Domains {
		g.domainFirst[d[0]|0x20], g.domainFirst[d[0]&^0x20] = true, true
		g.domainFirst[d[0]] = true
		g.digitDomain = g.digitDomain || chars.IsDigit(d[0])
	}
	for _, c := range []byte(n.Triggers) {
		g.trigger[c] = true
	}
	g.sieve = t.sieveFor(n.Triggers, n.Domains)
	for c, fit := range g.sieve.exact[contextBehind] {
		g.signs[c] = fit != 0
	}
	return g
}

// DigitDomain says whether a domain of the site begins with a digit.
func (g *Gate) DigitDomain() bool { return g.digitDomain }

// IsTrigger says whether a rule is asked at a byte.
func (g *Gate) IsTrigger(c byte) bool { return g.trigger[c] }

// Begin begins with a block, from a place on.
func (g *Gate) Begin(from int) {
	g.OwnerEnd, g.marks.to, g.numbered, g.hots = -1, 0, from, g.hots[:0]
}

// KeyAt gives what the key before a separator announces, mostly from memory.
func (g *Gate) KeyAt(b []byte, at int) find.KeyKind { return g.keys.at(b, at, &g.marks) }

// Next gives the next place at which a rule may find something, or stop.
func (g *Gate) Next(b []byte, i, stop int) int {
	inner := min(stop, len(b)-find.Edge) // so far it can be looked around
	if g.Open {
		inner = 0
	}
	at := i
	for at < stop {
		if at < find.Edge || at >= inner {
			if g.trigger[b[at]] && g.worth(b, at) {
				break
			}
			at++
			continue
		}
		if chars.Vectors && (at < g.marks.to && at >= g.marks.from || g.look(b, at)) {
			if at = g.marks.next(at); at < g.marks.to && at < inner {
				break
			}
			continue // what is left is looked at one by one
		}
		if at = g.nextByByte(b, at, inner); at < inner {
			break
		}
	}
	if g.OwnerEnd >= i && g.OwnerEnd < at && b[g.OwnerEnd] == ' ' {
		return g.OwnerEnd
	}
	return min(at, stop)
}

// nextByByte gives the next such place before inner, without vectors; where there is none, inner or a little more. It needs the
// registers for itself.
//
//go:noinline
func (g *Gate) nextByByte(b []byte, at, inner int) int {
	signs := &g.signs
	for ; ; at++ {
		for at < inner && !signs[b[at]] {
			at++
		}
		switch {
		case at >= inner:
			return at
		case b[at] == ' ' && !g.sieve.spaceFits(b, at):
		case b[at] == '-' && isStamp(b, at):
			at += stampRest - 1
		case b[at] == '=' && g.keys.nothing(b, at, &g.marks) || !g.sieve.fits(b, at):
		case b[at] == ':' && find.IsTime(b, at):
			at += 2 // if the next colon is of the same time, it is one as well
		case g.worth(b, at):
			return at
		}
	}
}

// worth says whether a rule may find something at a trigger.
func (g *Gate) worth(b []byte, i int) bool {
	if i < find.Edge || i+find.Edge > len(b) || g.Open {
		return true
	}
	p, n := b[i-1], b[i+1]
	switch b[i] {
	case ' ':
		// Nothing but what the sieve lets through comes here.
		return g.announced.announces(b, i) || i == g.OwnerEnd || looksMode(b[i-10:]) || looksMode(b[i-11:])
	case ':':
		return !find.IsTime(b, i) && !isLogTime(b, i) && g.colonWorth(b, i, p, n)
	case '=':
		return g.equalsWorth(b, i, p, n)
	case '-':
		return dashWorth(b, i, p, n)
	case '.':
		return g.dotWorth(b, i, p, n)
	case ',', ';':
		return g.commaWorth(b, i, p)
	case '|', '\t':
		return p == ' ' || b[i] == '|' && find.EndsLoginField(b, i) || keyBytes[p] && g.keys.word(b, i,
			&g.marks)&(find.KeySecret|find.KeyUser|find.KeyPhone|find.KeyDocument) != 0
	case '>':
		return find.KindAt(b, i) != 0
	case '(', ')', '[', '{':
		return bracketWorth(b, i, p, n)
	case '/', '\\':
		return slashWorth(b, i, p, n)
	}
	return signWorth(b, i, p, n)
}
