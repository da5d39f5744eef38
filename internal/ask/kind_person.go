package ask

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"

	"envask/internal/keyfile"
	"envask/internal/late"
)

// Person is an item that a person brings: a picture, a recording, an export of a graphical program, a file from elsewhere.
type Person struct {
	Steps  []string // what to do, with placeholders, see PersonFields
	Expect Expect
	// Arrives: a device pushes it into the inbox; Steps are what is typed there, and Quiet is how long nothing more has to come.
	Arrives bool
	Quiet   time.Duration
	Folder  string // where a device puts it instead: a whole path on this machine, with placeholders, see FolderFields; "" is the inbox
}

// Expect is what a person's files must be.
type Expect struct {
	Names  []string // patterns of the file's own name; none is any
	Types  []string // of Types; none is any
	Least  int64    // bytes; 0 is no limit
	Most   int64    // bytes; 0 is no limit
	Files  int      // how many, at least
	Window bool     // what is in it is dated within the window; otherwise there is a remark
	Cut    bool     // of texts with dated lines only those of the window are kept
	Holds  *regexp.Regexp
}

// FileTypes are the kinds of files that a content can be told to be, with what people call them.
var FileTypes = []struct{ Name, Means string }{
	{"text", "a text"},
	{"har", "a recording of a browser (HAR 1.2)"},
	{"png", "a PNG picture"},
	{"jpeg", "a JPEG picture"},
	{"pdf", "a PDF document"},
	{"zip", "a zip archive"},
	{"gzip", "a gzip file"},
	{"capture", "a packet capture"},
	{"dump", "a dump of memory"},
}

// TypeMeans gives what people call a type of files.
func TypeMeans(name string) string {
	for _, t := range FileTypes {
		if t.Name == name {
			return t.Means
		}
	}
	return "data of an unknown kind"
}

// PersonFields are the placeholders of what a person is told; answer.ID gives the answer to a question.
var PersonFields = []string{"case", "from", "to", "system"}

// Persons gives the items that a person brings.
func (a *Ask) Persons() (out []*Item) {
	for i := range a.Items {
		if a.Items[i].Brought() {
			out = append(out, &a.Items[i])
		}
	}
	return out
}

// Kind is the key that chooses this kind.
func (p Person) Kind() string {
	if p.Arrives {
		return "arrives"
	}
	return "person"
}

// Sheet says what a person is asked for.
func (p Person) Sheet() []string {
	lines := []string{"ask a person to bring it:"}
	if p.Arrives {
		lines = []string{"receive it from the device, for a limited time, on an address of yours (envask inbox):"}
	}
	if p.Folder != "" {
		lines = []string{"take what is put into a folder of this machine, " + p.Folder + ", while envask inbox looks at it:"}
	}
	for i, s := range p.Steps {
		lines = append(lines, fmt.Sprintf("  %d. %s", i+1, s))
	}
	return append(lines, "expect "+p.Expect.String())
}

// Recording says whether it is a recording of a browser that is wanted.
func (p Person) Recording() bool { return slices.Contains(p.Expect.Types, "har") }

// String tells what is expected in words.
func (e Expect) String() string {
	what := "any file"
	if len(e.Types) > 0 {
		what = e.Wanted()
	}
	if e.Files > 1 {
		what = fmt.Sprintf("%d files, each %s", e.Files, what)
	}
	if len(e.Names) > 0 {
		what += ", named like " + strings.Join(e.Names, " or ")
	}
	if e.Least > 0 {
		what += ", at least " + humanize.IBytes(uint64(e.Least))
	}
	if e.Most > 0 {
		what += ", at most " + humanize.IBytes(uint64(e.Most))
	}
	if e.Window {
		what += ", dated within the window"
	}
	if e.Cut {
		what += ", cut to the window by line"
	}
	if e.Holds != nil {
		what += ", with " + e.Holds.String() + " in it"
	}
	return what
}

