package collect

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"sync"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/late"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/window"
)

// Where a zone comes from.
const (
	zoneItem     = "the item"
	zoneSystem   = "the systems file"
	zoneOwn      = "the system's own setting"
	zoneSite     = "the site"
	zoneAssumed  = "assumed, since nothing names one"
	clockSamples = 3
)

// goodEnough is from which uncertainty on a clock is not measured again: the window grows by it on both sides, and each
// further command costs the system a shell.
const goodEnough = 500 * time.Millisecond

// noisy gives what runs a command whose output tells what is its own.
func noisy(r reach.Runner) func(context.Context, string, io.Writer, io.Writer) (int, error) {
	if n, ok := r.(reach.NoisyRunner); ok {
		return n.RunNoisy
	}
	return r.Run
}

// clockTimeout bounds measuring a clock: an answer that takes longer measures nothing.
const clockTimeout = 10 * time.Second

// clockCommand prints the time first, in seconds with a fraction where the system can, then what tells whether it is
// synchronised. It reads, and changes nothing.
const (
	dateCommand  = `date -u +%s.%N`
	clockCommand = dateCommand +
		`; (timedatectl show -p NTPSynchronized --value || chronyc -n tracking || ntpq -c rv) 2>/dev/null </dev/null | head -n 20`
)

// readClock finds out about a system's time. It never fails: what cannot be found out is said in the clock.
func readClock(ctx context.Context, s *site.System, st *site.Site, target reach.System) *round.Clock {
	c := &round.Clock{System: s.Name, At: time.Now().UTC().Truncate(time.Second)}
	setZone(ctx, c, s, st, target)
	if reach.Own(target) {
		c.Measured, c.How = true, "it is our own"
		return c
	}
	if typist, ok := target.(reach.Typist); ok {
		readDeviceClock(ctx, c, target, typist.Description())
		return c
	}
	if browse, ok := target.(reach.Browse); ok {
		c.How = "its answers tell no time"
		if told := browse.Web().Clock(); told.Known {
			c.Measured, c.How = true, "as its answers tell the time"
			c.Offset, c.Uncertainty = told.Offset.Round(time.Millisecond), told.Uncertainty.Round(time.Millisecond)
		}
		return c
	}
	runner, ok := target.(reach.Runner)
	if !ok {
		c.How = "it cannot run commands"
		return c
	}
	ctx, cancel := context.WithTimeout(ctx, clockTimeout)
	defer cancel()
	for i := range clockSamples {
		command := dateCommand
		if i == 0 {
			command = clockCommand
		}
		if reach.OnWindows(target) {
			command = reach.PowerShell(windowsClock)
		}
		m, err := measure(ctx, runner, command)
		if err != nil {
			if !c.Measured {
				c.How = transfer.Plain(err)
			}
			break
		}
		if !c.Measured || m.half < c.Uncertainty {
			c.Measured, c.Offset, c.Uncertainty, c.How = true, m.offset, m.half, "measured over the connection"
		}
		if i == 0 {
			c.Synchronised = m.synchronised
		}
		if m.coarse || m.half < goodEnough { // a clock that shows seconds only gets no better
			break
		}
	}
	c.Offset, c.Uncertainty = c.Offset.Round(time.Millisecond), max(c.Uncertainty.Round(time.Millisecond), time.Millisecond)
	return c
}

type measurement struct {
	offset, half time.Duration
	coarse       bool
	synchronised string
}

// answer takes the output of a clock's command and remembers when the time came. What a noisy shell prints before it is
// stepped over.
type answer struct {
	buf    bytes.Buffer
	at     time.Time // when the line with the time came
	there  time.Time
	coarse bool
	rest   int // where the output goes on behind it
}

func (a *answer) Write(b []byte) (int, error) {
	now := time.Now()
	if a.buf.Len() < 16<<10 {
		a.buf.Write(b)
	}
	for a.at.IsZero() {
		line, _, ok := bytes.Cut(a.buf.Bytes()[a.rest:], []byte("\n"))
		if !ok {
			break
		}
		a.rest += len(line) + 1
		if t, coarse, ok := parseDate(strings.TrimSpace(string(line))); ok {
			a.at, a.there, a.coarse = now, t, coarse
		}
	}
	return len(b), nil
}

// measure compares the system's clock with ours once. Its answer was made at some moment between asking and receiving.
func measure(ctx context.Context, runner reach.Runner, command string) (measurement, error) {
	var out answer
	asked := time.Now()
	_, err := noisy(runner)(ctx, command, &out, io.Discard)
	if out.at.IsZero() {
		if err == nil {
			err = errors.New("its date command does not tell the seconds since 1970")
		}
		return measurement{}, err
	}
	half := out.at.Sub(asked) / 2
	m := measurement{offset: out.there.Sub(asked.Add(half)), half: half, coarse: out.coarse,
		synchronised: synchronised(out.buf.String()[out.rest:])}
	if out.coarse {
		m.offset += time.Second / 2
		m.half += time.Second / 2
	}
	return m, nil
}

// parseDate reads "1773468720.123456789"; a system whose date knows no %N gives the seconds alone.
func parseDate(text string) (t time.Time, coarse, ok bool) {
	whole, part, _ := strings.Cut(text, ".")
	sec, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || sec < 1e8 || sec > 1<<40 {
		return time.Time{}, false, false
	}
	ns, err := strconv.ParseInt(part, 10, 64)
	if err != nil || len(part) != 9 {
		return time.Unix(sec, 0), true, true
	}
	return time.Unix(sec, ns), false, true
}

