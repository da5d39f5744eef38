package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sort"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/round"
)

// vitalsName is the place of a system's vitals in a round and in an archive.
const vitalsName = "vitals.json"

// vitalsTimeout bounds reading a system's vitals.
const vitalsTimeout = 45 * time.Second

// vitalsScript reads a system's basic state with what is there; also BusyBox does. Of processes it takes names alone: their
// arguments may hold secrets.
const vitalsScript = `LC_ALL=C; export LC_ALL
s() { echo; echo "== $1 =="; }
s release; cat /etc/os-release 2>/dev/null || cat /usr/lib/os-release 2>/dev/null || sw_vers 2>/dev/null
s kernel; uname -srm
s name; hostname 2>/dev/null || uname -n
s uptime; cat /proc/uptime 2>/dev/null
s load; cat /proc/loadavg 2>/dev/null
s processors; grep -c '^processor' /proc/cpuinfo 2>/dev/null || getconf _NPROCESSORS_ONLN 2>/dev/null
s memory; cat /proc/meminfo 2>/dev/null
s disks; df -Pk 2>/dev/null || df -k 2>/dev/null
s addresses; ip -o addr 2>/dev/null || ifconfig 2>/dev/null
s locale; echo "LANG=$LANG"; cat /etc/default/locale /etc/locale.conf 2>/dev/null
s top; ps -eo pcpu,rss,comm 2>/dev/null || ps -o rss,comm 2>/dev/null
s dpkg; tail -n 400 /var/log/dpkg.log 2>/dev/null
s rpm; rpm -qa --last 2>/dev/null | head -n 10
s end`

// Vitals is the basic state of one system. What could not be found out is missing.
type Vitals struct {
	System     string            `json:"system"`
	At         time.Time         `json:"at"` // by our clock
	OS         string            `json:"os,omitempty"`
	Kernel     string            `json:"kernel,omitempty"`
	Host       string            `json:"host,omitempty"`
	Uptime     int64             `json:"uptime_seconds,omitempty"`
	Load       []float64         `json:"load,omitempty"` // over 1, 5 and 15 minutes
	Processors int               `json:"processors,omitempty"`
	Memory     *Memory           `json:"memory,omitempty"`
	Disks      []Disk            `json:"disks,omitempty"`
	Addresses  []string          `json:"addresses,omitempty"`
	Clock      *round.Clock      `json:"clock,omitempty"`
	Locale     string            `json:"locale,omitempty"`
	Top        []Process         `json:"top,omitempty"`
	Packages   []string          `json:"packages_changed,omitempty"` // newest first, as the system's package log tells
	Values     map[string]string `json:"values,omitempty"`           // of the ask
	Lacks      []string          `json:"lacks,omitempty"`            // what could not be found out
}

// Memory is in bytes.
type Memory struct {
	Total     int64 `json:"total"`
	Available int64 `json:"available"`
	SwapTotal int64 `json:"swap_total"`
	SwapFree  int64 `json:"swap_free"`
}

// Disk is one mounted file system, in bytes.
type Disk struct {
	Mount string `json:"mount"`
	Total int64  `json:"total"`
	Free  int64  `json:"free"`
}

// Process is one of the busiest.
type Process struct {
	Name     string  `json:"name"`
	CPU      float64 `json:"cpu_percent"`
	Resident int64   `json:"resident"` // bytes
}