func readPerson(m *keyfile.Map) Spec {
	p := Person{Expect: Expect{Files: 1}}
	for i, v := range m.Strings("person") {
		if i == MaxItems {
			v.Problem("person: more than %d steps", MaxItems)
			break
		}
		if strings.TrimSpace(v.Text) == "" {
			v.Problem("person: expected what to do, in words")
		}
		p.Steps = append(p.Steps, strings.TrimSpace(v.Text))
	}
	if len(p.Steps) == 0 {
		m.Problem("person: says nothing; tell the person what to do")
	}
	if m.Has("needs") || m.Bool("elevated", false) || m.Bool("volatile", false) {
		m.Problem("needs:, elevated: and volatile: do not go with person:")
	}
	if e := m.Map("expect"); e != nil {
		p.Expect = readExpect(e)
		e.Done()
	}
	return p
}

func readExpect(m *keyfile.Map) Expect {
	e := Expect{Least: m.Size("least", 0), Most: m.Size("most", 0), Files: m.Int("files", 1, MaxItems, 1),
		Holds: m.Value("holds").Expression("holds")}
	if v := m.Value("within"); v.Set() {
		if e.Window = v.Text == "window"; !e.Window {
			v.Problem("within: expected window, found %q", v.Text)
		}
	}
	e.Cut = m.Choice("cut", "none", "lines") == "lines"
	for _, v := range m.Strings("names") {
		if v.Text == "" || strings.Contains(v.Text, "/") || !doublestar.ValidatePattern(v.Text) {
			v.Problem("names: expected a pattern of a file's name, such as error-*.png, found %q", v.Text)
		}
		e.Names = append(e.Names, v.Text)
	}
	for _, v := range m.Strings("type") {
		if !slices.ContainsFunc(FileTypes, func(t struct{ Name, Means string }) bool { return t.Name == v.Text }) {
			v.Problem("type: %q is no type; there are %s", v.Text, strings.Join(typeNames(), ", "))
		}
		e.Types = append(e.Types, v.Text)
	}
	if e.Most > 0 && e.Least > e.Most {
		m.Problem("expect: least is more than most")
	}
	return e
}

func typeNames() []string {
	var out []string
	for _, t := range FileTypes {
		out = append(out, t.Name)
	}
	return out
}

// personField is a placeholder of what a person is told.
var personField = late.Pattern(`\{([a-z]+)(?:\.([A-Za-z0-9_-]+))?\}`)

// Tell fills the placeholders of what a person is told; value gives the text for one, "" where there is none yet.
func Tell(text string, value func(name string) string) string {
	return personField().ReplaceAllStringFunc(text, func(p string) string {
		if v := value(p[1 : len(p)-1]); v != "" {
			return v
		}
		return p
	})
}

// checkTold reports placeholders of a person's steps that cannot be filled.
func (a *Ask) checkTold(im *keyfile.Map, it *Item) {
	for _, v := range im.Strings("person") {
		for _, f := range personField().FindAllStringSubmatch(v.Text, -1) {
			switch {
			case f[1] == "answer" && f[2] != "":
				if a.Question(f[2]) == nil {
					v.Problem("%s: the ask has no question %q", f[0], f[2])
				}
			case f[2] != "" || !slices.Contains(PersonFields, f[1]):
				v.Problem("%s is no placeholder; there are {%s} and {answer.ID}", f[0], strings.Join(PersonFields, "}, {"))
			case f[1] == "system" && it.OfCase:
				v.Problem("{system}: the item is of the case, not of a system")
			}
		}
	}
}

// Named says whether a file's name is one that is expected.
func (e Expect) Named(name string) bool {
	return len(e.Names) == 0 || slices.ContainsFunc(e.Names, func(p string) bool {
		ok, err := doublestar.Match(strings.ToLower(p), strings.ToLower(name))
		return ok && err == nil
	})
}

// Unmet says what is not there of so many files; "" is nothing.
func (e Expect) Unmet(files int) string {
	if files >= e.Files {
		return ""
	}
	return strconv.Itoa(files) + " of " + strconv.Itoa(e.Files) + " files"
}

// Wanted tells the types that are expected, in words.
func (e Expect) Wanted() string {
	var types []string
	for _, t := range e.Types {
		types = append(types, TypeMeans(t))
	}
	return strings.Join(types, " or ")
}
