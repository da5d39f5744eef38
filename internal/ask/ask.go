package ask

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"envask/internal/device"
	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/policy"
	"envask/internal/seal"
)

// Depth is how much to take.
type Depth int

const (
	Light Depth = iota
	Standard
	Deep
)

// Depths lists the words for depths, in order.
var Depths = []string{"light", "standard", "deep"}

func (d Depth) String() string { return Depths[d] }

// ParseDepth reads the word for a depth.
func ParseDepth(text string) (Depth, error) {
	for i, w := range Depths {
		if w == text {
			return Depth(i), nil
		}
	}
	return 0, fmt.Errorf("%q is not a depth; write light, standard or deep", text)
}

// Ask is one ask file.
type Ask struct {
	Name       string
	Vendor     string
	Number     *regexp.Regexp // what the vendor's case numbers look like; nil means anything
	NoWindow   bool           // the vendor does not want a window
	Archive    string         // name of the archive with placeholders, see ArchiveFields
	Format     string         // of the archive; "" is any
	NameLike   *regexp.Regexp // what the vendor's rule for names of archives wants; nil means anything
	NameMax    int            // the longest name with its ending, in characters; 0 means any
	EncryptTo  []string       // public keys of the vendor, for which the archive is encrypted
	Severities []Severity
	Categories []Severity // under which the desk files a case
	Desk       *Desk      // nil: nothing is known of it
	Objects    []Object
	Questions  []Question
	Items      []Item
	Routes     []Route
	// RoutesInTurn: the first route that works is enough.
	RoutesInTurn bool
	Sets         []Set
	Groups       []Group
	Values       []Value
	Members      []Members
	Devices      map[string]*device.Description
	Redaction    *policy.Policy // what it says about redaction
	NoVitals     bool           // the basic state of the systems is not read
	File         string         // as given by the engineer
	Digest       string         // SHA-256 of the file, in hex
	Data         []byte         // the file itself
}

// Severity is one word of the vendor for how bad it is, or for what kind of a case it is.
type Severity struct{ Name, Means, NotFor string }

// Question is one thing the vendor wants to know in words.
type Question struct {
	ID, Text string
	Required bool
	Like     *regexp.Regexp
	Disclose bool  // names, addresses and numbers of its answer stay readable: whom to call
	Most     int   // characters; 0 is no limit
	Find     *Find // where in the evidence the answer can stand; nil: nowhere
}

// Item is one thing the ask names.
type Item struct {
	ID       string
	Of       []string // roles it is wanted from; empty means every system
	OfCase   bool     // it is of the case as a whole, of no system
	Depth    Depth    // taken from this depth on
	Required bool
	Why      string // what the vendor needs it for, in words
	Volatile bool   // it is soon gone, so it is taken first
	Elevated bool   // its commands run with the system's elevation
	// ElevatedIfGiven: where the system has no elevation, its commands run with the rights of the account.
	ElevatedIfGiven bool
	Together        string        // items of the same group are of one state; "" for none
	After           []string      // items that must be finished on all their systems before it is begun
	Before          []device.Step // what is typed, or run, before it is taken
	Afterwards      []device.Undo // what takes that back: always, also after a failure
	EachMember      string        // the list of members for each of which it is taken; "" for none
	Needs           []Need
	Each            Demand // which files must come from each system
	Advice          string // how to make it smaller, where it is large
	Spec            Spec
}

// OfCase is what an item of the case as a whole is of, and what stands in place of a system for it.
const OfCase = "case"

// Brought says whether a person brings the item.
func (it *Item) Brought() bool {
	_, ok := it.Spec.(Person)
	return ok
}

// Wanted says whether a system with these roles is asked for the item.
func (it *Item) Wanted(roles []string) bool {
	if it.OfCase {
		return false
	}
	if len(it.Of) == 0 {
		return true
	}
	for _, of := range it.Of {
		for _, r := range roles {
			if of == r {
				return true
			}
		}
	}
	return false
}

// Spec is what an item of one kind says beyond the common keys.
type Spec interface {
	Kind() string    // the key that chooses the kind: "files", "run", ...
	Sheet() []string // what it would do, line by line, for the approval sheet
}

