package redact

import (
	"regexp"
	"time"

	"envask/internal/redact/alias"
	"envask/internal/redact/find"
	"envask/internal/redact/form"
	"envask/internal/redact/learn"
	"envask/internal/redact/scan"
)

// What an engine knows while it reads, and what its parts hand each other: types and limits alone. What is done with them stands in files
// of its own above, which point down to here.

// Treatment says what becomes of the findings of a class.
type Treatment int

// Config says what differs from the rules as they are.
type Config struct {
	Off         map[string]bool           // rules that are turned off
	Classes     map[alias.Class]Treatment // classes that are treated otherwise
	Expressions []Expression              // further rules
	Domains     []string                  // host names under these are found by SiteHostRule
	Never       []string                  // originals that are left as they are
}

// Engine redacts streams, one at a time. Its memory does not depend on the length of the input or of its lines.
type Engine struct {
	another func(Options) *Engine // makes one for what stands within something

	rules   []Rule
	table   [256][]*Rule
	nexts   []*Rule // those that look for themselves
	matcher *Matcher
	learned *Learned
	aliases *alias.Table
	cache   map[alias.Class]*known // the aliases of originals; the rules hold those of their class
	ignore  map[string]bool

	buf, out      []byte
	bare          style // how the document writes values without quotes
	options       Options
	opener        *form.Opener // of files; it knows where in one we are
	base          int64        // offset of the block in its text
	mark          int64        // the length of a byte order mark before the text
	place         func(alias.Value, int64)
	sampler       func(Sample)
	tally         func(Told)
	gate          *scan.Gate
	sqlRows       []int            // where rows of SQL open
	sqlKinds      []cellKind       // of those with which a block begins, if it does
	sqlNext       []cellKind       // and the next one
	named         map[string]*Rule // the rules that are on
	rows          table            // whose rows are read where the block begins
	rowsNext      table            // and where it ends
	betweenDigits []*Rule          // those of a dot
	heads         []int            // places in lines that may be heads of tables
	lineAt        lineAt
	texts         texts
	scan          *leakScan // when set, nothing is redacted, but learned values are searched for
	child         *Engine   // for short texts while this one is at work
	counts        Counts
	short         bool // it looks at texts within a short document
	inKey         bool // within a private key block, from the block before
	openKey       bool // the block looked at ends within a private key block
	findings      []finding
	keyFacts      map[string]keyFact // of the keys of documents
	phrased       []phrased          // what phrases gave away in the block
	called        called
	segments      []span        // of texts within texts, which are documents of their own; nil is the whole block
	nuls          []int         // where NUL characters stood in the buffer, which are line ends while it is looked at
	taken         []learn.Taken // by rules, in the block
	merged        []finding     // what findings are merged into, and the other way round
}

type finding struct {
	start, end int
	trigger    int // the byte at which it was found; it may stand before the start
	class      alias.Class
	rule       string
	by         *Rule  // nil for a learned value
	alias      bool   // it is an alias already
	original   string // of a learned value, which may be written otherwise here
	put        string // the alias, when the original had one before
	weak       bool   // one such find alone teaches nothing
	mute       bool   // nor do several: it goes where it stands
	packed     Counts // of what was found in a packed text, which this is; nil elsewhere
}

// Options is what an engine works with. The zero value finds by the rules alone and gives aliases of its own.
type Options struct {
	Aliases *alias.Table // nil: a table for this engine only
	Matcher *Matcher     // learned values, which are removed everywhere; may be nil
	Learned *Learned     // where findings are added; may be nil
	Keep    []string     // originals that are disclosed on purpose
	Config  Config       // what differs from the rules as they are
	TempDir string       // for members of containers that are too long for memory; "" keeps short ones only
}

// keyFact is what a key says by itself; documents have few keys, and many of each.
type keyFact struct {
	class factClass
	name  bool // it stands over the name of something whose value stands beside it
	value bool // it stands over that value
	weak  bool // its value is a secret if it looks random
	phone bool // its value is a telephone number
	paper bool // its value is the number of a document
}

