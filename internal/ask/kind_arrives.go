package ask

import (
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/keyfile"
)

// InboxFields are the placeholders of what is typed on a device that pushes: a whole address by protocol, or its parts. inbox.name is the
// one name that TFTP takes.
var InboxFields = []string{"sftp", "scp", "ftp", "tftp", "http", "host", "user", "password", "name"}

// DefaultQuiet is how long nothing more has to come until what is expected counts as whole.
const DefaultQuiet = 5 * time.Second

// readArrives reads an item that a device pushes into the inbox. From then on it is like what a person brings.
func readArrives(m *keyfile.Map) Spec {
	p := Person{Arrives: true, Expect: Expect{Files: 1}}
	am := m.Map("arrives")
	if am == nil {
		return p
	}
	defer am.Done()
	p.Expect.Files, p.Quiet = am.Int("count", 1, MaxItems, 1), am.Duration("quiet", DefaultQuiet)
	p.Expect.Least, p.Expect.Most = am.Size("least", 0), am.Size("most", 0)
	p.Expect.Cut = am.Choice("cut", "none", "lines") == "lines"
	p.Folder = readFolder(am.Value("folder"))
	for _, v := range am.Strings("files") {
		if v.Text == "" || strings.Contains(v.Text, "/") || !doublestar.ValidatePattern(v.Text) {
			v.Problem("files: expected a pattern of a file's name, such as dump-*, found %q", v.Text)
		}
		p.Expect.Names = append(p.Expect.Names, v.Text)
	}
	for _, v := range am.Strings("type") {
		for _, f := range personField().FindAllStringSubmatch(v.Text, -1) {
			known := f[1] == "inbox" && slices.Contains(InboxFields, f[2]) || f[2] == "" && slices.Contains(PersonFields, f[1])
			if !known {
				v.Problem("%s is no placeholder; there are {inbox.%s} and {%s}", f[0], strings.Join(InboxFields, "}, {inbox."),
					strings.Join(PersonFields, "}, {"))
			}
		}
		p.Steps = append(p.Steps, strings.TrimSpace(v.Text))
	}
	if m.Has("needs") || m.Bool("elevated", false) || m.Bool("volatile", false) {
		m.Problem("needs:, elevated: and volatile: do not go with arrives:")
	}
	return p
}

// FolderFields are the placeholders of a drop folder.
var FolderFields = []string{"system", "case"}

// readFolder reads the path of a drop folder.
func readFolder(v keyfile.Value) string {
	if !v.Set() {
		return ""
	}
	plain := FillFolder(v.Text, "x", "x")
	if !strings.HasPrefix(plain, "/") && !windowsPath().MatchString(plain) || strings.ContainsAny(plain, "*?[]{}\x00") ||
		slices.Contains(strings.FieldsFunc(plain, func(c rune) bool { return c == '/' || c == '\\' }), "..") || plain == "/" {
		v.Problem("folder: expected the whole path of a folder (placeholders: {%s}), such as /srv/drop/{system}, found %q",
			strings.Join(FolderFields, "}, {"), v.Text)
	}
	return v.Text
}

// FillFolder replaces the placeholders of a drop folder.
func FillFolder(folder, system, number string) string {
	return strings.NewReplacer("{system}", system, "{case}", number).Replace(folder)
}
