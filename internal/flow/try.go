package flow

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/window"
)

// TryRequest is an ask to be tried on files that are there already.
type TryRequest struct {
	Ask     *ask.Ask
	Against string // a folder that stands for the top of a system or holds systems/NAME/files, or an archive of such
	Window  window.Given
	Zone    string
	Depth   ask.Depth
	Context time.Duration
}

// Tried is what came of it.
type Tried struct {
	Collected
	Window  window.Window
	Unused  []string // patterns that match nothing on any system
	Skipped int      // links and special files of an archive, which were not looked at
}

// TryAsk says what an ask would have taken from a folder or an archive. No system is touched, and no command runs.
func (a *App) TryAsk(ctx context.Context, q TryRequest) (*Tried, error) {
	zone := window.LocalZone()
	if q.Zone != "" {
		z, err := window.ParseZone(q.Zone)
		if err != nil {
			return nil, &fault.Error{Class: fault.Usage, Op: "--zone", Err: err}
		}
		zone = z
	}
	out := &Tried{Window: window.Window{Zone: zone}}
	if q.Window.Any() {
		w, err := window.Parse(q.Window, zone, a.Now().Truncate(time.Second))
		if err != nil {
			return nil, &fault.Error{Class: fault.Usage, Op: "the window", Err: err}
		}
		out.Window = w
	}
	dir, skipped, done, err := a.unpackedDir(ctx, q.Against)
	if err != nil {
		return nil, err
	}
	defer done()
	out.Skipped = skipped
	roots, err := systemsIn(dir)
	if err != nil {
		return nil, fault.Wrap("look into", q.Against, err)
	}
	s := &site.Site{Name: "tried", File: q.Against, Zone: zone}
	for _, name := range sortedKeys(roots) {
		s.Systems = append(s.Systems, site.System{Name: name, Roles: rolesOf(q.Ask), Ways: []string{"local"}, Zone: zone})
	}
	k := *q.Ask
	k.NoVitals = true // a folder tells nothing of a running system
	col := &collect.Collector{Request: collect.Request{Ask: &k, Site: s, Window: out.Window, Depth: q.Depth, Context: q.Context, Jobs: 2},
		Open: func(_ context.Context, sys *site.System) (reach.System, error) {
			return reach.NewLocal(roots[sys.Name]), nil
		}}
	cov, entries, err := col.DryRun(ctx)
	if err != nil {
		return nil, fault.Wrap("try the ask", "", err)
	}
	out.Collected = Collected{Coverage: cov, Entries: entries, Price: priceOf(entries, nil, a.Now())}
	out.Price.Loses = nil // these files rotate no more
	out.Unused = unused(q.Ask, entries)
	return out, nil
}

func sortedKeys[V any](m map[string]V) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// unpackedDir gives the folder to look into; an archive is unpacked for that, and removed by done.
func (a *App) unpackedDir(ctx context.Context, name string) (dir string, skipped int, done func(), err error) {
	info, err := os.Stat(name)
	if err != nil {
		return "", 0, nil, &fault.Error{Class: fault.Usage, Op: "look into", Target: name, Err: plainPath(err)}
	}
	if info.IsDir() {
		return name, 0, func() {}, nil
	}
	if dir, done, err = a.Home.Temp(); err != nil {
		return "", 0, nil, fault.Wrap("make a folder for", name, err)
	}
	if skipped, err = archive.Unpack(ctx, name, dir); err != nil {
		done()
		if errors.Is(err, context.Canceled) {
			return "", 0, nil, &fault.Error{Class: fault.Interrupted, Op: "unpack", Err: errors.New("interrupted")}
		}
		return "", 0, nil, &fault.Error{Class: fault.Usage, Op: "unpack", Target: name, Err: err}
	}
	return dir, skipped, done, nil
}

// systemsIn finds the tops of systems in a folder: those of an archive of Envask or of a round's folder, else the folder
// itself is one.
func systemsIn(dir string) (map[string]string, error) {
	for range 2 { // an archive has one top folder
		roots := map[string]string{}
		for _, pattern := range []string{"systems/*/files", "raw/*/files", "*/files"} {
			found, err := filepath.Glob(filepath.Join(dir, filepath.FromSlash(pattern)))
			if err != nil {
				return nil, err
			}
			for _, f := range found {
				if info, err := os.Stat(f); err == nil && info.IsDir() {
					roots[filepath.Base(filepath.Dir(f))] = f
				}
			}
			if len(roots) > 0 {
				return roots, nil
			}
		}
		entries, err := os.ReadDir(dir)
		if err != nil {
			return nil, err
		}
		if len(entries) != 1 || !entries[0].IsDir() {
			break
		}
		if inner, err := os.ReadDir(filepath.Join(dir, entries[0].Name())); err != nil ||
			!slices.ContainsFunc(inner, func(e os.DirEntry) bool { return e.Name() == "systems" || e.Name() == "raw" }) {
			break
		}
		dir = filepath.Join(dir, entries[0].Name())
	}
	return map[string]string{"files": dir}, nil
}

func rolesOf(k *ask.Ask) []string {
	var roles []string
	for _, it := range k.Items {
		for _, r := range it.Of {
			if !slices.Contains(roles, r) {
				roles = append(roles, r)
			}
		}
	}
	return roles
}

// unused gives the patterns that match nothing.
func unused(k *ask.Ask, entries []round.Entry) []string {
	out := []string{}
	for _, it := range k.Items {
		f, ok := it.Spec.(ask.Files)
		if !ok {
			continue
		}
		for _, p := range f.Patterns {
			if !slices.ContainsFunc(entries, func(e round.Entry) bool {
				any, _ := ask.FillPath(p, func(string) (string, error) { return "", nil })
				match, err := doublestar.Match(reach.Name(any), reach.Name(e.Source))
				if any != p { // what it is on a system shows in what was taken
					return e.Item == it.ID
				}
				return e.Item == it.ID && err == nil && match
			}) {
				out = append(out, it.ID+": "+p)
			}
		}
	}
	return out
}
