package ask

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/device"
	"envask/internal/keyfile"
	"envask/internal/late"
)

// DefaultTimeout is how long a command may take when the ask does not say.
const DefaultTimeout = time.Minute

// DefaultMakeTimeout is how long a command that makes files may take when the ask does not say.
const DefaultMakeTimeout = time.Hour

// DefaultMaxOutput is how much of a command's output is kept when the ask does not say, in bytes.
const DefaultMaxOutput = 64 << 20

// Run is an item that runs commands and keeps their output, or what they make.
type Run struct {
	Commands   []string // shell command lines, with placeholders
	Single     bool     // given as one command, not as a list: decides the name of the output file
	Timeout    time.Duration
	Max        int64          // bytes of output kept per command; the newest are kept
	TimeFormat string         // of {from} and {to}, a name of Times
	Zone       *time.Location // of {from} and {to}; nil means the system's
	Makes      []string       // patterns of the files that the command makes; empty: its output is what counts
	Cut        string         // "none" (default), "lines" or "files": how what it makes is cut to the window
	Keep       bool           // what it makes in our folder stays there
	Remove     bool           // what it makes elsewhere is removed there once it was taken
	Space      int64          // bytes that must be free there before it runs
	Fine       []int          // exit codes that are fine, also with an empty output
	Answers    []device.Reply // what is answered in the middle of a command, on a device
	Into       string         // all outputs go into one file of this name, with placeholders; "" for a file each
	Most       time.Duration  // how long a command on a device may take in all; Timeout is how long it may be silent
	List       *Listing       // how what it makes on a device is listed; nil: as files
	RemoveBy   *device.Step   // how what was taken is removed there
	Arrives    *Person        // what the command makes the device push into the inbox; nil: nothing
}

// Listing is a command of a device whose output names files.
type Listing struct {
	Type string
	Like *regexp.Regexp // each match is a file: groups "name" and "size", in bytes
}

// DefaultMost is how long a command on a device may take in all when the ask does not say.
const DefaultMost = time.Hour

// DefaultArrival is that where the command makes the device push.
const DefaultArrival = 10 * time.Minute

// Kind is the key that chooses this kind.
func (Run) Kind() string { return "run" }

// Sheet says which commands would run.
func (r Run) Sheet() []string {
	var lines []string
	for _, c := range r.Commands {
		lines = append(lines, fmt.Sprintf("run %s (at most %s)", c, short(r.Timeout)))
	}
	for _, a := range r.Answers {
		lines = append(lines, "on a device, answer "+a.String())
	}
	if r.List != nil {
		lines = append(lines, "on a device, type "+r.List.Type+" to see which files there are")
	}
	if r.RemoveBy != nil {
		lines = append(lines, "on a device, "+r.RemoveBy.String()+" for each file that was taken and was not there before")
	}
	for _, p := range r.Makes {
		after := ", and leave it there"
		switch {
		case r.RemoveBy != nil:
			after = ""
		case strings.HasPrefix(p, "{folder}/") && !r.Keep:
			after = ", and remove it there"
		case !strings.HasPrefix(p, "{folder}/") && r.Remove:
			after = ", AND REMOVE IT THERE: of what matches, the files that were not there before the command ran"
		}
		if r.Cut != "none" {
			after = map[string]string{"lines": ", cut to the window", "files": ", where it overlaps the window"}[r.Cut] + after
		}
		lines = append(lines, "take what it makes: "+p+after)
	}
	if len(r.Makes) > 0 && r.List == nil {
		lines = append(lines, "make a folder of ours for it below /var/tmp or /tmp, and remove it afterwards")
	}
	if a := r.Arrives; a != nil && a.Folder != "" {
		lines = append(lines, "take what it puts into a folder of this machine, "+a.Folder+", while it runs: "+a.Expect.String())
	} else if a != nil {
		lines = append(lines, "receive what it pushes, on an address of yours, while it runs: "+a.Expect.String())
	}
	if r.Space > 0 {
		lines = append(lines, "only where "+humanize.IBytes(uint64(r.Space))+" are free")
	}
	return lines
}

