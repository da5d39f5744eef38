package draft

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/late"
	"envask/internal/parts"
	"envask/internal/reach"
)

// about says in a line what is known of a set.
func (w *looking) about(s *Set) string {
	said := []string{"written " + agoText(w.now().Sub(s.Written)) + " ago"}
	if len(s.By) > 0 {
		said[0] += " by " + names(s.By)
	}
	if n := len(s.Members); n > 1 {
		said = append(said, fmt.Sprintf("%d members", n))
	}
	said = append(said, sizeText(s.Size))
	if s.PerHour >= 1 {
		said = append(said, sizeText(int64(s.PerHour))+" an hour")
	}
	switch {
	case s.Denied:
		said = append(said, "the account may not read it")
	case s.Binary:
		said = append(said, "not text")
	case !s.First.IsZero():
		said = append(said, fmt.Sprintf("lines from %s to %s (%s)", s.First.In(w.Zone).Format("2006-01-02 15:04"),
			s.Last.In(w.Zone).Format("2006-01-02 15:04"), s.Form))
	}
	return w.native(s.Head) + ": " + strings.Join(said, ", ")
}

// names gives the names of processes, each once.
func names(list []*Process) string {
	var out []string
	for _, p := range list {
		if !slices.Contains(out, p.Name) {
			out = append(out, p.Name)
		}
	}
	return strings.Join(atMost(out, 3, "programs"), ", ")
}