// kind reads the keys of one kind of item from its mapping. The mapping has the key that names the kind.
type kind struct {
	Key   string
	Read  func(m *keyfile.Map) Spec
	Twice bool // it can be read a second time, to see whether it is of one state with others
}

func twice(s Spec) bool {
	return slices.ContainsFunc(kinds, func(k kind) bool { return k.Key == s.Kind() && k.Twice })
}

// kinds is the table of item kinds, in the order of the documentation.
var kinds = []kind{
	{"files", readFiles, true},
	{"run", readRun, true},
	{"journal", readJournal, false},
	{"events", readEvents, false},
	{"steps", readSteps, false},
	{"person", readPerson, false},
	{"arrives", readArrives, false},
}

// Kinds lists the keys that choose an item's kind.
func Kinds() []string {
	var keys []string
	for _, k := range kinds {
		keys = append(keys, k.Key)
	}
	return keys
}

// Route is a way to hand the archive to the vendor.
type Route struct {
	Name  string
	To    string // folder path or URL
	Limit int64  // largest archive it takes, in bytes; 0 means unknown
	// Fields are those of the vendor's form, by the names that the vendor gives them; their texts have placeholders, see
	// RouteTexts. File is the form's field for the archive, Subject the one of a mail.
	Fields        map[string]string
	File, Subject string
}

// RouteTexts are the placeholders of the texts of a route; answer:ID gives the answer to a question.
var RouteTexts = []string{"case", "title", "vendor", "site", "ask", "window", "archive", "size", "sha256", "brief"}

// BriefFields are the fields that every write-up has: as {brief.FIELD} they are placeholders of the texts of a route, too, beside the
// questions and objects of the ask.
var BriefFields = []string{"title", "happens", "expected", "since", "how-often", "last-worked", "changed", "steps", "affected", "severity",
	"severity-why", "category", "environment", "tried", "contact", "phone", "languages", "best-times", "attachments", "excerpt"}

// briefField reports whether a write-up of this ask has a field.
func (a *Ask) briefField(id string) bool {
	object, named := strings.CutPrefix(id, "object.")
	return slices.Contains(BriefFields, id) || slices.ContainsFunc(a.Questions, func(q Question) bool { return q.ID == id }) ||
		named && slices.ContainsFunc(a.Objects, func(o Object) bool { return o.ID == object })
}

// ArchiveFields are the placeholders of an archive name; answer:ID gives the answer to a question.
var ArchiveFields = []string{"case", "site", "system", "round", "from", "to", "date", "vendor", "ask", "product"}

// ArchiveFormats are the forms that an archive can have.
var ArchiveFormats = []string{"tar.gz", "tar.zst", "zip"}

// MaxItems bounds the items of an ask, its questions, and what each item lists: all of it is looked at for every system.
const MaxItems = 1000

// DefaultArchive is the archive name when the ask gives none.
const DefaultArchive = "{case}_{site}_{round}"

var word = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9_-]{0,63}$`)
var passwordInURL = late.Pattern(`://[^/@]*:[^/@]*@`)
var placeholder = late.Pattern(`\{[^{}]*\}`)

// Load reads and checks an ask file. Every mistake is reported at once, as keyfile.Problems.
func Load(file string) (*Ask, error) {
	data, err := keyfile.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return Parse(file, data)
}

// Parse checks the bytes of an ask file.
func Parse(file string, data []byte) (*Ask, error) {
	f, m := keyfile.Parse(file, data)
	if err := f.Err(); err != nil {
		return nil, err
	}
	sum := sha256.Sum256(data)
	a := &Ask{File: file, Data: data, Digest: hex.EncodeToString(sum[:])}
	if v := m.Need("ask"); v.Text != "" {
		a.Name = checkWord("ask", v)
	}
	a.Vendor = m.Need("vendor").Text
	a.NoWindow = m.Choice("window", "wanted", "unwanted") == "unwanted"
	a.readWriteUp(m)
	a.readQuestions(m)
	a.readCase(m.Map("case")) // its archive name may hold answers
	a.readItems(m)
	a.Devices = device.Read(m, false)
	a.readMembers(m)
	a.checkOrder(m)
	a.checkAnswers(m)
	a.checkFinds(m)
	a.readSets(m)
	for _, im := range m.Maps("items") {
		a.checkPaths(im)
	}
	a.NoVitals = !m.Bool("vitals", true)
	a.Redaction = &policy.Policy{}
	if r := m.Map("redaction"); r != nil {
		a.Redaction = policy.Read(r)
		r.Done()
	}
	a.readRoutes(m)
	m.Done()
	if err := f.Err(); err != nil {
		return nil, err
	}
	return a, nil
}

