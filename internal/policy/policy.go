package policy

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/go-json-experiment/json/v1"

	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/redact"
)

// FileName is what the engineer's files about redaction are called, in the home and in a case.
const FileName = "redaction.yaml"

// Policy is what one source says about redaction, or all of them together.
type Policy struct {
	Rules       map[string]bool                   // turned off or on, by name
	Classes     map[redact.Class]redact.Treatment // what becomes of the findings of a class
	Literals    []redact.Value                    // texts that must not leave
	Expressions []redact.Expression               // further rules
	Never       []string                          // values that no rule may touch
	Disclosed   []string                          // values that are disclosed on purpose
	Paths       []string                          // patterns of files that stay as they are
	Domains     []string                          // host names under these are removed
	Approval    bool                              // an archive must be approved before it is sent
	Pictures    bool                              // a person must have looked at each picture before
}

// Load reads a file about redaction. One that is not there says nothing.
func Load(file string) (*Policy, error) {
	data, err := keyfile.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return &Policy{}, nil
	}
	if err != nil {
		return nil, err
	}
	return Parse(file, data)
}

// Parse checks the bytes of a file about redaction. Every mistake is reported at once, as keyfile.Problems.
func Parse(file string, data []byte) (*Policy, error) {
	f, m := keyfile.Parse(file, data)
	if err := f.Err(); err != nil {
		return nil, err
	}
	p := Read(m)
	m.Done()
	return p, f.Err()
}

// Read takes the keys about redaction out of a map, such as the section of an ask. Mistakes go to the map's file.
func Read(m *keyfile.Map) *Policy {
	p := &Policy{}
	if rules := m.Map("rules"); rules != nil {
		p.Rules = readRules(rules)
	}
	if classes := m.Map("classes"); classes != nil {
		p.Classes = readClasses(classes)
	}
	for _, l := range m.Maps("literals") {
		p.readLiteral(l)
		l.Done()
	}
	for i, e := range m.Maps("expressions") {
		if i == maxExpressions {
			e.Problem("expressions: more than %d; each is looked for in every line", maxExpressions)
			break
		}
		p.readExpression(e)
		e.Done()
	}
	p.Never = texts(m, "never")
	p.Disclosed = texts(m, "disclosed")
	for _, v := range m.Strings("paths") {
		if !doublestar.ValidatePattern(v.Text) || v.Text == "" {
			v.Problem("paths: %q is not a pattern of paths", v.Text)
		}
		p.Paths = append(p.Paths, v.Text)
	}
	for _, v := range m.Strings("domains") {
		if !IsDomain(v.Text) {
			v.Problem("domains: %q is not a domain such as pier.example", v.Text)
		}
		p.Domains = append(p.Domains, strings.ToLower(v.Text))
	}
	p.Approval = m.Choice("approval", "no", "required") == "required"
	p.Pictures = m.Choice("pictures", "no", "looked-at") == "looked-at"
	return p
}

var domain = late.Pattern(`^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?)+$`)

// IsDomain says whether a text is a domain of two labels or more.
func IsDomain(text string) bool { return domain().MatchString(text) }

// maxExpressions bounds the rules of one's own.
const maxExpressions = 100

// minLiteral is the shortest text that is removed wherever it stands, in bytes.
const minLiteral = redact.MinName

func texts(m *keyfile.Map, key string) []string {
	var out []string
	for _, v := range m.Strings(key) {
		if strings.TrimSpace(v.Text) == "" {
			v.Problem("%s: an empty value says nothing", key)
			continue
		}
		out = append(out, v.Text)
	}
	return out
}

func readRules(m *keyfile.Map) map[string]bool {
	out := map[string]bool{}
	known := redact.RuleNames()
	for _, key := range m.Keys() {
		on := m.Bool(key, true)
		if !slices.Contains(known, key) {
			m.Value(key).Problem("rules: there is no rule %s%s; envask redact --rules lists them", key, keyfile.DidYouMean(key, known))
			continue
		}
		out[key] = on
	}
	return out
}

func readClasses(m *keyfile.Map) map[redact.Class]redact.Treatment {
	out := map[redact.Class]redact.Treatment{}
	var known []string
	for _, c := range redact.Classes {
		known = append(known, string(c))
	}
	for _, key := range m.Keys() {
		v := m.Value(key)
		t, ok := redact.ParseTreatment(v.Text)
		switch {
		case !slices.Contains(known, key):
			v.Problem("classes: there is no class %s%s; there are %s", key, keyfile.DidYouMean(key, known), strings.Join(known, ", "))
		case !ok:
			v.Problem("classes: %s: expected keep, alias or remove, found %q", key, v.Text)
		case key == string(redact.Secret) && t == redact.AsAlias:
			v.Problem("classes: secret: a secret has no alias; write keep or remove")
		default:
			out[redact.Class(key)] = t
		}
	}
	return out
}

// ownClasses are the classes that a literal or an expression of one's own can have.
var ownClasses = []string{"secret", "user", "host", "id"}