func readRun(m *keyfile.Map) Spec {
	r := Run{Max: m.Size("max", DefaultMaxOutput)}
	commands := m.Strings("run")
	makes := m.Strings("makes")
	for i, v := range commands {
		if i == MaxItems {
			v.Problem("run: more than %d commands", MaxItems)
			break
		}
		if strings.TrimSpace(v.Text) == "" || strings.ContainsRune(v.Text, 0) {
			v.Problem("run: expected a command line, found %q", v.Text)
		}
		checkFields(v, len(makes) > 0)
		r.Commands = append(r.Commands, v.Text)
	}
	if len(commands) == 0 {
		m.Problem("run: names no command")
	}
	r.Single = len(commands) == 1
	for _, v := range makes {
		if rest, ok := strings.CutPrefix(v.Text, "{folder}/"); ok {
			if strings.Contains("/"+rest+"/", "/../") {
				v.Problem("makes: %q must not contain ..", v.Text)
			}
		} else {
			checkPattern("makes", v)
		}
		r.Makes = append(r.Makes, v.Text)
	}
	if len(makes) > 0 && len(commands) > 1 {
		m.Problem("makes: goes with one command; make an item of each")
	}
	r.Timeout = m.Duration("timeout", map[bool]time.Duration{false: DefaultTimeout, true: DefaultMakeTimeout}[len(makes) > 0])
	if r.Cut = m.Choice("cut", "none", "lines", "files"); r.Cut != "none" && len(makes) == 0 {
		m.Problem("cut: goes with files: or makes:")
	}
	r.Keep, r.Remove, r.Space = m.Bool("keep", false), m.Bool("remove", false), m.Size("space", 0)
	if len(makes) == 0 && (r.Keep || r.Remove || r.Space > 0) {
		m.Problem("keep:, remove: and space: go with makes:")
	}
	for _, v := range m.Strings("allow-exit") {
		n, err := strconv.Atoi(v.Text)
		if err != nil || n < 0 || n > 255 {
			v.Problem("allow-exit: expected an exit code from 0 to 255, found %q", v.Text)
		}
		r.Fine = append(r.Fine, n)
	}
	r.TimeFormat, r.Zone = timeKeys(m, commands)
	readTyped(m, &r)
	return r
}

// intoField is a placeholder of the name of the one file for all outputs.
var intoField = late.Pattern(`\{(date|system|case|member)\}`)

// inboxField is what looks like a placeholder of the inbox.
var inboxField = late.Pattern(`\{inbox\.([^{}]*)\}`)

// readTyped reads the keys that matter on devices.
func readTyped(m *keyfile.Map, r *Run) {
	most := DefaultMost
	if m.Has("arrives") {
		most = DefaultArrival
	}
	r.Answers, r.Most = device.ReadAnswers(m), m.Duration("at-most", most)
	if v := m.Value("into"); v.Set() {
		rest := intoField().ReplaceAllString(v.Text, "x")
		if strings.ContainsAny(rest, `/\{}`) || strings.HasPrefix(rest, ".") || len(v.Text) > 200 || len(r.Makes) > 0 ||
			strings.ContainsFunc(rest, func(c rune) bool { return c < ' ' }) {
			v.Problem("into: expected a file name (placeholders: {date}, {system}, {case}, {member}), without makes:; found %q", v.Text)
		}
		r.Into = v.Text
	}
	if lm := m.Map("list"); lm != nil {
		r.List = &Listing{Type: lm.Need("type").Text, Like: pattern(lm.Need("like"), "like")}
		if l := r.List.Like; l != nil && (l.SubexpIndex("name") < 0 || l.SubexpIndex("size") < 0) {
			lm.Problem("list: like: needs the groups (?P<name>…) and (?P<size>…)")
		}
		lm.Done()
	}
	if m.Has("arrives") { // known to every item, see kinds
		if p, ok := readArrives(m).(Person); ok {
			r.Arrives = &p
		}
		if len(r.Commands) != 1 || len(r.Makes) > 0 || r.Into != "" {
			m.Problem("arrives: goes with one command, without makes: and into:")
		}
	}
	for _, v := range m.Strings("run") {
		for _, f := range inboxField().FindAllStringSubmatch(v.Text, -1) {
			switch {
			case r.Arrives == nil:
				v.Problem("%s goes with arrives:", f[0])
			case !slices.Contains(InboxFields, f[1]):
				v.Problem("%s is no placeholder; there are {inbox.%s}", f[0], strings.Join(InboxFields, "}, {inbox."))
			}
		}
	}
	r.RemoveBy = device.ReadStep(m, "remove-by")
	if r.RemoveBy != nil && !strings.Contains(r.RemoveBy.Type, "{file}") {
		m.Problem("remove-by: type: needs {file} in it")
	}
	if len(r.Makes) == 0 && (r.List != nil || r.RemoveBy != nil) {
		m.Problem("list: and remove-by: go with makes:")
	}
}