func checkWord(key string, v keyfile.Value) string {
	if v.Text != "" && !word().MatchString(v.Text) {
		v.Problem("%s: expected a word of letters, digits, - and _ (64 at most), found %q", key, v.Text)
	}
	return v.Text
}

func (a *Ask) readCase(m *keyfile.Map) {
	a.Archive = DefaultArchive
	if m == nil {
		return
	}
	a.Number = pattern(m.Value("number"), "number")
	if v := m.Value("archive"); v.Set() {
		a.Archive = v.Text
		a.checkPlaceholders(v, "archive: ", ArchiveFields)
		if rest := placeholder().ReplaceAllString(v.Text, ""); strings.ContainsAny(rest, `/\{}`) || !strings.Contains(v.Text, "{case}") {
			v.Problem("archive: expected a file name with {case} in it and no slash, found %q", v.Text)
		}
	}
	for _, k := range m.Strings("encrypt-to") {
		if _, err := seal.Recipient(k.Text); err != nil {
			k.Problem("encrypt-to: %v", err)
		}
		a.EncryptTo = append(a.EncryptTo, k.Text)
	}
	a.Format = m.Choice("format", ArchiveFormats...)
	a.NameLike = pattern(m.Value("name-like"), "name-like")
	a.NameMax = m.Int("name-max", 1, 255, 0)
	m.Done()
}

func pattern(v keyfile.Value, key string) *regexp.Regexp { return v.Expression(key) }

func (a *Ask) readQuestions(m *keyfile.Map) {
	seen := map[string]int{}
	for _, q := range m.Maps("questions") {
		id := q.Need("id")
		unique(seen, "question", id)
		if len(a.Questions) == MaxItems {
			id.Problem("questions: more than %d", MaxItems)
			break
		}
		a.Questions = append(a.Questions, Question{
			ID: checkWord("id", id), Text: q.Need("text").Text, Required: q.Bool("required", false), Like: pattern(q.Value("like"), "like"),
			Disclose: q.Bool("disclose", false), Most: q.Int("most", 1, 100_000, 0), Find: readFind(q),
		})
		q.Done()
	}
}

func unique(seen map[string]int, what string, v keyfile.Value) {
	if v.Text == "" {
		return
	}
	if line, twice := seen[v.Text]; twice {
		v.Problem("%s %q was given before, on line %d", what, v.Text, line)
		return
	}
	seen[v.Text] = v.Line
}

func (a *Ask) readItems(m *keyfile.Map) {
	if !m.Has("items") {
		m.Problem("items: is missing; an ask names at least one item")
	}
	seen := map[string]int{}
	for _, im := range m.Maps("items") {
		id := im.Need("id")
		unique(seen, "item", id)
		if len(a.Items) == MaxItems {
			id.Problem("items: more than %d; make several asks of it", MaxItems)
			break
		}
		if id.Text == Vitals {
			id.Problem("id: %q is what every ask has already; vitals: no leaves it out", id.Text)
		}
		it := Item{ID: checkWord("id", id), Required: im.Bool("required", false), Why: im.String("why"), Each: readDemand(im)}
		for _, v := range im.Strings("of") {
			if it.OfCase = v.Text == OfCase; it.OfCase && (!im.Has("person") || len(im.Strings("of")) > 1) {
				v.Problem("of: %s goes with person: alone", OfCase)
			} else if !it.OfCase {
				it.Of = append(it.Of, checkWord("of", v))
			}
		}
		it.Depth = Standard
		if v := im.Value("depth"); v.Set() {
			d, err := ParseDepth(v.Text)
			if err != nil {
				v.Problem("depth: %v", err)
			}
			it.Depth = d
		}
		it.Volatile = im.Bool("volatile", false)
		if v := im.Value("elevated"); v.Set() && v.Text == "if-given" {
			it.Elevated, it.ElevatedIfGiven = true, true
		} else {
			it.Elevated = im.Bool("elevated", false)
		}
		if v := im.Value("together"); v.Set() {
			it.Together = checkWord("together", v)
		}
		it.Needs, it.Advice = readNeeds(im), im.String("advice")
		readOrder(im, &it)
		it.Spec = readSpec(im)
		if it.Together != "" && it.Spec != nil && !twice(it.Spec) {
			im.Value("together").Problem("together: what is of one state is read twice, which is done with files and run only; " +
				"groups say what is demanded together")
		}
		im.Done()
		a.Items = append(a.Items, it)
	}
}