// phrased is a find of a phrase, which is added when the rules are through.
type phrased struct {
	start, end int
	rule       string
	trigger    int
	weak       bool // one such find alone teaches nothing
	sure       bool // what stands around it is enough for a name
}

// Rule finds one kind of sensitive text. Find is called at every byte of Triggers, with the block, the place of that
// byte, and the first place that is still free; it gives the span that must not leave. A rule whose finds begin with no
// byte of their own has Next instead, which gives the first find at or behind a place.
type Rule struct {
	Name     string
	Class    alias.Class
	Doc      string
	Triggers string
	Find     func(b []byte, at, free int) (start, end int, ok bool)
	// When set, Find is called only behind a key of one of these kinds.
	Keys   find.KeyKind
	Keyed  func(b []byte, at, free int, kind find.KeyKind) (start, end int, ok bool) // instead of Find, with the kind
	Next   func(b []byte, from int) (start, end int, ok bool)
	beside func(e *Engine, b []byte, from, start, end int) // adds what stands beside a find; nil is nothing
	judged bool                                            // what it finds is told by what stands beside it, and has to look like it
	sparse *scan.Number                                    // where Next finds something at all; nil is anywhere
	hits   int                                             // of the text that an engine is at
	known  *known                                          // aliases that an engine has given to originals of the class
}

// Sample is one finding with what stands around it, for a person to look at. It holds no original: where that stands is said,
// so that it can be read again from the evidence.
type Sample struct {
	Rule   string      `json:"rule"`
	Class  alias.Class `json:"class"`
	Form   Form        `json:"form,omitempty"`   // of the file, when it had to be opened or decoded for it
	Member string      `json:"member,omitempty"` // of a container
	Offset int64       `json:"offset"`           // of the original in the (opened) file, in bytes
	Length int         `json:"length"`           // of the original, in bytes
	Left   string      `json:"left"`             // what stands before it in its line, redacted
	Put    string      `json:"put"`              // what stands in its place
	Right  string      `json:"right"`            // what stands behind it, redacted
}

// quotedText is a text of a block.
type quotedText struct {
	start, end int  // in the block, without its quotes
	sign       byte // before it, see opens; 0 before a line
	quote      byte
	laid       int // where it begins among the texts that are laid out
	laidEnd    int
	plain      bool // it has backslashes that are none
	sure       bool // that what is laid out is how it reads
}

// span is a stretch of a block.
type span struct{ start, end int }

// stretch is a part of a text that is laid out as it stands, or an escape.
type stretch struct {
	laid, start int // where it begins, laid out and in the block
	escape      int // how long the escape is, or 0
}

// texts is what an engine keeps to look into texts.
type texts struct {
	found     []quotedText
	finds     []findInText
	laid      []byte
	parts     []stretch
	inner     *Engine
	packed    *Engine // for what is compressed and in base64
	depth     int     // in how many texts what this engine looks at stands
	gathered  bool    // before the rules looked; whether there were any is taken for a sign that there will be
	signs     bool    // whether there is any of textSigns
	looked    int     // so far that is known
	long      []int   // places in words that are so long that they may be base64
	longTo    int     // so far they are known
	masked    int     // the first text that may go on behind the last chunk
	markup    bool    // the document begins as one of XML or HTML
	part      int     // the one that was asked for last
	listed    int     // the place behind the last text, if that is of a list
	carried   byte    // the sign of a text in which the block begins, which is too long for one
	carriedIn byte    // its quotes
	back      int     // how much of it stands before
	together  []span
	openKey   bool // the texts of the block end within a private key
	inKey     bool // those before did
	hunks     bool // the document has differences between files
	openHunk  bool // the block ends within such
	inHunk    bool // the one before did
}

// Told is one finding, with its original: for those who count how often each value was found, and how.
type Told struct {
	alias.Value
	Taught bool  // a rule found it at this place; else it was removed since it had been found elsewhere
	Offset int64 // in the file, in bytes; -1 where the file had to be opened or decoded for it
}

// cellKind says what the cells of a column are.
type cellKind uint8

// Expression is a rule of the engineer's own. It is matched within lines.
type Expression struct {
	Name  string
	Match *regexp.Regexp
	Class alias.Class
}

