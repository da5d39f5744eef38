package console

import (
	"regexp"
	"sync"
)

// waits are ends of lines at which a device waits for a key, in the usual variants, and the key that it gets.
type waits struct {
	When *regexp.Regexp
	Key  string
	Line bool // a whole line that the key is the answer to, which stays
}

// pagers are those in the middle of an output. They are held against the line that a device stopped at, and against nothing else.
var pagers = sync.OnceValue(func() []waits {
	return []waits{
		{When: regexp.MustCompile(`(?i)^\W*\(END\)\W*$`), Key: "q"},
		{When: regexp.MustCompile(`(?i)-+ ?\(?more\b[^\n]{0,40}$`), Key: " "},
		{When: regexp.MustCompile(`(?i)^\W{0,6}more\W{0,6}$`), Key: " "},
		{When: regexp.MustCompile(`(?i)\b(press|hit|type) (the )?(space ?bar|<?space>?)\b[^\n]*$`), Key: " "},
		{When: regexp.MustCompile(`(?i)\b(press|hit|type) (the )?[<'"\[(]*(enter|return|cr)[>'"\])]*( key)?\b[^\n]*$`), Key: "\r"},
		{When: regexp.MustCompile(`(?i)\b(press|hit) any key\b[^\n]*$`), Key: " "},
		{When: regexp.MustCompile(`(?i)\bq(uit)? (to|for) quit\b[^\n]*$|\b(to|and) quit[^\n]{0,20}\bto continue\b[^\n]*$`), Key: " "},
		{When: regexp.MustCompile(`(?i)^(lines|page) \d+[-/ ]+\d+[^\n]*$`), Key: " "},
		{When: regexp.MustCompile(`^:$`), Key: " "},
	}
})

// pageKey gives the key that turns the page where a line is one of the usual pagers. A line that asks before something is done is none,
// whatever key it names: only the answers of the ask are for it.
func pageKey(line string) (key string, ok bool) {
	if warns().MatchString(line) {
		return "", false
	}
	for _, p := range pagers() {
		if p.When.MatchString(line) {
			return p.Key, true
		}
	}
	return "", false
}

// warns are words of what is not only shown: "Press Enter to confirm the deletion".
var warns = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(confirm|delet|eras|overwrit|reload|reboot|restart|format|reset|remov|wip|shut ` +
		`?down|power|install|upgrad|commit|sav(e|ing)\b)`)
})

// greetings are what a device says before it lets anybody in.
var greetings = sync.OnceValue(func() []*regexp.Regexp {
	return []*regexp.Regexp{
		regexp.MustCompile(`(?i)\b(press|hit|type) (the )?[<'"\[(]*(enter|return|cr|any)[>'"\])]*( key)?\b`),
	}
})

// The questions of a login, and how it says no.
var (
	asksUser     = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)(log ?in|user ?(name|id)?|account)\s*[:>]\s*$`) })
	asksPassword = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)pass(word|code|phrase)[^\n]*[:>]\s*$`) })
	saysNo       = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)\b(incorrect|denied|fail(ed|ure)?|invalid|bad (password|login|secret)s?|refused|wrong|not ` +
			`authori[sz]ed)\b`)
	})
	promptEnd = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[>#$%:\])»~]\s*$`) })
)