func (p *Policy) readLiteral(m *keyfile.Map) {
	v := m.Need("text")
	class := m.Choice("class", ownClasses...)
	if v.Text != "" && len(v.Text) < minLiteral {
		v.Problem("text: %d letters are too few to be removed wherever they stand; give %d or more", len(v.Text), minLiteral)
		return
	}
	p.Literals = append(p.Literals, redact.Value{Text: v.Text, Class: redact.Class(class), Rule: redact.LiteralRule})
}

var ownName = late.Pattern(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

func (p *Policy) readExpression(m *keyfile.Map) {
	name, match := m.Need("name"), m.Need("match")
	class := m.Choice("class", ownClasses...)
	if name.Text != "" && (!ownName().MatchString(name.Text) || slices.Contains(redact.RuleNames(), name.Text)) {
		name.Problem("name: %q is not a name for a rule of one's own: lower-case words with dashes, and none that there is already",
			name.Text)
	}
	re := match.Expression("match")
	if re == nil {
		return
	}
	if re.MatchString("") {
		match.Problem("match: %q fits an empty text, so it would fit everywhere", match.Text)
		return
	}
	p.Expressions = append(p.Expressions, redact.Expression{Name: name.Text, Match: re, Class: redact.Class(class)})
}

// Merge puts policies together; what a later one says of a rule or a class wins, lists add up.
func Merge(all ...*Policy) *Policy {
	out := &Policy{Rules: map[string]bool{}, Classes: map[redact.Class]redact.Treatment{}}
	for _, p := range all {
		if p == nil {
			continue
		}
		for k, v := range p.Rules {
			out.Rules[k] = v
		}
		for k, v := range p.Classes {
			out.Classes[k] = v
		}
		out.Literals = append(out.Literals, p.Literals...)
		out.Expressions = append(out.Expressions, p.Expressions...)
		out.Never = append(out.Never, p.Never...)
		out.Disclosed = append(out.Disclosed, p.Disclosed...)
		out.Paths = append(out.Paths, p.Paths...)
		out.Domains = append(out.Domains, p.Domains...)
		out.Approval = out.Approval || p.Approval
		out.Pictures = out.Pictures || p.Pictures
	}
	return out
}

// Config gives what an engine needs of a policy.
func (p *Policy) Config() redact.Config {
	c := redact.Config{Off: map[string]bool{}, Classes: p.Classes, Expressions: p.Expressions, Domains: p.Domains,
		Never: append(append([]string{}, p.Never...), p.Disclosed...)}
	for name, on := range p.Rules {
		if !on {
			c.Off[name] = true
		}
	}
	return c
}

// Digest tells policies apart by what rules find with them.
func (p *Policy) Digest() string {
	var expressions []string
	for _, e := range p.Expressions {
		expressions = append(expressions, e.Name+" "+string(e.Class)+" "+e.Match.String())
	}
	data, err := json.Marshal([]any{redact.RulesVersion, p.Rules, p.Classes, expressions, p.Never, p.Disclosed, p.Domains})
	if err != nil {
		panic(err) // plain values always marshal
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}

// Stays says whether a file stays as it is.
func (p *Policy) Stays(path string) bool {
	for _, pattern := range p.Paths {
		if ok, _ := doublestar.Match(pattern, path); ok {
			return true
		}
	}
	return false
}

// Weaker lists in words where a policy takes less out than the rules alone would, for the sheet that a person approves.
func (p *Policy) Weaker() []string {
	var out []string
	for name, on := range p.Rules {
		if !on {
			out = append(out, "rule "+name+" is turned off")
		}
	}
	for class, t := range p.Classes {
		if t == redact.Keep {
			out = append(out, fmt.Sprintf("findings of class %s stay readable", class))
		}
	}
	sort.Strings(out)
	for _, list := range []struct {
		what   string
		values []string
	}{{"never touches", p.Never}, {"discloses", p.Disclosed}, {"leaves as they are files like", p.Paths}} {
		for _, v := range list.values {
			out = append(out, fmt.Sprintf("%s %q", list.what, v))
		}
	}
	return out
}

// Sheet lists all that a policy says, one line each.
func (p *Policy) Sheet() []string {
	var out []string
	for _, w := range p.Weaker() {
		out = append(out, "redaction: weaker: "+w)
	}
	for _, l := range p.Literals {
		out = append(out, fmt.Sprintf("redaction: removes %q", l.Text))
	}
	for _, e := range p.Expressions {
		out = append(out, fmt.Sprintf("redaction: removes what fits %s (%s)", e.Match, e.Name))
	}
	for _, d := range p.Domains {
		out = append(out, "redaction: removes host names under "+d)
	}
	if p.Approval {
		out = append(out, "redaction: an archive must be approved before it is sent")
	}
	if p.Pictures {
		out = append(out, "redaction: a person must have looked at each picture in an archive before it is sent")
	}
	return out
}
