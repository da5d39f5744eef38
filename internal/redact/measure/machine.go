// Package measure measures redaction: on what lies on any machine of ours (what is replaced in text that holds hardly any secret), and on
// labelled lines that are rewritten in other notations (what is found). It is for tests and for make precision alone.
package measure

import (
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"
)

// Kind is one kind of real text that machines have.
type Kind struct {
	Name  string
	Roots []string // patterns of folders and files
	Match func(path string) bool
	// Most bounds the replacements per MB of text, mail addresses apart; 0 is not bounded. Where machines differ in what they have, it is
	// twice what was measured.
	Most float64
}

// mostOfFile bounds the files that are read, in bytes.
const mostOfFile = 1 << 20

func ends(list ...string) func(string) bool {
	return func(p string) bool {
		return slices.ContainsFunc(list, func(e string) bool { return strings.HasSuffix(p, e) })
	}
}

func anyFile(string) bool { return true }

// Kinds gives the kinds of text of this machine. Those that a machine does not have are empty.
func Kinds() []Kind {
	env := func(name string) string {
		out, err := exec.Command("go", "env", name).Output()
		if err != nil {
			return "/nowhere"
		}
		return strings.TrimSpace(string(out))
	}
	root, modules := env("GOROOT"), env("GOMODCACHE")
	notOurs := func(p string) bool { return !strings.Contains(p, "/testdata/") }
	return []Kind{
		{"go sources", []string{root + "/src"}, func(p string) bool { return ends(".go")(p) && notOurs(p) }, 30},
		{"module cache", []string{modules + "/github.com", modules + "/golang.org", modules + "/go.*"},
			func(p string) bool { return ends(".go", ".yml", ".yaml", ".json", ".toml", ".sh")(p) && notOurs(p) }, 0},
		{"readmes", []string{modules, root + "/doc"}, ends(".md"), 150},
		{"documentation", []string{"/usr/share/doc"}, func(p string) bool { return !strings.Contains(filepath.Base(p), "changelog") }, 600},
		{"change logs", []string{"/usr/share/doc/*/changelog*", "/usr/share/doc/*/NEWS*"}, anyFile, 0},
		{"manuals", []string{"/usr/share/man/man1", "/usr/share/man/man5", "/usr/share/man/man7", "/usr/share/man/man8"}, anyFile, 60},
		{"etc", []string{"/etc"}, func(p string) bool { return !ends("-", ".pem", ".crt", ".db", ".cache")(p) }, 600},
		{"headers", []string{"/usr/include"}, ends(".h", ".hpp"), 15},
		{"perl", []string{"/usr/share/perl*", "/usr/lib/*/perl*"}, ends(".pm", ".pl", ".pod"), 70},
		{"python", []string{"/usr/lib/python3*"}, ends(".py"), 0},
		{"packages", []string{"/var/lib/dpkg/info", "/var/lib/dpkg/status"},
			ends(".postinst", ".preinst", ".prerm", ".postrm", ".conffiles", "status", ".config"), 0},
		{"system logs", []string{"/var/log"}, anyFile, 0},
	}
}

// Text is one file of the machine, as plain text.
type Text struct {
	Path string
	Data []byte
}

// Each gives the texts of a kind: every n-th file of a long list, so that all folders have a part. Files that cannot be read, links and
// binary ones are left out.
func (k Kind) Each(most int64, each func(Text) error) error {
	var files []string
	var size int64
	for _, pattern := range k.Roots {
		roots, _ := filepath.Glob(pattern) // the patterns are ours
		for _, root := range roots {
			_ = filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
				if err != nil || !d.Type().IsRegular() || !k.Match(p) {
					return nil
				}
				if info, err := d.Info(); err == nil && info.Size() > 0 && info.Size() <= mostOfFile {
					files = append(files, p)
					size += info.Size()
				}
				return nil
			})
		}
	}
	step := int(size/most) + 1
	slices.Sort(files)
	var read int
	for i := 0; i < len(files) && int64(read) < most; i += step {
		data, err := plain(files[i])
		if err != nil || !isText(data) {
			continue
		}
		read += len(data)
		if err := each(Text{files[i], data}); err != nil {
			return err
		}
	}
	return nil
}

func plain(path string) ([]byte, error) {
	data, err := os.ReadFile(path)
	if err != nil || !strings.HasSuffix(path, ".gz") {
		return data, err
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(z, mostOfFile))
}

func isText(data []byte) bool {
	head := data[:min(len(data), 4096)]
	for len(head) > 0 && len(head) < len(data) && !utf8.RuneStart(head[len(head)-1]) {
		head = head[:len(head)-1]
	}
	return len(data) > 0 && bytes.IndexByte(data, 0) < 0 && (utf8.Valid(head) || utf8.Valid(head[:max(0, len(head)-1)]))
}