func sizeText(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// agoText writes an age in its largest unit.
func agoText(d time.Duration) string {
	switch {
	case d < 0:
		return "0 s"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// proposeLogs proposes the logs that no part takes, folder by folder.
func (w *looking) proposeLogs() {
	folders := map[string][]*Set{}
	var order []string
	for _, s := range w.sets {
		if w.took[s] || w.leaves(s) {
			continue
		}
		if folders[s.Dir] == nil {
			order = append(order, s.Dir)
		}
		folders[s.Dir] = append(folders[s.Dir], s)
	}
	for _, dir := range order {
		w.proposeFolder(dir, folders[dir])
	}
	for _, dir := range w.walk.crowds {
		id := w.id(dir, "log")
		w.add(Proposal{Title: "log folder " + dir, Worth: 2,
			Reasons: []string{fmt.Sprintf("%s: more than %d files, not looked at one by one", dir, maxNames)},
			Block:   parts.Block{Items: item(id, "files: ["+parts.Quoted(w.native(plainly(dir)+"/*"))+"]", "max: 1GiB")}})
	}
}

// leaves reports whether a set is left out, and says so.
func (w *looking) leaves(s *Set) bool {
	why := ""
	switch {
	case secretName().MatchString(s.Head):
		why = "its name is that of a secret"
	case w.stale(s):
		why = "not written for " + agoText(w.now().Sub(s.Written))
	case s.Binary && s.Size > hugeUndated:
		why = "no text, " + sizeText(s.Size)
	case s.Size > hugeSet:
		why = "it has " + sizeText(s.Size) + "; ask for it by hand, with max:"
	default:
		return false
	}
	w.out.LeftOut = append(w.out.LeftOut, s.Head+": "+why)
	w.left = append(w.left, s.Members...)
	return true
}

// patternsOf gives what takes a set: its pattern, or its members one by one where that would take what is left out.
func (w *looking) patternsOf(s *Set) []string {
	if !slices.ContainsFunc(w.left, func(file string) bool { return matches(s.Pattern, file) }) {
		return []string{s.Pattern}
	}
	var out []string
	for _, m := range s.Members {
		out = append(out, plainly(m))
	}
	return out
}

func (w *looking) proposeFolder(dir string, sets []*Set) {
	var patterns, reasons []string
	worth := 0
	program := ""
	for _, s := range sets {
		patterns = append(patterns, w.patternsOf(s)...)
		reasons = append(reasons, w.about(s))
		worth = max(worth, w.worth(s))
		if program == "" && len(s.By) > 0 {
			program = s.By[0].Name
		}
	}
	there := func(file string) bool { return path.Dir(file) == dir }
	if len(patterns) >= manySets && dir != "/var/log" && !slices.ContainsFunc(w.left, there) {
		patterns = []string{plainly(dir) + "/*"}
	}
	slices.Sort(patterns)
	patterns = slices.Compact(patterns)
	for i, p := range patterns {
		patterns[i] = parts.Quoted(w.native(p))
	}
	name := dir
	if dir == "/var/log" {
		name = "other"
	} else if base := path.Base(dir); base == "log" || base == "logs" {
		name = path.Dir(dir)
	}
	title := "logs in " + dir
	if len(sets) == 1 {
		title = "log " + sets[0].Head
	}
	if program != "" {
		title += ", written by " + program
	}
	w.add(Proposal{Title: title, Reasons: atMost(reasons, 8, "logs"), Worth: worth,
		Block: parts.Block{Items: item(w.id(name, "log"), "files: ["+strings.Join(patterns, ", ")+"]")}})
}

// native gives a pattern as the system writes its paths.
func (w *looking) native(p string) string {
	if reach.OnWindows(w.System) && len(p) > 2 && p[2] == '/' {
		return p[1:2] + ":" + strings.ReplaceAll(p[2:], "/", `\`)
	}
	return p
}

// item writes an item of an ask.
func item(id string, keys ...string) string {
	return "  - id: " + id + "\n    " + strings.Join(keys, "\n    ") + "\n"
}

var notInID = late.Pattern(`[^A-Za-z0-9]+`)

// id makes an identifier of its own from a path.
func (w *looking) id(p, kind string) string {
	base := strings.Trim(notInID().ReplaceAllString(path.Base(p), "-"), "-")
	base = strings.ToLower(base[:min(len(base), 40)])
	if base == "" {
		base = "folder"
	}
	id := base + "-" + kind
	for n := 2; w.ids[id]; n++ {
		id = fmt.Sprintf("%s-%s-%d", base, kind, n)
	}
	w.ids[id] = true
	return id
}

// ordinaryUnits are those of the system itself, which the parts of the host cover.
var ordinaryUnits = late.Pattern(`^(systemd-|dbus|cron|crond|atd|getty@|serial-getty@|polkit|rsyslog|syslog|user@|udev|udisks|upower|` +
	`networking|NetworkManager|ModemManager|wpa_supplicant|accounts-daemon|irqbalance|multipathd|snapd|unattended-upgrades|packagekit|` +
	`ssh|sshd|auditd|firewalld|tuned|rngd|gssproxy|lvm2|smartd|smartmontools|thermald|fwupd|colord|rtkit|acpid|chrony|chronyd|` +
	`qemu-guest-agent|containerd|docker|kubelet|postgresql@|ifup@|dhc|avahi|bluetooth|cups|gdm|lightdm|display-manager|sssd|nscd|nslcd|` +
	`rpcbind|rpc-|nfs-)`)

// proposeServices proposes journal and configuration of services that no part knows.
func (w *looking) proposeServices() {
	var known []string
	for _, p := range parts.All() {
		known = append(known, p.Fits.Programs...)
		known = append(known, p.Units()...)
		known = append(known, p.Name+".service")
	}
	unit, _ := parts.Find("systemd-unit") // a test makes sure that it is there
	for _, name := range w.run.services {
		base := strings.TrimSuffix(name, ".service")
		if slices.Contains(known, name) || slices.Contains(known, base) || ordinaryUnits().MatchString(name) {
			continue
		}
		c, err := parts.ParseChoice("systemd-unit=" + name)
		if err != nil || parts.Clash([]parts.Choice{c}) != "" {
			continue
		}
		block := c.Block()
		block.Part = unit
		w.add(Proposal{Title: "service " + name, Reasons: []string{name + " runs, and no part knows it"}, Worth: 3, Block: block})
	}
	w.proposeConfigs()
}

// configEndings are those of configuration that people write.
const configEndings = "{conf,cfg,cnf,ini,toml,yaml,yml,json,xml,properties}"

// proposeConfigs proposes the configuration of programs that write logs and are known to no part.
func (w *looking) proposeConfigs() {
	var programs []string
	for _, s := range w.sets {
		if w.took[s] {
			continue
		}
		for _, p := range s.By {
			programs = append(programs, p.Name, path.Base(s.Dir))
		}
		if parts := strings.Split(s.Dir, "/"); len(parts) > 3 && slices.Contains([]string{"opt", "srv"}, parts[1]) {
			programs = append(programs, parts[2])
		}
	}
	for _, name := range w.run.services {
		if !ordinaryUnits().MatchString(name) {
			programs = append(programs, strings.TrimSuffix(name, ".service"))
		}
	}
	slices.Sort(programs)
	for _, name := range slices.Compact(programs) {
		if name == "" || name == "log" || strings.ContainsAny(name, "/\x00") || w.partHas(name) {
			continue
		}
		for _, dir := range []string{"/etc/" + name, "/opt/" + name + "/etc", "/opt/" + name + "/conf", "/opt/" + name + "/config",
			"/srv/" + name + "/config"} {
			w.proposeConfig(dir, name)
		}
	}
}

// partHas reports whether a part that fits takes the configuration of a program.
func (w *looking) partHas(name string) bool {
	return slices.ContainsFunc(w.fit, func(p *parts.Part) bool {
		return slices.ContainsFunc(p.Patterns(), func(pattern string) bool {
			return strings.HasPrefix(pattern, "/etc/"+name+"/")
		})
	})
}

// Bounds of the configuration of one program.
const (
	maxConfigs  = 40 // files
	configDepth = 3  // folders
)

// proposeConfig proposes the files of a folder that configuration is in, one by one: a pattern would take its secrets, too.
func (w *looking) proposeConfig(dir, name string) {
	var files []string
	left := len(w.out.LeftOut)
	w.configs(dir, configDepth, &files)
	if len(files) == 0 {
		w.out.LeftOut = w.out.LeftOut[:left]
		return
	}
	about := fmt.Sprintf("%s: configuration of %s, which is here; %d %s", dir, name, len(files), one(len(files), "file", "files"))
	if len(files) > maxConfigs {
		about += fmt.Sprintf(", of which these are the first %d", maxConfigs)
		files = files[:maxConfigs]
	}
	for i, f := range files {
		files[i] = "      - " + parts.Quoted(w.native(plainly(f)))
	}
	w.add(Proposal{Title: "configuration in " + dir, Worth: 2, Reasons: []string{about},
		Block: parts.Block{Items: item(w.id(name, "config"), "cut: none", "files:\n"+strings.Join(files, "\n"))}})
}

func one(n int, single, several string) string {
	if n == 1 {
		return single
	}
	return several
}

// configs lists the configuration below a folder. What looks like a secret is left out, and said.
func (w *looking) configs(dir string, depth int, files *[]string) {
	entries, err := w.fsys.ReadDir(reach.Name(dir))
	if err != nil || depth == 0 {
		return
	}
	for _, e := range entries[:min(len(entries), maxNames)] {
		name := path.Join(dir, e.Name())
		switch {
		case len(*files) > maxConfigs:
			return
		case e.IsDir():
			w.configs(name, depth-1, files)
		case !e.Type().IsRegular() || !matches("/*."+configEndings, "/"+e.Name()):
		case secretName().MatchString(e.Name()):
			w.out.LeftOut = append(w.out.LeftOut, name+": its name is that of a secret")
		default:
			*files = append(*files, name)
		}
	}
}

// maxLeftOut bounds what is said to be left out.
const maxLeftOut = 40

// leaveOut says what processes write that is no log: what is huge, and what only they still have.
func (w *looking) leaveOut() {
	inSets := map[string]bool{}
	for _, s := range w.sets {
		for _, m := range s.Members {
			inSets[m] = true
		}
	}
	said := map[string]bool{}
	for _, f := range w.run.written {
		if said[f.Path] || inSets[f.Path] {
			continue
		}
		said[f.Path] = true
		switch {
		case f.Deleted:
			w.out.LeftOut = append(w.out.LeftOut, f.Path+": deleted, and still held open by "+f.By.Name+"; it is gone when that ends")
		case f.By.Container != "":
			w.out.LeftOut = append(w.out.LeftOut, f.Path+": written by "+f.By.Name+" within the container "+f.By.Container+
				"; list that as a system of its own, with shell:")
		default:
			if info, err := w.fsys.Lstat(reach.Name(f.Path)); err == nil && info.Size() > hugeUndated {
				w.out.LeftOut = append(w.out.LeftOut, fmt.Sprintf("%s: held open by %s, %s, no log by its name", f.Path, f.By.Name,
					sizeText(info.Size())))
			}
		}
	}
	slices.Sort(w.out.LeftOut)
	w.out.LeftOut = atMost(slices.Compact(w.out.LeftOut), maxLeftOut, "things")
}
