package stamp

import (
	"bytes"
	"sync"
	"time"
)

// abbreviations are the zone abbreviations that are read, with their offset in minutes east of UTC. Some mean different
// zones in different countries; then the zone that the file's system is in decides, see zoneOf.
var abbreviations = map[string]int{
	"UTC": 0, "GMT": 0, "UT": 0, "WET": 0, "WEST": 60, "BST": 60, "CET": 60, "MEZ": 60, "CEST": 120, "MESZ": 120, "EET": 120,
	"EEST": 180, "MSK": 180, "TRT": 180,
	"AZOT": -60, "AZOST": 0, "SAST": 120, "CAT": 120, "WAT": 60, "EAT": 180, "IST": 330, "PKT": 300, "GST": 240, "WIB": 420, "ICT": 420,
	"HKT": 480, "SGT": 480, "PHT": 480,
	"AWST": 480, "JST": 540, "KST": 540, "ACST": 570, "ACDT": 630, "AEST": 600, "AEDT": 660, "NZST": 720, "NZDT": 780,
	"NST": -210, "NDT": -150, "AST": -240, "ADT": -180, "EST": -300, "EDT": -240, "CST": -360, "CDT": -300, "MST": -420,
	"MDT": -360, "PST": -480, "PDT": -420,
	"AKST": -540, "AKDT": -480, "HST": -600, "BRT": -180, "ART": -180, "CLT": -240, "CLST": -180, "COT": -300, "PET": -300,
}

// twofold are abbreviations that are in use for zones with different offsets.
var twofold = map[string]bool{"BST": true, "IST": true, "CST": true, "CDT": true, "AST": true, "EST": true, "MST": true,
	"GST": true, "PST": true, "WST": true}

// longNames are zone names that are written out, as Windows and Java do.
var longNames = []struct {
	text string
	abbr string
}{
	{"Coordinated Universal Time", "UTC"}, {"Greenwich Mean Time", "GMT"}, {"Western European Time", "WET"},
	{"Western European Standard Time", "WET"},
	{"Western European Summer Time", "WEST"}, {"Central European Time", "CET"}, {"Central European Standard Time", "CET"},
	{"Central European Summer Time", "CEST"},
	{"Eastern European Time", "EET"}, {"Eastern European Standard Time", "EET"}, {"Eastern European Summer Time", "EEST"},
	{"British Summer Time", "BST"},
	{"Eastern Standard Time", "EST"}, {"Eastern Daylight Time", "EDT"}, {"Central Standard Time", "CST"}, {"Central Daylight Time", "CDT"},
	{"Mountain Standard Time", "MST"}, {"Mountain Daylight Time", "MDT"}, {"Pacific Standard Time", "PST"},
	{"Pacific Daylight Time", "PDT"}, {"Japan Standard Time", "JST"},
}

// zoneAt reads the zone behind a clock and gives how many bytes it took.
func (s *Stamp) zoneAt(b []byte) int {
	if len(b) == 0 {
		return 0
	}
	blank := 0
	if b[0] == ' ' || b[0] == '\t' {
		blank = 1
	}
	rest := b[blank:]
	if len(rest) == 0 {
		return 0
	}
	used := 0
	switch c := rest[0]; {
	case c == '+' || c == '-':
		used = s.offsetAt(rest, blank > 0)
	case c == 0xe2 && bytes.HasPrefix(rest, []byte("\u2212")):
		if used = s.offsetAt(append([]byte{'-'}, rest[3:min(len(rest), 10)]...), blank > 0); used > 0 {
			used += 2
		}
	case (c == 'Z' || c == 'z') && (len(rest) == 1 || !wordByte(rest[1]) && !isDigit(rest[1])):
		s.zone, s.offset, used = zoneOffset, 0, 1
	case c == '(' || c == '[':
		used = s.bracketZone(rest, c)
	case isUpper(c):
		used = s.nameAt(rest)
	}
	if used == 0 {
		return 0
	}
	used += blank
	return used + zoneComment(b[used:])
}

// zoneComment steps over a zone's name behind its offset: "+0000 (UTC)", "+01:00[Europe/Lisbon]".
func zoneComment(b []byte) int {
	i := 0
	if len(b) > 1 && b[0] == ' ' && b[1] == '(' {
		i = 1
	}
	if i >= len(b) || b[i] != '(' && b[i] != '[' {
		return 0
	}
	end := byte(')')
	if b[i] == '[' {
		end = ']'
	}
	n := bytes.IndexByte(b[i:], end)
	if n < 2 || n > 40 {
		return 0
	}
	name := b[i+1 : i+n]
	if _, known := abbreviations[string(name)]; known || bytes.IndexByte(name, '/') > 0 && location(string(name)) != nil {
		return i + n + 1
	}
	return 0
}

func (s *Stamp) bracketZone(b []byte, open byte) int {
	end := byte(')')
	if open == '[' {
		end = ']'
	}
	n := bytes.IndexByte(b, end)
	if n < 3 || n > 40 {
		return 0
	}
	inner := Stamp{}
	if used := inner.nameAt(b[1:n]); used != n-1 {
		return 0
	}
	s.zone, s.offset, s.abbr = inner.zone, inner.offset, inner.abbr
	return n + 1
}

