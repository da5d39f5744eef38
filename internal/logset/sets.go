package logset

import (
	"path"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"sync"
)

// Place is where a file stands in its set.
type Place struct {
	Set     string // the same for all members: the folder and the name without what rotation added
	Current bool   // the member that is written now, as far as names tell
	age     int    // larger is older; of numbered members
	date    string // later is newer; of dated members
	kind    placeKind
}

type placeKind uint8

const (
	plainMember    placeKind = iota
	numberedMember           // x.log.1: a larger number is older
	datedMember              // x-20260314.log
	countedMember            // x_0003.log: a larger number is newer
	oldMember                // x.log.old
)

type nameForms struct {
	afterNumber *regexp.Regexp
	midNumber   *regexp.Regexp
	midCount    *regexp.Regexp
	oldSuffix   *regexp.Regexp
	midOld      *regexp.Regexp
	dateIn      *regexp.Regexp // a day, with or without an hour, a clock or a number behind it
	dateDir     *regexp.Regexp
	yearDir     *regexp.Regexp
	partDir     *regexp.Regexp
	versionPart *regexp.Regexp
}

// forms of names that rotation makes; they are compiled when the first name is read.
var forms = sync.OnceValue(func() nameForms {
	return nameForms{
		afterNumber: regexp.MustCompile(`^(.+)\.(\d{1,5})$`),
		midNumber:   regexp.MustCompile(`^(.+)\.(\d{1,3})(\.[A-Za-z][A-Za-z0-9]{0,9})$`),
		midCount:    regexp.MustCompile(`^(.+?)[_-](\d{2,8})(\.[A-Za-z][A-Za-z0-9]{0,9})$`),
		oldSuffix:   regexp.MustCompile(`(?i)^(.+?)(\.(?:old|bak|prev|previous|last|save|backup)|~)$`),
		midOld:      regexp.MustCompile(`(?i)^(.+?)[._-](?:old|bak|prev|previous)(\.[A-Za-z][A-Za-z0-9]{0,9})$`),
		dateIn: regexp.MustCompile(`[._-]?((?:19|20)\d{2})([-_.]?)(\d{2})([-_.]?)(\d{2})` +
			`(?:[-_.T]?(\d{2})(?:[-_.:]?(\d{2})(?:[-_.:]?(\d{2}))?)?)?(?:[._-](\d{1,4}))?(?:$|[._-])`),
		dateDir:     regexp.MustCompile(`^((?:19|20)\d{2})([-_.]?)(\d{2})([-_.]?)(\d{2})$`),
		yearDir:     regexp.MustCompile(`^(?:19|20)\d{2}$`),
		partDir:     regexp.MustCompile(`^\d{2}$`),
		versionPart: regexp.MustCompile(`^(.*?[^0-9.]|)(\d+(?:\.\d+)+|\d+)([^0-9.].*|)$`),
	}
})

// PlaceOf reads from a file's name which set belongs to and how old it is in it.
func PlaceOf(name string) Place {
	dir, base := path.Split(name)
	plain, packed := Unsuffixed(base)
	dir, day := datedFolders(dir)
	p := Place{Set: dir + plain, kind: plainMember, Current: !packed && day == ""}
	if day != "" {
		p.kind, p.date = datedMember, day
	}
	switch {
	case forms().dateIn.MatchString(plain):
		m := forms().dateIn.FindStringSubmatchIndex(plain)
		g := func(i int) string {
			if m[2*i] < 0 {
				return "00"
			}
			return plain[m[2*i]:m[2*i+1]]
		}
		if month, _ := strconv.Atoi(g(3)); month < 1 || month > 12 {
			break
		}
		end := m[1]
		if end < len(plain) || end > 0 && strings.ContainsRune("._-", rune(plain[end-1])) {
			end--
		}
		count, _ := strconv.Atoi(g(9))
		p.kind, p.Current = datedMember, false
		p.date = day + g(1) + g(3) + g(5) + g(6) + g(7) + g(8)
		p.age = count
		p.Set = dir + plain[:m[0]] + plain[min(end, len(plain)):]
	case forms().oldSuffix.MatchString(plain):
		p.kind, p.Current, p.Set = oldMember, false, dir+forms().oldSuffix.FindStringSubmatch(plain)[1]
	case forms().afterNumber.MatchString(plain):
		m := forms().afterNumber.FindStringSubmatch(plain)
		p.kind, p.Current, p.Set = numberedMember, false, dir+m[1]
		p.age, _ = strconv.Atoi(m[2])
	case forms().midOld.MatchString(plain):
		m := forms().midOld.FindStringSubmatch(plain)
		p.kind, p.Current, p.Set = oldMember, false, dir+m[1]+m[2]
	case forms().midNumber.MatchString(plain):
		m := forms().midNumber.FindStringSubmatch(plain)
		p.kind, p.Current, p.Set = numberedMember, false, dir+m[1]+m[3]
		p.age, _ = strconv.Atoi(m[2])
	case forms().midCount.MatchString(plain) && day == "":
		m := forms().midCount.FindStringSubmatch(plain)
		p.kind, p.Current, p.Set = countedMember, false, dir+m[1]+m[3]
		p.age, _ = strconv.Atoi(m[2])
	}
	return p
}

