package collect

import (
	"bufio"
	"envask/internal/late"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// maxTop and maxPackages bound the lists of busiest processes and of packages.
const (
	maxTop      = 8
	maxPackages = 10
)

var sectionHead = late.Pattern(`^== ([a-z]+) ==$`)

// vitalsWhole says whether the script came to its end.
func vitalsWhole(out string) bool { return strings.Contains(out, "\n== end ==") }

// sections takes the script's output apart.
func sections(out string) map[string]string {
	m := map[string]string{}
	name := ""
	sc := bufio.NewScanner(strings.NewReader(out))
	sc.Buffer(nil, 1<<20)
	for sc.Scan() {
		if h := sectionHead().FindStringSubmatch(sc.Text()); h != nil {
			name = h[1]
		} else if name != "" {
			m[name] += sc.Text() + "\n"
		}
	}
	return m
}

// Parse reads the output of the script; what cannot be read is named in Lacks.
func (v *Vitals) Parse(out string) {
	s := sections(out)
	v.OS = release(s["release"])
	v.Kernel = strings.TrimSpace(s["kernel"])
	v.Host = strings.TrimSpace(s["name"])
	if f := strings.Fields(s["uptime"]); len(f) > 0 {
		if seconds, err := strconv.ParseFloat(f[0], 64); err == nil && seconds < 1e11 {
			v.Uptime = int64(seconds)
		}
	}
	for _, f := range strings.Fields(s["load"])[:min(3, len(strings.Fields(s["load"])))] {
		if n, err := strconv.ParseFloat(f, 64); err == nil {
			v.Load = append(v.Load, n)
		}
	}
	v.Processors, _ = strconv.Atoi(strings.TrimSpace(s["processors"]))
	v.Memory = memory(s["memory"])
	v.Disks = disks(s["disks"])
	v.Addresses = addresses(s["addresses"])
	v.Locale = locale(s["locale"])
	v.Top = top(s["top"])
	v.Packages = packages(s["dpkg"], s["rpm"])
	for name, there := range map[string]bool{"os": v.OS != "", "kernel": v.Kernel != "", "uptime": v.Uptime > 0, "load": len(v.Load) > 0,
		"processors": v.Processors > 0,
		"memory":     v.Memory != nil, "disks": len(v.Disks) > 0, "addresses": len(v.Addresses) > 0, "processes": len(v.Top) > 0} {
		if !there {
			v.Lacks = append(v.Lacks, name)
		}
	}
	sort.Strings(v.Lacks)
}

func release(text string) string {
	values := map[string]string{}
	for _, l := range strings.Split(text, "\n") {
		k, val, ok := strings.Cut(l, "=")
		if !ok {
			k, val, _ = strings.Cut(l, ":")
		}
		values[k] = strings.Trim(strings.TrimSpace(val), `"'`)
	}
	for _, k := range []string{"PRETTY_NAME", "NAME", "ProductName"} {
		if values[k] != "" {
			if n := values["ProductVersion"]; n != "" {
				return values[k] + " " + n
			}
			return values[k]
		}
	}
	return ""
}

func memory(text string) *Memory {
	m := &Memory{}
	var free, buffers, cached int64
	for _, l := range strings.Split(text, "\n") {
		f := strings.Fields(l)
		if len(f) < 2 {
			continue
		}
		n, err := strconv.ParseInt(f[1], 10, 64)
		if err != nil || n < 0 || n > 1<<50 {
			continue
		}
		n <<= 10
		switch f[0] {
		case "MemTotal:":
			m.Total = n
		case "MemAvailable:":
			m.Available = n
		case "MemFree:":
			free = n
		case "Buffers:":
			buffers = n
		case "Cached:":
			cached = n
		case "SwapTotal:":
			m.SwapTotal = n
		case "SwapFree:":
			m.SwapFree = n
		}
	}
	if m.Total == 0 {
		return nil
	}
	if m.Available == 0 { // kernels before 3.14 do not tell
		m.Available = free + buffers + cached
	}
	return m
}

// noDisk are file systems that hold nothing of their own.
var noDisk = late.Pattern(`^(tmpfs|devtmpfs|udev|overlay|shm|none|proc|sysfs|cgroup.*|/dev/loop\d+)$`)

func disks(text string) []Disk {
	var out []Disk
	for _, l := range dfLine().FindAllStringSubmatch(text, -1) {
		device := strings.Fields(l[0])[0]
		if noDisk().MatchString(device) && l[4] != "/" {
			continue
		}
		used, err := strconv.ParseInt(l[2], 10, 64)
		free, err2 := strconv.ParseInt(l[3], 10, 64)
		total, err3 := strconv.ParseInt(l[1], 10, 64)
		if err != nil || err2 != nil || err3 != nil || used < 0 || total <= 0 || total > 1<<50 {
			continue
		}
		out = append(out, Disk{Mount: l[4], Total: total << 10, Free: max(0, free) << 10})
	}
	return out
}

var oneAddress = late.Pattern(`\b(?:inet6? (?:addr: ?)?)([0-9a-fA-F:.]+(?:/\d+)?)`)

func addresses(text string) []string {
	var out []string
	for _, m := range oneAddress().FindAllStringSubmatch(text, -1) {
		a := m[1]
		if strings.HasPrefix(a, "127.") || a == "::1" || strings.HasPrefix(a, "::1/") || slices.Contains(out, a) {
			continue
		}
		out = append(out, a)
	}
	return out
}

func locale(text string) string {
	last := ""
	for _, l := range strings.Split(text, "\n") {
		if v, ok := strings.CutPrefix(strings.TrimSpace(l), "LANG="); ok && v != "" {
			last = strings.Trim(v, `"'`)
		}
	}
	return last
}

func top(text string) []Process {
	lines := strings.Split(text, "\n")
	if len(lines) < 2 {
		return nil
	}
	columns := strings.Fields(lines[0])
	if len(columns) == 0 {
		return nil
	}
	at := map[string]int{}
	for i, c := range columns {
		at[strings.ToUpper(c)] = i
	}
	var out []Process
	for _, l := range lines[1:] {
		f := strings.Fields(l)
		if len(f) < len(columns) {
			continue
		}
		p := Process{Name: f[len(columns)-1]}
		if i, ok := at["%CPU"]; ok {
			p.CPU, _ = strconv.ParseFloat(f[i], 64)
		}
		if i, ok := at["RSS"]; ok {
			p.Resident = kibibytes(f[i])
		}
		if p.CPU > 0 || p.Resident > 0 { // threads of the kernel have neither
			out = append(out, p)
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		if out[i].CPU != out[j].CPU {
			return out[i].CPU > out[j].CPU
		}
		return out[i].Resident > out[j].Resident
	})
	return out[:min(len(out), maxTop)]
}

// kibibytes reads "1234", or "12m" as BusyBox writes large ones.
func kibibytes(text string) int64 {
	unit := int64(1 << 10)
	switch {
	case strings.HasSuffix(text, "m"):
		text, unit = strings.TrimSuffix(text, "m"), 1<<20
	case strings.HasSuffix(text, "g"):
		text, unit = strings.TrimSuffix(text, "g"), 1<<30
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 || n > 1<<40 {
		return 0
	}
	return n * unit
}

// dpkg's log has one line for each step; these are the last ones.
var dpkgLine = late.Pattern(`(?m)^(\S+ \S+) (status installed|remove|upgrade) (\S+) (\S+)(?: (\S+))?$`)

func packages(dpkg, rpm string) []string {
	var out []string
	for _, m := range dpkgLine().FindAllStringSubmatch(dpkg, -1) {
		text := m[1] + " " + strings.TrimPrefix(m[2], "status ") + " " + m[3] + " " + m[4]
		if m[2] == "upgrade" {
			text += " to " + m[5]
		}
		out = append(out, text)
	}
	sort.Sort(sort.Reverse(sort.StringSlice(out)))
	for _, l := range strings.Split(strings.TrimSpace(rpm), "\n") {
		if l != "" {
			out = append(out, strings.Join(strings.Fields(l), " "))
		}
	}
	return out[:min(len(out), maxPackages)]
}