// offsetAt reads "+01:00", "+0100", "+01". Behind a blank two digits alone could be anything.
func (s *Stamp) offsetAt(b []byte, blank bool) int {
	n := digits(b[1:])
	h, m, used := 0, 0, 0
	switch {
	case n >= 6: // "+010000": with seconds, which no zone of today has
		return 0
	case n == 4:
		h, _ = number(b[1:], 2)
		m, _ = number(b[3:], 2)
		used = 5
	case (n == 2 || n == 1) && len(b) > n+3 && b[n+1] == ':' && digits(b[n+2:]) == 2:
		h, _ = number(b[1:], n)
		m, _ = number(b[n+2:], 2)
		used = n + 4
	case n == 2 && !blank:
		h, _ = number(b[1:], 2)
		used = 3
	default:
		return 0
	}
	if h > 14 || m > 59 || m%15 != 0 {
		return 0
	}
	s.zone, s.offset = zoneOffset, h*3600+m*60
	if b[0] == '-' {
		s.offset = -s.offset
	}
	return used
}

// nameAt reads a zone's abbreviation or name.
func (s *Stamp) nameAt(b []byte) int {
	n := 0
	for n < len(b) && n < 40 && isLetter(b[n]) {
		n++
	}
	if n < len(b) && b[n] == '/' && n >= 3 {
		return s.regionAt(b)
	}
	if n < len(b) && b[n] == ' ' && n > 4 {
		if used := s.longNameAt(b); used > 0 {
			return used
		}
	}
	if n < 2 || n > 5 || n < len(b) && goesOnAsWord(b[n]) {
		return 0
	}
	name := string(b[:n])
	if _, ok := abbreviations[name]; !ok {
		return 0
	}
	if name == "UTC" || name == "GMT" {
		if used := s.utcPlusAt(b[n:]); used > 0 {
			return n + used
		}
	}
	s.setAbbr(name)
	return n
}

// longNameAt reads a zone's name of several words.
func (s *Stamp) longNameAt(b []byte) int {
	for _, l := range longNames {
		if bytes.HasPrefix(b, []byte(l.text)) {
			s.setAbbr(l.abbr)
			return len(l.text)
		}
	}
	return 0
}

// goesOnAsWord says that letters before this sign are the begin of a word, a name or a key, and no zone.
func goesOnAsWord(c byte) bool {
	return isDigit(c) || c == '_' || c >= 0x80 || c == '.' || c == '=' || c == '/'
}

// utcPlusAt reads the offset behind "UTC" or "GMT", as "+1" or " +0".
func (s *Stamp) utcPlusAt(b []byte) int {
	blank := 0
	if len(b) > 1 && b[0] == ' ' {
		blank = 1
	}
	if len(b) <= blank || b[blank] != '+' && b[blank] != '-' {
		return 0
	}
	if used := s.utcPlus(b[blank:]); used > 0 {
		return blank + used
	}
	return 0
}

// utcPlus reads the offset of "UTC+1" or "GMT+01:00".
func (s *Stamp) utcPlus(b []byte) int {
	if used := s.offsetAt(b, false); used > 0 {
		return used
	}
	if h, n := shortNumber(b[1:]); n > 0 && h <= 14 && (len(b) == n+1 || !isDigit(b[n+1]) && b[n+1] != ':') {
		s.zone, s.offset = zoneOffset, h*3600
		if b[0] == '-' {
			s.offset = -s.offset
		}
		return n + 1
	}
	return 0
}

func (s *Stamp) setAbbr(name string) {
	if minutes := abbreviations[name]; !twofold[name] {
		s.zone, s.offset = zoneOffset, minutes*60
		return
	}
	s.zone, s.abbr = zoneAbbr, name
}

// regionAt reads "Europe/Lisbon".
func (s *Stamp) regionAt(b []byte) int {
	n := 0
	for n < len(b) && n < 40 && (isLetter(b[n]) || b[n] == '/' || b[n] == '_' || b[n] == '-') {
		n++
	}
	if name := string(b[:n]); location(name) != nil {
		s.zone, s.abbr = zoneName, name
		return n
	}
	return 0
}

var zones struct {
	sync.Mutex
	byName map[string]*time.Location
}

// location loads a zone by name, once; nil when there is none.
func location(name string) *time.Location {
	zones.Lock()
	defer zones.Unlock()
	if l, ok := zones.byName[name]; ok {
		return l
	}
	if zones.byName == nil {
		zones.byName = map[string]*time.Location{}
	}
	l, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		l = nil
	}
	if len(zones.byName) < 1000 { // names from foreign files must not pile up
		zones.byName[name] = l
	}
	return l
}

// zoneOf gives the location that an abbreviation of two meanings has in the zone of the system: when that zone uses the
// abbreviation, its own; else the commoner one, with certain false.
func zoneOf(abbr string, home *time.Location, year int) (offset int, certain bool) {
	if home != nil {
		for _, month := range []time.Month{time.January, time.July} {
			if name, off := time.Date(year, month, 1, 12, 0, 0, 0, home).Zone(); name == abbr {
				return off, true
			}
		}
	}
	return abbreviations[abbr] * 60, false
}