// Sizes of the engine, in bytes. A line longer than maxBlock is looked at in pieces; each piece but the first sees
// lookBehind bytes of what stood before it, and keepBack bytes of each piece wait for the next one.
const (
	blockSize = 256 << 10
	maxBlock  = 1 << 20
	keepBack  = 8 << 10
)

// style says how a document that is told by its name writes values without quotes.
type style uint8

// leakScan searches what an engine would redact, instead of redacting it.
type leakScan struct {
	m      *Matcher
	leaks  []Leak // those in what was read, maxLeaks at most
	hits   map[Hits]int
	unread bool
}

// called remembers the command of which the last option was: its arguments are read once.
type called struct{ looked, until int }

// table is the one whose rows are read: by the number of their fields, or by their separators. It lasts from block to block.
type table struct {
	column column
	cells  cellTable
}

// lineAt remembers where the line ends that places of a block are in: a long one is not searched for its end again and again.
type lineAt struct{ from, to int }

// minText is how long a text is that is worth it.
const minText = 6

// isLine says whether quotes stand for those of lines that have none.
func isLine(quote byte) bool {
	return quote == escapeSign || quote == '#' || quote == commentQuote || quote == hunkQuote || quote == prefixQuote
}

// findInText is one in a text.
type findInText struct {
	finding
	text int
}

// cellTable is what the rows of a table hold.
type cellTable struct {
	sep   byte // 0 is no table, 1 is one whose columns begin at offsets
	ruled bool // a rule must come first: only then there is a table
	cells int
	kinds [maxCells]cellKind
	// Where the columns begin in their lines.
	offsets []int
	// The line before ended within the quotes of a cell; lines says how many did in a row.
	within int
	quoted bool
	lines  int
	// The table is the whole file: a row that does not fit does not end it, unless many do not.
	whole   bool
	misfits int
}

// Leak is a learned original that stands where it must not.
type Leak struct {
	Rule   string
	Class  alias.Class
	Member string // of a container; "" is the file itself
	Offset int64  // in the (opened) file or member, in bytes; -1 for a name or an address of a packet
	Unread bool   // it stands in what could not be read, and went along on the engineer's word
	Text   string // the original; never to be written anywhere
}

// Hits are places of learned originals in one file, or in one member of a container, that one rule taught.
type Hits struct {
	Rule   string
	Member string
	Unread bool
}

// maxCells bounds how many columns of a table are looked at.
const maxCells = 64

// Names of rules that are spoken of elsewhere.
const (
	keyedSecretRule    = "keyed-secret"
	wordedSecretRule   = "worded-secret"
	passwordOptionRule = "password-option"
	passwordHashRule   = "password-hash"
	serviceTokenRule   = "service-token"
	userRule           = "user"
	logUserRule        = "log-user"
	ownerRule          = "owner"
	privateKeyRule     = "private-key"
	phoneRule          = "phone"
	documentRule       = "document-number"
)

// escapeSign is what control sequences begin with.
const escapeSign = 0x1b

// commentQuote stands for the quotes of lines that are commented out.
const commentQuote = '-'

// hunkQuote stands for the quotes of lines in which differences between files are.
const hunkQuote = '+'

// prefixQuote stands for the quotes of lines with something before them that is none of theirs, see envelope.
const prefixQuote = '|'

// Around is how much of the line is shown on each side of a sample, in bytes; samplesEach, how many samples a rule gives in
// one text.
const (
	around      = 60
	samplesEach = 2
)

// Source says what is known of a file besides its content.
type Source struct {
	Name    string       // its path; some forms are told by it
	Unread  bool         // what cannot be read goes along unread, on the engineer's word
	Sampler func(Sample) // is given some findings, for a person to look at; may be nil
	Tally   func(Told)   // is given every finding in what can be read; may be nil
	// Place is told where each learned value stands in a plain text, -1 where it is written otherwise there; may be nil.
	Place  func(v alias.Value, offset int64)
	Within func(t time.Time) bool // packets of other times are left out; nil keeps all
	Opaque bool                   // an earlier reading found that it is no text, whatever it begins with
	Once   bool                   // nobody read it before: whether it is text is seen only at its end
}
