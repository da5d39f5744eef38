package flow

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
)

// VitalsView compares the basic state of the systems of a round.
type VitalsView struct {
	Round   string           `json:"round"`
	Systems []collect.Vitals `json:"systems"`
	Facts   []Fact           `json:"facts"`
}

// Fact is one row of the comparison: what each system says, in the order of Systems.
type Fact struct {
	Name    string   `json:"name"`
	Values  []string `json:"values"`
	Differs bool     `json:"differs"`          // systems that should be alike are not
	Heeds   []bool   `json:"heeds,omitempty"`  // values that need a look by themselves: a full disk, a high load
	Doubts  string   `json:"remark,omitempty"` // why
	alike   bool     // systems are compared in this fact
}

// Vitals reads and compares the vitals of a round.
func (a *App) Vitals(c *casefile.Case, id string, systems []string) (*VitalsView, error) {
	r, err := a.ShowRound(c, id)
	if err != nil {
		return nil, err
	}
	v := &VitalsView{Round: id, Systems: []collect.Vitals{}, Facts: []Fact{}}
	err = r.Entries(func(e round.Entry) error {
		if e.Item != ask.Vitals || e.Name == "" || len(systems) > 0 && !contains(systems, e.System) {
			return nil
		}
		one, err := readVitals(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)), e.System)
		v.Systems = append(v.Systems, one)
		return err
	})
	if err != nil {
		return nil, fault.Wrap("read the round", id, err)
	}
	if len(v.Systems) == 0 {
		return nil, fault.New(fault.Usage, "show", id, "the round has no vitals",
			"an ask with vitals: no leaves them out; envask collect --item vitals takes them")
	}
	v.arrange(r.Coverage)
	return v, nil
}

func readVitals(file, system string) (one collect.Vitals, err error) {
	data, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(data, &one)
	}
	if err != nil {
		return one, fmt.Errorf("the vitals of %s: %w", system, err)
	}
	return one, nil
}

// arrange puts the systems in the order of the systems file, as the coverage has it, and compares them.
func (v *VitalsView) arrange(table round.Coverage) {
	place := map[string]int{}
	for i, cell := range table {
		if _, seen := place[cell.System]; !seen {
			place[cell.System] = i
		}
	}
	sort.SliceStable(v.Systems, func(i, j int) bool { return place[v.Systems[i].System] < place[v.Systems[j].System] })
	v.compare()
}

func contains(list []string, x string) bool {
	for _, l := range list {
		if l == x {
			return true
		}
	}
	return false
}

// compare makes the rows. What is alike on similar systems (version, kernel, locale, values of the ask) is marked where it
// differs; what differs by nature is marked by what it says.
func (v *VitalsView) compare() {
	text := func(name string, alike bool, of func(collect.Vitals) string) {
		f := Fact{Name: name, alike: alike}
		for _, s := range v.Systems {
			f.Values = append(f.Values, of(s))
		}
		v.add(f)
	}
	text("system", true, func(s collect.Vitals) string { return s.OS })
	text("kernel", true, func(s collect.Vitals) string { return s.Kernel })
	for _, id := range v.valueIDs() {
		text(id, true, func(s collect.Vitals) string { return s.Values[id] })
	}
	text("up for", false, func(s collect.Vitals) string { return upFor(s.Uptime) })
	v.heeded("load", func(s collect.Vitals) (string, bool) {
		if len(s.Load) == 0 {
			return "", false
		}
		return fmt.Sprintf("%.2f of %d", s.Load[0], s.Processors), s.Processors > 0 && s.Load[0] > float64(s.Processors)
	})
	v.heeded("memory free", func(s collect.Vitals) (string, bool) {
		if s.Memory == nil {
			return "", false
		}
		return humanize.IBytes(uint64(s.Memory.Available)) + " of " + humanize.IBytes(uint64(s.Memory.Total)),
			s.Memory.Available*20 < s.Memory.Total
	})
	for _, mount := range v.mounts() {
		v.heeded("free on "+mount, func(s collect.Vitals) (string, bool) {
			for _, d := range s.Disks {
				if d.Mount == mount {
					return humanize.IBytes(uint64(d.Free)) + " of " + humanize.IBytes(uint64(d.Total)), d.Free*20 < d.Total
				}
			}
			return "", false
		})
	}
	v.heeded("clock", func(s collect.Vitals) (string, bool) {
		if s.Clock == nil {
			return "", false
		}
		return s.Clock.String(), s.Clock.Offset.Abs() > s.Clock.Uncertainty+time.Second
	})
	v.heeded("synchronised", func(s collect.Vitals) (string, bool) {
		if s.Clock == nil {
			return "", false
		}
		return s.Clock.Synchronised, s.Clock.Synchronised == "no"
	})
	text("locale", true, func(s collect.Vitals) string { return s.Locale })
	text("addresses", false, func(s collect.Vitals) string { return strings.Join(s.Addresses, ", ") })
	v.heeded("busiest", func(s collect.Vitals) (string, bool) {
		if len(s.Top) == 0 {
			return "", false
		}
		return fmt.Sprintf("%s %.0f %%", s.Top[0].Name, s.Top[0].CPU), s.Top[0].CPU > 90
	})
	text("last package", false, func(s collect.Vitals) string {
		if len(s.Packages) == 0 {
			return ""
		}
		return s.Packages[0]
	})
}

func (v *VitalsView) heeded(name string, of func(collect.Vitals) (string, bool)) {
	f := Fact{Name: name}
	for _, s := range v.Systems {
		text, heed := of(s)
		f.Values, f.Heeds = append(f.Values, text), append(f.Heeds, heed)
	}
	v.add(f)
}

// add keeps a row that says something.
func (v *VitalsView) add(f Fact) {
	seen := map[string]bool{}
	for _, x := range f.Values {
		if x != "" {
			seen[x] = true
		}
	}
	if len(seen) == 0 {
		return
	}
	f.Differs = f.alike && len(seen) > 1
	v.Facts = append(v.Facts, f)
}

func (v *VitalsView) valueIDs() []string {
	seen := map[string]bool{}
	for _, s := range v.Systems {
		for id := range s.Values {
			seen[id] = true
		}
	}
	return sortedKeys(seen)
}

// maxMounts bounds how many mounts have a row.
const maxMounts = 6

func (v *VitalsView) mounts() []string {
	seen := map[string]int{}
	for _, s := range v.Systems {
		for _, d := range s.Disks {
			seen[d.Mount]++
		}
	}
	names := sortedKeys(seen)
	sort.SliceStable(names, func(i, j int) bool { return seen[names[i]] > seen[names[j]] })
	return names[:min(len(names), maxMounts)]
}

func upFor(seconds int64) string {
	switch d := time.Duration(seconds) * time.Second; {
	case seconds == 0:
		return ""
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours())/24)
	default:
		return strings.TrimSuffix(d.Round(time.Minute).String(), "0s")
	}
}
