package reach

import (
	"context"
	"envask/internal/late"
	"os"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"
)

// Placer is what a system offers whose patterns can name a place instead of a path: ~ is the home of its account, %NAME% what
// Windows calls so.
type Placer interface {
	// Place gives a pattern as it is on the system. What it does not know stays as it is, and matches nothing.
	Place(pattern string) string
}

var windowsVariable = late.Pattern(`^%([A-Za-z][A-Za-z0-9_()]*)%`)

// usualFolders are where Windows has its folders unless somebody moved them, for copies of a system.
var usualFolders = map[string]string{"programdata": `C:\ProgramData`, "allusersprofile": `C:\ProgramData`,
	"systemroot": `C:\Windows`, "windir": `C:\Windows`,
	"programfiles": `C:\Program Files`, "programfiles(x86)": `C:\Program Files (x86)`, "systemdrive": `C:`, "public": `C:\Users\Public`}

// placed replaces what a pattern begins with. What comes from a system is taken as it is written: it is no pattern.
func placed(pattern, home string, variable func(string) string) string {
	if rest, ok := strings.CutPrefix(pattern, "~/"); ok && home != "" {
		return escapeMeta(strings.TrimRight(home, `/\`)) + "/" + rest
	}
	if m := windowsVariable().FindStringSubmatch(pattern); m != nil {
		if v := variable(m[1]); v != "" {
			return strings.ReplaceAll(escapeMeta(strings.ReplaceAll(strings.TrimRight(v, `\`), `\`, "/")), "/", `\`) + pattern[len(m[0]):]
		}
	}
	return pattern
}

// escapeMeta escapes what has a meaning in patterns.
func escapeMeta(s string) string {
	if !strings.ContainsAny(s, `*?[{`) {
		return s
	}
	return regexp.MustCompile(`[*?\[{]`).ReplaceAllString(s, "[$0]")
}

// Place gives a pattern as it is on this machine.
func (l *Local) Place(pattern string) string {
	home, _ := os.UserHomeDir()
	return placed(pattern, home, func(name string) string {
		if runtime.GOOS == "windows" {
			return windowsEnv(name)
		}
		return ""
	})
}

// Place gives a pattern as it is in the copy of a system: nobody's home, and the folders of Windows where they usually are.
func (f *Folder) Place(pattern string) string {
	return placed(pattern, "", func(name string) string { return usualFolders[strings.ToLower(name)] })
}

// home is that of the account on a system, asked once.
type home struct {
	once sync.Once
	dir  string
}

// Place gives a pattern as it is on the system.
func (r *SSH) Place(pattern string) string {
	if strings.HasPrefix(pattern, "~/") {
		r.home.once.Do(r.findHome)
	}
	return placed(pattern, r.home.dir, func(name string) string { return usualFolders[strings.ToLower(name)] })
}

func (r *SSH) findHome() {
	if r.files != nil {
		if dir, err := r.files.RealPath("."); err == nil && strings.HasPrefix(dir, "/") {
			r.home.dir = dir
			return
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), ConnectTimeout+time.Second)
	defer cancel()
	out := &behind{limit: 4096, seen: true}
	if exit, err := r.Run(ctx, `echo "$HOME"`, out, &behind{limit: 4096, seen: true}); err == nil && exit == 0 {
		if dir := strings.TrimSpace(out.buf.String()); strings.HasPrefix(dir, "/") && !strings.Contains(dir, "\n") {
			r.home.dir = dir
		}
	}
}
