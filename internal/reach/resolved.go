package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"envask/internal/late"
	"envask/internal/posix"
)

// ErrExchanged says that what was opened is not what was found under the name: a link was put in the way meanwhile. It is refused,
// since whoever may write in a folder of logs must not be able to point us at other files.
var ErrExchanged = errors.New("it was exchanged for a link while it was looked at")

// Resolved is what a file system offers that can open a name in which no link was when it was resolved, and makes sure that none
// has come into it since, neither at its end nor in the folders above.
type Resolved interface {
	OpenResolved(name string) (fs.File, error)
}

// OpenResolved opens a name in which no link may be. A file system that cannot make sure of that is one without links.
func OpenResolved(fsys fs.FS, name string) (fs.File, error) {
	if r, ok := fsys.(Resolved); ok {
		return r.OpenResolved(name)
	}
	return fsys.Open(name)
}

// maxFileSize is the largest size that a file of a system may claim, in bytes: what no disk holds is no size.
const maxFileSize = 1 << 60

// checkedInfo makes sure at the border that what a system tells of a file can be.
func checkedInfo(info fs.FileInfo, err error) (fs.FileInfo, error) {
	if err != nil {
		return nil, err
	}
	if n := info.Size(); n < 0 || n > maxFileSize {
		return nil, fmt.Errorf("the system says that it has %d bytes, which cannot be", n)
	}
	return info, nil
}

// checkedEntry is a directory entry whose facts are checked when they are asked for.
type checkedEntry struct{ fs.DirEntry }

func (e checkedEntry) Info() (fs.FileInfo, error) { return checkedInfo(e.DirEntry.Info()) }

// saysExchanged is what our scripts print when a link was put in the way.
const saysExchanged = "envask: it was exchanged"

// pinned is the beginning of a script that works on one file whose name was freed of links: it goes into the folder, and makes sure
// that it is the one of that name and that no link led there. From then on it stays in that folder, whatever is put in its place.
// The file is "$b".
func pinned(name string) string {
	p := Path(name)
	i := strings.LastIndexByte(p, '/')
	dir := p[:i]
	if dir == "" {
		dir = "/"
	}
	return "d=" + posix.Word(dir) + "; b=" + posix.Word("./"+p[i+1:]) + "\n" +
		`if ! cd -P "$d" 2>/dev/null; then
if [ -d "$d" ]; then echo 'Permission denied' >&2
else ls -ld "$d" >/dev/null && echo 'Not a directory' >&2; fi
exit 1; fi
[ "$(pwd -P; echo .)" = "$d
." ] || { echo '` + saysExchanged + `' >&2; exit 1; }
`
}

// tells prints device and inode of a path, with what a system has: of what a link leads to, and of a link itself.
const tells = `ino() { stat -L -c %d:%i "$1" 2>/dev/null || stat -L -f %d:%i "$1" 2>/dev/null ||
	{ set -- $(ls -Lid "$1" 2>/dev/null); [ -n "$1" ] && echo "0:$1"; }; }
own() { stat -c %d:%i "$1" 2>/dev/null || stat -f %d:%i "$1" 2>/dev/null ||
	{ set -- $(ls -id "$1" 2>/dev/null); [ -n "$1" ] && echo "0:$1"; }; }
`

// readPinned is a script that reads a file with words that read standard input. What was opened is looked at before a byte of it
// is read: it must be the file of that name in the pinned folder, no link, and have the inode that was found ("" is any). Where a
// system does not tell what was opened, strict refuses.
func readPinned(name, inode, words string, strict bool) string {
	unknown := "i=$n"
	if strict {
		unknown = "echo 'the system does not tell what was opened (neither /dev/stdin nor /proc)' >&2; exit 1"
	}
	script := pinned(name) + tells + "{ i=$(ino /dev/stdin) || i=$(ino /proc/self/fd/0); n=$(own \"$b\")\n" +
		"[ -n \"$i\" ] || { " + unknown + "; }\n" +
		"[ \"$i\" = \"$n\" ] && [ ! -h \"$b\" ] || { echo '" + saysExchanged + "' >&2; exit 1; }\n"
	if inode != "" && inode != "-" {
		script += "[ \"${i#*:}\" = " + posix.Word(inode) + " ] || { echo 'it was replaced while it was read' >&2; exit 1; }\n"
	}
	return script + words + "; } < \"$b\""
}

// identityBatch is how many paths are asked for in one command.
const identityBatch = 100

// Identities gives what tells files apart on a system, whatever they are called: device and inode of each path itself, in its order;
// "" where the system does not tell.
func Identities(ctx context.Context, r Runner, paths []string) ([]string, error) {
	out := make([]string, 0, len(paths))
	for batch := range slices.Chunk(paths, identityBatch) {
		var script strings.Builder
		script.WriteString(tells)
		for _, p := range batch {
			script.WriteString("own " + posix.Word(p) + " || echo -\n")
		}
		var said, complaints bytes.Buffer
		exit, err := r.Run(ctx, posix.Shell(script.String()), &limitedBuffer{b: &said}, &limitedBuffer{b: &complaints})
		if err != nil {
			return nil, err
		}
		lines := strings.Split(strings.TrimSuffix(said.String(), "\n"), "\n")
		for i := range batch {
			id := ""
			if exit == 0 && len(lines) == len(batch) && identity().MatchString(lines[i]) {
				id = lines[i]
			}
			out = append(out, id)
		}
	}
	return out, nil
}

var identity = late.Pattern(`^[0-9]+:[0-9a-f]+$`)

// RemoveIfStill is a script that removes a file if it is still the one of an identity, and none otherwise.
func RemoveIfStill(path, id string) string {
	return tells + "[ -e " + posix.Word(path) + " ] || exit 0\n[ \"$(own " + posix.Word(path) + ")\" = " + posix.Word(id) +
		" ] || { echo 'the file has been replaced' >&2; exit 1; }\nrm -f " + posix.Word(path)
}
