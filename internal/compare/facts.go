package compare

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"envask/internal/collect"
)

// facts compares what stays the same on a system that nobody touches. What moves by itself (load, free memory, uptime) is left
// to the files.
func facts(before, now map[string]collect.Vitals, o Options) []Facts {
	var out []Facts
	for _, system := range slices.Sorted(maps.Keys(now)) {
		was, ok := before[system]
		if !ok {
			continue
		}
		if list := changes(steady(was), steady(now[system]), o); len(list) > 0 {
			out = append(out, Facts{system, list})
		}
	}
	return out
}

// steady gives the facts that only change when somebody changes something.
func steady(v collect.Vitals) map[string]string {
	m := map[string]string{}
	put := func(name, text string) {
		if text != "" {
			m[name] = text
		}
	}
	put("system", v.OS)
	put("kernel", v.Kernel)
	put("host name", v.Host)
	put("locale", v.Locale)
	put("addresses", strings.Join(slices.Sorted(slices.Values(v.Addresses)), ", "))
	if v.Processors > 0 {
		put("processors", fmt.Sprint(v.Processors))
	}
	if v.Memory != nil {
		put("memory", size(v.Memory.Total))
	}
	for _, d := range v.Disks {
		put("size of "+d.Mount, size(d.Total))
	}
	if v.Clock != nil {
		put("zone", v.Clock.Zone)
		put("synchronised", v.Clock.Synchronised)
	}
	for id, value := range v.Values {
		put(id, value)
	}
	if len(v.Packages) > 0 {
		put("last package", v.Packages[0])
	}
	return m
}