// takeVitals reads the basic state of a system, and the values that the ask wants from files.
func takeVitals(ctx context.Context, w *work) error {
	e := round.Entry{Source: ask.Vitals, Name: vitalsName}
	if had, ok := w.done.get(e.Source); ok {
		w.add(had)
		return w.failure()
	}
	if w.dryRun {
		e.State, e.Reason = round.Taken, "would be read"
		w.add(e)
		return w.failure()
	}
	v := Vitals{System: w.sys.Name, At: time.Now().UTC().Truncate(time.Second), Clock: w.clock}
	run, ok := w.target.(reach.Runner)
	var failure error
	typist, typed := w.target.(reach.Typist)
	switch {
	case typed:
		failure = v.readDevice(ctx, w.target, typist.Description())
		if ctx.Err() != nil || errors.Is(failure, reach.ErrLost) {
			return failure
		}
		ok = failure == nil
	case !ok:
		v.Lacks = append(v.Lacks, "it cannot run commands, so that only values of files are there")
	default:
		out, err := vitalsOf(ctx, run, reach.OnWindows(w.target))
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if gone := lostBy(w.target, err); err != nil && gone != nil {
			return gone
		}
		if failure = err; err == nil {
			v.Parse(out)
		}
	}
	if !typed {
		v.readValues(ctx, w)
	}
	if failure != nil && len(v.Values) == 0 {
		e.Name, e.State, e.Reason = "", stateOf(failure), transfer.Plain(failure)
		if typed {
			e.State = round.Skipped
		}
		w.add(e)
		return w.failure()
	}
	if !ok && len(v.Values) == 0 {
		e.Name, e.State, e.Reason = "", round.Skipped, "this system cannot run commands"
		w.add(e)
		return w.failure()
	}
	if err := w.keepJSON(v, &e); err != nil {
		return err
	}
	e.State = round.Taken
	w.add(e)
	return w.failure()
}

func vitalsOf(ctx context.Context, run reach.Runner, windows bool) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, vitalsTimeout)
	defer cancel()
	out := transfer.Head{Room: 1 << 20}
	script := posix.Shell(vitalsScript)
	if windows {
		script = reach.PowerShell(windowsVitals)
	}
	exit, err := noisy(run)(ctx, script, &out, io.Discard)
	if err == nil && !vitalsWhole(out.String()) {
		err = fmt.Errorf("it has no shell that tells them (exit code %d)", exit)
	}
	return out.String(), err
}

// keepJSON writes a document down under the entry's name.
func (w *work) keepJSON(v any, e *round.Entry) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	whole := w.part()
	defer os.Remove(whole) // fails harmlessly after the rename
	got, err := transfer.Keep(append(data, '\n'), time.Time{}, w.part(), whole)
	if err != nil {
		return err
	}
	w.count(got.Bytes)
	e.Size, e.Bytes, e.SHA256, e.ModTime = got.Size, got.Bytes, got.SHA256, time.Now().UTC().Truncate(time.Second)
	return w.settlePlace(whole, e.Name, e)
}

// maxValue bounds a value beside the vitals, in bytes.
const maxValue = 200

// valueHead is how much of a file is looked at for a value, in bytes.
const valueHead = 1 << 20

// readValues reads the values that the ask wants from files: the newest file that holds one counts.
func (v *Vitals) readValues(ctx context.Context, w *work) {
	spec := w.item.Spec.(ask.VitalsSpec)
	for _, want := range spec.Values {
		if !want.Wanted(w.sys.Roles) || ctx.Err() != nil {
			continue
		}
		text, err := valueOf(ctx, w, want)
		if err != nil {
			v.Lacks = append(v.Lacks, want.ID+": "+transfer.Plain(err))
			continue
		}
		if v.Values == nil {
			v.Values = map[string]string{}
		}
		v.Values[want.ID] = text[:min(len(text), maxValue)]
	}
}

func valueOf(ctx context.Context, w *work, want ask.Value) (string, error) {
	var found []match
	x := &expander{ctx: ctx, fsys: w.target.FS(), seen: map[string]bool{}, problem: func(string, error) {},
		found: func(name string, info os.FileInfo) { found = append(found, match{name: name, info: info}) }}
	if err := x.expand(w.at(want.File)); err != nil {
		return "", err
	}
	sort.Slice(found, func(i, j int) bool { return found[i].info.ModTime().After(found[j].info.ModTime()) })
	links := &resolver{fsys: w.target.FS(), folders: map[string]folder{}}
	err := errors.New("no file matches " + want.File)
	for _, m := range found {
		e := round.Entry{Source: source(m.name)}
		name, ok := admit(w, ask.Files{Patterns: []string{w.at(want.File)}}, links, m, &e)
		if !ok {
			err = errors.New(e.Reason)
			continue
		}
		data, e2 := readHead(w.target.FS(), name, valueHead)
		if e2 != nil {
			err = e2
			continue
		}
		if got := want.Like.FindSubmatch(data); got != nil {
			return string(got[1][:min(len(got[1]), valueHead)]), nil
		}
		err = errors.New("no file that matches " + want.File + " holds it")
	}
	return "", err
}