// datedFolders takes a day out of the folders: "a/2026/03/14/" and "a/2026-03-14/" become "a/".
func datedFolders(dir string) (rest, day string) {
	parts := strings.Split(strings.TrimSuffix(dir, "/"), "/")
	n := len(parts)
	if n >= 1 {
		if m := forms().dateDir.FindStringSubmatch(parts[n-1]); m != nil {
			return joinDir(parts[:n-1]), m[1] + m[3] + m[5]
		}
	}
	if n >= 3 && forms().yearDir.MatchString(parts[n-3]) && forms().partDir.MatchString(parts[n-2]) &&
		forms().partDir.MatchString(parts[n-1]) {
		return joinDir(parts[:n-3]), parts[n-3] + parts[n-2] + parts[n-1]
	}
	return dir, ""
}

func joinDir(parts []string) string {
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, "/") + "/"
}

// older says whether a member is older than another of its set, as far as names tell.
func (p Place) older(q Place) bool {
	if p.Current != q.Current {
		return q.Current
	}
	if p.kind != q.kind {
		return p.kind > q.kind
	}
	switch p.kind {
	case datedMember:
		if p.date != q.date {
			return p.date < q.date
		}
		return p.age > q.age
	case countedMember:
		return p.age < q.age
	}
	return p.age > q.age
}

// Sets groups files by their sets; the members of each are given newest first, as positions in names. A number in the
// middle of a name counts as rotation only where the file without it is there too: gate.1.log and gate.2.log may be two
// gates.
func Sets(names []string) [][]int {
	there := map[string]bool{}
	for _, n := range names {
		there[n] = true
	}
	places := make([]Place, len(names))
	groups := map[string][]int{}
	var order []string
	for i, n := range names {
		p := PlaceOf(n)
		base, _ := Unsuffixed(path.Base(n))
		if p.kind == numberedMember && forms().midNumber.MatchString(base) && !forms().afterNumber.MatchString(base) && !there[p.Set] {
			plain, packed := Unsuffixed(n)
			p = Place{Set: plain, Current: !packed}
		}
		places[i] = p
		if groups[p.Set] == nil {
			order = append(order, p.Set)
		}
		groups[p.Set] = append(groups[p.Set], i)
	}
	out := make([][]int, 0, len(order))
	for _, set := range order {
		g := groups[set]
		sort.SliceStable(g, func(a, b int) bool { return places[g[b]].older(places[g[a]]) })
		out = append(out, g)
	}
	return out
}

// NewestVersions gives which of several paths stand in the newest of folders that differ by a version alone, such as
// agent-4.9 and agent-4.10. Versions are compared number by number.
func NewestVersions(names []string) (keep []bool, newest map[string]string) {
	keep = make([]bool, len(names))
	best := map[string]string{} // by the path with the version taken out
	key := func(name string) (group, version string) {
		parts := strings.Split(path.Dir(name), "/")
		for i, part := range parts {
			if m := forms().versionPart.FindStringSubmatch(part); m != nil &&
				(strings.Contains(m[2], ".") || m[1] != "" && m[1] != part) && m[2] != "" {
				if m[1] == "" && !strings.Contains(m[2], ".") {
					continue
				}
				return strings.Join(parts[:i], "/") + "/" + m[1] + "*" + m[3], m[2]
			}
		}
		return "", ""
	}
	for _, n := range names {
		if g, v := key(n); g != "" && (best[g] == "" || versionLess(best[g], v)) {
			best[g] = v
		}
	}
	newest = map[string]string{}
	for i, n := range names {
		g, v := key(n)
		keep[i] = g == "" || !versionLess(v, best[g])
		if !keep[i] {
			newest[n] = best[g]
		}
	}
	return keep, newest
}

func versionLess(a, b string) bool {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := 0; i < len(x) && i < len(y); i++ {
		// Numbers of any length: without leading zeros the longer is the larger.
		p, q := strings.TrimLeft(x[i], "0"), strings.TrimLeft(y[i], "0")
		if len(p) != len(q) {
			return len(p) < len(q)
		}
		if p != q {
			return p < q
		}
	}
	return len(x) < len(y)
}
