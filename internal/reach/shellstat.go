package reach

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

// statStyle is one way of looking at files with the tools of a system. Every file is told as "/MODE SIZE TIME INODE NAME/"
// and a line end: no name holds a slash, so that even a name with a line end in it stays whole.
type statStyle struct {
	name  string
	test  string // succeeds where the style works
	one   func(path string, follow bool) string
	all   string // tells about all that is in the folder of the shell
	inode string // gives the inode of a path
	mode  func(text string) (fs.FileMode, bool)
}

// styles in the order of preference. The last one works wherever there are ls and date.
var styles = []statStyle{
	{
		name: "stat", test: "stat -c %f / >/dev/null 2>&1 && command -v find >/dev/null",
		one: func(p string, follow bool) string {
			return "stat " + flag(follow, "-L ") + "-c '/%f %s %Y %i x/' " + p
		},
		all:   `find . ! -name . -prune -exec stat -c '/%f %s %Y %i %n/' {} + 2>/dev/null; true`,
		inode: "stat -L -c %i", mode: hexMode,
	},
	{
		name: "stat", test: "stat -f %Xp / >/dev/null 2>&1 && command -v find >/dev/null",
		one: func(p string, follow bool) string {
			return "stat " + flag(follow, "-L ") + "-f '/%Xp %z %m %i x/' " + p
		},
		all:   `find . ! -name . -prune -exec stat -f '/%Xp %z %m %i %N/' {} + 2>/dev/null; true`,
		inode: "stat -L -f %i", mode: hexMode,
	},
	{
		name: "ls",
		one: func(p string, follow bool) string {
			l := flag(follow, "L")
			return "f=" + p + "\nlook() { l=$(ls -ldn" + l + " \"$f\") || exit 1\nset -f; set -- $l; set +f\n" +
				"printf '/%s %s %s - x/\\n' \"$1\" \"$5\" \"$(date -r \"$f\" +%s 2>/dev/null || echo 0)\"; }\nlook"
		},
		all: `look() { set -f; set -- $l; set +f; printf '/%s %s %s - ' "$1" "$5" "$(date -r "./$f" +%s 2>/dev/null || echo 0)"; }
for f in * .[!.]* ..?*; do
if [ -e "$f" ] || [ -h "$f" ]; then l=$(ls -ldn "./$f" 2>/dev/null) && { look; printf './%s/\n' "$f"; }; fi
done`,
		mode: letterMode,
	},
}

func flag(on bool, text string) string {
	if on {
		return text
	}
	return ""
}

var errListing = errors.New("the list of files cannot be read")

// parse reads what the tools told.
func (s statStyle) parse(out string) ([]fileInfo, error) {
	var infos []fileInfo
	err := s.each(strings.NewReader(out), func(i fileInfo) error {
		infos = append(infos, i)
		return nil
	})
	return infos, err
}

// maxTold bounds what is told about one file, in bytes: no name is as long.
const maxTold = 64 << 10

// each reads what the tools tell, file by file.
func (s statStyle) each(r io.Reader, each func(fileInfo) error) error {
	br := bufio.NewReaderSize(r, maxTold)
	for {
		told, err := oneTold(br)
		if err == io.EOF && len(told) == 0 {
			return nil
		}
		if err != nil && err != io.EOF {
			return err
		}
		info, ok := s.read(told)
		if !ok {
			return errListing
		}
		if err := each(info); err != nil {
			return err
		}
	}
}

// oneTold reads what is told about one file: from a slash to a slash and a line end, which no name holds; but the name begins
// with "./" when find told it.
func oneTold(br *bufio.Reader) (string, error) {
	var told strings.Builder
	for {
		line, err := br.ReadSlice('\n')
		if told.Len()+len(line) > maxTold {
			return "", errListing
		}
		told.Write(line)
		if err == io.EOF && told.Len() == 0 {
			return "", io.EOF
		}
		if err != nil { // an end within, or a line that is too long
			if err == io.EOF || errors.Is(err, bufio.ErrBufferFull) {
				err = errListing
			}
			return "", err
		}
		text := told.String()
		if text[0] != '/' {
			return "", errListing
		}
		if strings.HasSuffix(text, "/\n") && len(text) > 2 && strings.Index(text, " ./") != len(text)-len(" ./\n") {
			return text, nil
		}
	}
}

// read reads what was told about one file.
func (s statStyle) read(told string) (info fileInfo, ok bool) {
	fields := strings.SplitN(told[1:len(told)-2], " ", 5)
	if len(fields) != 5 {
		return info, false
	}
	info = fileInfo{name: strings.TrimPrefix(fields[4], "./"), inode: fields[3]}
	if info.mode, ok = s.mode(fields[0]); !ok {
		return info, false
	}
	size := strings.TrimSuffix(fields[1], ",") // a device has two numbers
	n, err := strconv.ParseInt(size, 10, 64)
	switch {
	case err == nil:
		info.size = n
	case errors.Is(err, strconv.ErrRange):
		info.size = -1 // what cannot be is found when it is looked at
	}
	if sec, err := strconv.ParseInt(fields[2], 10, 64); err == nil {
		info.modified = time.Unix(sec, 0)
	}
	return info, true
}

// hexMode reads a mode as in stat(2), in hex.
func hexMode(text string) (fs.FileMode, bool) {
	n, err := strconv.ParseUint(text, 16, 32)
	if err != nil {
		return 0, false
	}
	return unixMode(n)
}

// unixMode reads a mode as in stat(2).
func unixMode(n uint64) (fs.FileMode, bool) {
	m := fs.FileMode(n & 0o777)
	switch n & 0o170000 {
	case 0o100000:
	case 0o040000:
		m |= fs.ModeDir
	case 0o120000:
		m |= fs.ModeSymlink
	case 0o010000:
		m |= fs.ModeNamedPipe
	case 0o140000:
		m |= fs.ModeSocket
	case 0o060000:
		m |= fs.ModeDevice
	case 0o020000:
		m |= fs.ModeDevice | fs.ModeCharDevice
	default:
		m |= fs.ModeIrregular
	}
	return m, true
}

// letterMode reads a mode as ls writes it: "-rw-r--r--".
func letterMode(text string) (fs.FileMode, bool) {
	if len(text) < 10 {
		return 0, false
	}
	kinds := map[byte]fs.FileMode{'-': 0, 'd': fs.ModeDir, 'l': fs.ModeSymlink, 'p': fs.ModeNamedPipe,
		's': fs.ModeSocket, 'b': fs.ModeDevice,
		'c': fs.ModeDevice | fs.ModeCharDevice}
	m, ok := kinds[text[0]]
	if !ok {
		m = fs.ModeIrregular
	}
	for i, c := range text[1:10] {
		if c != '-' && c != 'S' && c != 'T' {
			m |= 1 << (8 - i)
		}
	}
	return m, true
}

// fileInfo is what the tools told about one file.
type fileInfo struct {
	name, inode string
	mode        fs.FileMode
	size        int64
	modified    time.Time
}

func (i fileInfo) Name() string       { return i.name }
func (i fileInfo) Size() int64        { return i.size }
func (i fileInfo) Mode() fs.FileMode  { return i.mode }
func (i fileInfo) ModTime() time.Time { return i.modified }
func (i fileInfo) IsDir() bool        { return i.mode.IsDir() }
func (i fileInfo) Sys() any           { return nil }