// synchronised reads what the time services say.
func synchronised(text string) string {
	switch {
	case strings.HasPrefix(text, "yes"), strings.Contains(text, "Leap status     : Normal"), strings.Contains(text, "sync_ntp"):
		return "yes"
	case strings.HasPrefix(text, "no"), strings.Contains(text, "Not synchronised"), strings.Contains(text, "sync_unspec"):
		return "no"
	}
	if leap := windowsLeap().FindStringSubmatch(text); leap != nil { // w32tm, whatever its language: 3 is not synchronised
		return map[bool]string{true: "no", false: "yes"}[leap[1] == "3" || strings.Contains(text, "Local CMOS Clock")]
	}
	return ""
}

// windowsLeap is the first line of what w32tm says: the leap indicator of NTP (RFC 5905).
var windowsLeap = late.Pattern(`^\s*[^:\n]+: ([0-3])\(`)

// setZone settles in which zone the system's logs are read: what the systems file says, else the system's own setting,
// else the site's zone.
func setZone(ctx context.Context, c *round.Clock, s *site.System, st *site.Site, target reach.System) {
	var own *time.Location
	if hasFiles(target) {
		own = ownZone(target)
	}
	if run, ok := target.(reach.Runner); ok && s.Zone == nil && reach.OnWindows(target) && !reach.Own(target) {
		own = windowsZone(ctx, run)
	}
	switch {
	case s.Zone != nil:
		c.Location, c.ZoneFrom = s.Zone, zoneSystem
	case own != nil:
		c.Location, c.ZoneFrom = own, zoneOwn
	case st.Zone != nil:
		c.Location, c.ZoneFrom = st.Zone, zoneSite
	default:
		c.Location, c.ZoneFrom = time.UTC, zoneAssumed
	}
	c.Zone = c.Location.String()
}

// hasFiles reports whether a system has the files of a host.
func hasFiles(target reach.System) bool {
	_, typed := target.(reach.Typist)
	_, browsed := target.(reach.Browse)
	_, pushed := target.(*reach.Pushed)
	return !typed && !browsed && !pushed
}

// maxZoneFile bounds what is read of a system's zone file, in bytes.
const maxZoneFile = 256 << 10

// ownZone reads the zone that a system is set to: by the name that its link leads to, else from the file itself
// (RFC 8536).
func ownZone(target reach.System) *time.Location {
	if reach.Own(target) && time.Local.String() != "Local" { // it was named for us alone
		return time.Local
	}
	if z := zoneOfFiles(target); z != nil || !reach.Own(target) {
		return z
	}
	return window.LocalZone()
}

func zoneOfFiles(target reach.System) *time.Location {
	fsys := target.FS()
	if link, err := fsys.ReadLink("etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(link, "zoneinfo/"); ok {
			if z, err := time.LoadLocation(strings.TrimPrefix(strings.TrimPrefix(name, "posix/"), "right/")); err == nil && name != "" {
				return z
			}
		}
	}
	if text, err := readHead(fsys, "etc/timezone", 256); err == nil {
		if name := strings.TrimSpace(string(text)); name != "" && name != "Local" {
			if z, err := time.LoadLocation(name); err == nil {
				return z
			}
		}
	}
	if data, err := readHead(fsys, "etc/localtime", maxZoneFile); err == nil && bytes.HasPrefix(data, []byte("TZif")) {
		if z, err := time.LoadLocationFromTZData("the system's own", data); err == nil {
			return z
		}
	}
	return nil
}

func readHead(fsys fs.FS, name string, limit int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, limit))
}

// restore gives a clock that was written down its zone again.
func restoreZone(ctx context.Context, c *round.Clock, s *site.System, st *site.Site, target reach.System) {
	if z, err := window.ParseZone(c.Zone); err == nil {
		c.Location = z
		return
	}
	at, from := c.Zone, c.ZoneFrom
	setZone(ctx, c, s, st, target) // a zone without a name
	c.Zone, c.ZoneFrom = at, from
}

// zone gives in which zone the system's logs are read, and where that comes from.
func (w *work) zone() (*time.Location, string) { return w.clock.Location, w.clock.ZoneFrom }

// window gives what is wanted of the logs of this system: the window as it is, and as the system's clock showed it (the
// clock may have been corrected since). A clock that could not be measured may be wrong by ClockSlack.
func (w *work) window() window.Window {
	base := w.req.Window
	if !base.Limited() {
		return base
	}
	base = base.Grow(w.req.Context)
	return w.clock.Widen(base)
}

// bootTime reads when the system was started, by its own clock; zero when it does not tell.
func (w *work) bootTime() time.Time {
	data, err := readHead(w.target.FS(), "proc/stat", 1<<20)
	if err != nil {
		return time.Time{}
	}
	_, rest, ok := bytes.Cut(data, []byte("\nbtime "))
	if !ok {
		return time.Time{}
	}
	text, _, _ := bytes.Cut(rest, []byte("\n"))
	sec, err := strconv.ParseInt(string(bytes.TrimSpace(text)), 10, 64)
	if err != nil {
		return time.Time{}
	}
	return time.Unix(sec, 0)
}

// clocks are those of the systems reached so far.
type clocks struct {
	mu     sync.Mutex
	byName map[string]*round.Clock
}

func (c *clocks) get(system string) *round.Clock {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.byName[system]
}

func (c *clocks) put(k *round.Clock) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byName == nil {
		c.byName = map[string]*round.Clock{}
	}
	c.byName[k.System] = k
}

// Clocks gives the clocks of the systems reached so far.
func (c *Collector) Clocks() []round.Clock { return c.clocks.list(c.Site) }

// list gives the clocks in the order of the systems file.
func (c *clocks) list(s *site.Site) []round.Clock {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []round.Clock
	for i := range s.Systems {
		if k := c.byName[s.Systems[i].Name]; k != nil {
			out = append(out, *k)
		}
	}
	return out
}