func readSpec(im *keyfile.Map) Spec {
	var found []kind
	for _, k := range kinds {
		if im.Has(k.Key) && (k.Key != "arrives" || !im.Has("run")) { // what a command makes a device push is of the command
			found = append(found, k)
		}
	}
	switch len(found) {
	case 0:
		im.Problem("the item does not say what to take; give one of: %s", strings.Join(Kinds(), ", "))
		return nil
	case 1:
		return found[0].Read(im)
	}
	im.Problem("an item is of one kind; found both %s and %s", found[0].Key, found[1].Key)
	for _, k := range found { // so that their keys count as known
		k.Read(im)
	}
	return nil
}

func (a *Ask) readRoutes(m *keyfile.Map) {
	seen := map[string]int{}
	for _, r := range m.Maps("routes") {
		name := r.Need("name")
		unique(seen, "route", name)
		to := r.Need("to")
		if passwordInURL().MatchString(to.Text) { // not repeated: it would stand in messages, sheets and receipts
			to.Problem("to: a password does not stand in a route; it belongs into the engineer's credentials.yaml")
		}
		route := Route{Name: checkWord("name", name), To: to.Text, Limit: r.Size("limit", 0), File: r.String("file"),
			Subject: a.routeText(r.Value("subject"))}
		if fields := r.Map("fields"); fields != nil {
			route.Fields = map[string]string{}
			for _, k := range fields.Keys() {
				route.Fields[k] = a.routeText(fields.Value(k))
			}
			fields.Done()
		}
		a.Routes = append(a.Routes, route)
		r.Done()
	}
	a.RoutesInTurn = m.Bool("routes-in-turn", false)
}

// routeText checks the placeholders of a text.
func (a *Ask) routeText(v keyfile.Value) string {
	if !v.Set() {
		return ""
	}
	a.checkPlaceholders(v, "", RouteTexts)
	return v.Text
}

// checkPlaceholders holds the placeholders of a text against those that are known, and answers against the questions.
func (a *Ask) checkPlaceholders(v keyfile.Value, key string, known []string) {
	for _, m := range placeholder().FindAllString(v.Text, -1) {
		name := strings.Trim(m, "{}")
		id, answer := strings.CutPrefix(name, "answer:")
		field, written := strings.CutPrefix(name, "brief.")
		switch {
		case written && slices.Contains(known, "brief"):
			if !a.briefField(field) {
				v.Problem("%s%s: the write-up has no field %q; it has %s", key, m, field, strings.Join(BriefFields, ", "))
			}
		case answer && !slices.ContainsFunc(a.Questions, func(q Question) bool { return q.ID == id }):
			v.Problem("%s%s: there is no question %q", key, m, id)
		case !answer && !slices.Contains(known, name):
			v.Problem("%s%s is no placeholder; there are {%s} and {answer:ID}", key, m, strings.Join(known, "}, {"))
		}
	}
}

// Item gives the item with an id, or nil.
func (a *Ask) Item(id string) *Item {
	for i := range a.Items {
		if a.Items[i].ID == id {
			return &a.Items[i]
		}
	}
	return nil
}

// Patterns gives the patterns of all items that name files: the paths that an approval covers.
func (a *Ask) Patterns() []string {
	var all []string
	for _, it := range a.Items {
		if f, ok := it.Spec.(Files); ok {
			all = append(all, f.Patterns...)
		}
	}
	return all
}
