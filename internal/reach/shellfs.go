package reach

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"envask/internal/fault"
	"envask/internal/posix"
)

// shellFS shows files through a POSIX shell (IEEE 1003.1) and a few tools, for systems without SFTP, and for what the account
// alone may not read. It makes do with what BusyBox has: stat where it is there, else ls and date; dd for reading.
type shellFS struct {
	run    func(ctx context.Context, command string, stdout, stderr io.Writer) (int, error)
	prefix string    // words in front of the shell that give it more rights, or ""
	style  statStyle // how files are looked at
	mark   string    // stands in front of what is ours, behind what a noisy shell says first
}

// shellAnswer bounds how long is waited for a list or for the next piece of a file.
const shellAnswer = 60 * time.Second

// maxAnswer bounds what a script may print that asks for one thing, in bytes.
const maxAnswer = 1 << 20

// shellBlock is the size of the blocks in which dd reads, in bytes.
const shellBlock = 64 << 10

// newMark makes a line that no system prints by itself.
func newMark() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // it never fails
	return "envask-" + hex.EncodeToString(b)
}

// errShell says that a system has no shell as we need it.
var errShell = errors.New("it has no POSIX shell with dd and ls or stat")

// newShellFS finds out how files can be read through commands.
func newShellFS(ctx context.Context, run func(context.Context, string, io.Writer, io.Writer) (int, error),
	prefix string) (*shellFS, error) {
	f := &shellFS{run: run, prefix: prefix, mark: newMark(), style: styles[len(styles)-1]}
	ctx, cancel := context.WithTimeout(ctx, shellAnswer)
	defer cancel()
	var tests strings.Builder
	tests.WriteString("command -v dd >/dev/null && command -v ls >/dev/null && echo tools\n")
	for i, s := range styles {
		if s.test != "" {
			fmt.Fprintf(&tests, "%s && echo style%d\n", s.test, i)
		}
	}
	out, err := f.script(ctx, tests.String()+"true")
	if err != nil {
		return nil, err
	}
	if !strings.HasPrefix(out, "tools") {
		return nil, errShell
	}
	for i := range styles {
		if strings.Contains(out, fmt.Sprintf("style%d\n", i)) {
			f.style = styles[i]
			break
		}
	}
	return f, nil
}

// means says how files are reached, for the curious.
func (f *shellFS) means() string {
	s := "files through " + f.style.name + " and dd"
	if f.prefix != "" {
		s += ", with " + f.prefix
	}
	return s
}

// command wraps a script: its output begins behind the mark, on both streams.
func (f *shellFS) command(script string) string {
	script = "LC_ALL=C; export LC_ALL; echo " + f.mark + "; echo " + f.mark + " >&2\n" + script
	command := posix.Shell(script)
	if f.prefix != "" {
		command = f.prefix + " " + command
	}
	return command
}

// script runs a script and gives its output. A failure that the tools report becomes one of io/fs.
func (f *shellFS) script(ctx context.Context, script string) (string, error) {
	out, errOut := &behind{mark: f.mark, limit: maxAnswer}, &behind{mark: f.mark, limit: 64 << 10}
	exit, err := f.run(ctx, f.command(script), out, errOut)
	switch {
	case err != nil:
		return "", err
	case out.over:
		return "", errors.New("it prints without end")
	case exit != 0 || !out.seen:
		return "", f.failure(exit, out, errOut)
	}
	return out.buf.String(), nil
}

// failure reads what the tools said.
func (f *shellFS) failure(exit int, out, errOut *behind) error {
	text := strings.TrimSpace(errOut.text())
	if !out.seen { // not even the shell was begun
		if f.prefix != "" {
			return &elevationError{prefix: f.prefix, said: lastLine(text)}
		}
		return fmt.Errorf("%w (exit code %d)", errShell, exit)
	}
	switch {
	case strings.Contains(text, saysExchanged):
		return ErrExchanged
	case strings.Contains(text, "Permission denied"), strings.Contains(text, "Operation not permitted"):
		return fs.ErrPermission
	case strings.Contains(text, "No such file"), strings.Contains(text, "Not a directory"):
		return fs.ErrNotExist
	case text == "":
		return fmt.Errorf("exit code %d", exit)
	}
	return errors.New(lastLine(text))
}

func lastLine(text string) string {
	text = strings.TrimSpace(text)
	if i := strings.LastIndexByte(text, '\n'); i >= 0 {
		text = text[i+1:]
	}
	return text[:min(len(text), 200)]
}

// elevationError says that more rights could not be had.
type elevationError struct{ prefix, said string }

func (e *elevationError) Error() string {
	return strings.TrimSuffix(fmt.Sprintf("%s does not work here: %s", e.prefix, e.said), ": ")
}

// behind keeps what comes behind a line with the mark.
type behind struct {
	mark  string
	limit int
	buf   bytes.Buffer
	seen  bool
	over  bool
}

func (b *behind) Write(p []byte) (int, error) {
	n := len(p)
	if b.buf.Len()+n > b.limit {
		b.over = b.seen
		if b.seen {
			return 0, io.ErrShortBuffer
		}
		b.buf.Reset() // noise, and more of it than makes sense to keep
	}
	b.buf.Write(p)
	if !b.seen {
		if i := bytes.Index(b.buf.Bytes(), []byte(b.mark+"\n")); i >= 0 {
			b.seen = true
			b.buf.Next(i + len(b.mark) + 1)
		}
	}
	return n, nil
}

// text is what came behind the mark, or all where it did not come.
func (b *behind) text() string { return b.buf.String() }

func (f *shellFS) within(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, shellAnswer)
}

func (f *shellFS) one(name, script string) (fileInfo, error) {
	ctx, cancel := f.within(context.Background())
	defer cancel()
	out, err := f.script(ctx, script)
	if err != nil {
		return fileInfo{}, err
	}
	infos, err := f.style.parse(out)
	if err != nil || len(infos) != 1 {
		return fileInfo{}, fmt.Errorf("%s tells nothing that can be read", f.style.name)
	}
	infos[0].name = path.Base(name)
	_, err = checkedInfo(infos[0], nil)
	return infos[0], err
}

// Lstat tells about a file or link itself.
func (f *shellFS) Lstat(name string) (fs.FileInfo, error) {
	if err := checkName("lstat", name); err != nil {
		return nil, err
	}
	info, err := f.one(name, f.style.one(posix.Word(Path(name)), false))
	if err != nil {
		return nil, shellPathError("lstat", name, err)
	}
	return info, nil
}

func shellPathError(op, name string, err error) error {
	return &fs.PathError{Op: op, Path: Path(name), Err: err}
}

// ReadLink gives where a link leads.
func (f *shellFS) ReadLink(name string) (string, error) {
	if err := checkName("readlink", name); err != nil {
		return "", err
	}
	ctx, cancel := f.within(context.Background())
	defer cancel()
	p := posix.Word(Path(name))
	out, err := f.script(ctx, "if command -v readlink >/dev/null; then readlink "+p+" || { ls -ld "+p+
		" >/dev/null && echo 'not a link' >&2; exit 1; }\n"+
		"else [ -h "+p+" ] || { ls -ld "+p+" >/dev/null && echo 'not a link' >&2; exit 1; }\nls -ld "+p+" | sed 's/.* -> //'; fi")
	if err != nil {
		return "", shellPathError("readlink", name, err)
	}
	return strings.TrimSuffix(out, "\n"), nil
}

// enterFolder goes into the folder d, or says why not.
const enterFolder = `if ! cd "$d" 2>/dev/null; then
if [ -d "$d" ]; then echo 'Permission denied' >&2
elif ls -ld "$d" >/dev/null; then echo 'Not a directory' >&2; fi
exit 1; fi
[ -r . ] || { echo 'Permission denied' >&2; exit 1; }
`

// EachEntry lists a folder as its names come.
func (f *shellFS) EachEntry(ctx context.Context, name string, each func(fs.DirEntry) error) error {
	if err := checkName("readdir", name); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan struct{})
	pipe := f.stream(ctx, "d="+posix.Word(Path(name))+"\n"+enterFolder+f.style.all, ended)
	slow := time.AfterFunc(shellAnswer, cancel)
	defer slow.Stop()
	err := f.style.each(pipe, func(info fileInfo) error {
		slow.Reset(shellAnswer)
		if validName(info.name) && info.name != "." {
			return each(checkedEntry{fs.FileInfoToDirEntry(info)})
		}
		return nil
	})
	cancel()
	pipe.Close()
	<-ended
	if err != nil && !errors.Is(err, ErrManyNames) {
		err = shellPathError("readdir", name, err)
	}
	return err
}

// ReadDir lists a folder.
func (f *shellFS) ReadDir(name string) ([]fs.DirEntry, error) { return readDir(f, name) }

// Open opens a regular file for reading. Nothing is read yet. With more rights than the account has, no link is followed.
func (f *shellFS) Open(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	if f.prefix != "" {
		return f.OpenResolved(name)
	}
	p := posix.Word(Path(name))
	info, err := f.one(name, f.style.one(p, true)+" || exit 1\n[ -r "+p+" ] || { echo 'Permission denied' >&2; exit 1; }")
	if err != nil {
		return nil, shellPathError("open", name, err)
	}
	return f.opened(name, info, false)
}

// OpenResolved opens a regular file in whose name no link may be. Each command that reads it makes sure of that itself, see
// readPinned.
func (f *shellFS) OpenResolved(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	info, err := f.one(name, pinned(name)+f.style.one(`"$b"`, false)+
		" || exit 1\n[ -h \"$b\" ] || [ -r \"$b\" ] || { echo 'Permission denied' >&2; exit 1; }")
	if err != nil {
		return nil, shellPathError("open", name, err)
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return nil, shellPathError("open", name, ErrExchanged)
	}
	return f.opened(name, info, true)
}

func (f *shellFS) opened(name string, info fileInfo, resolved bool) (fs.File, error) {
	if !info.Mode().IsRegular() {
		return nil, shellPathError("open", name, errors.New("not a regular file"))
	}
	return &shellFile{f: f, name: name, info: info, fresh: true, resolved: resolved}, nil
}

// shellFile is an opened file: a place and what was there. One dd reads it from the front to the back; reads elsewhere are
// commands of their own.
type shellFile struct {
	f     *shellFS
	name  string
	info  fileInfo
	fresh bool // info was not given out yet

	resolved bool // no link may be in its name

	mu     sync.Mutex
	from   int64 // where reading begins
	pipe   *io.PipeReader
	cancel context.CancelFunc
	ended  chan struct{}
}

// ThroughElevation says whether the file is read with more rights than the account has.
func (s *shellFile) ThroughElevation() string { return s.f.prefix }

func (s *shellFile) Stat() (fs.FileInfo, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fresh {
		s.fresh = false
		return s.info, nil
	}
	look := s.f.style.one(posix.Word(Path(s.name)), true)
	if s.resolved {
		look = pinned(s.name) + s.f.style.one(`"$b"`, false)
	}
	info, err := s.f.one(s.name, look)
	if err != nil {
		return nil, shellPathError("stat", s.name, err)
	}
	return info, nil
}

func (s *shellFile) Read(b []byte) (int, error) {
	s.mu.Lock()
	if s.pipe == nil {
		ctx, cancel := context.WithCancel(context.Background())
		s.cancel, s.ended = cancel, make(chan struct{})
		s.pipe = s.f.stream(ctx, s.reading(fmt.Sprintf("dd bs=%d skip=%d", shellBlock, s.from/shellBlock)), s.ended)
		if skip := s.from % shellBlock; skip > 0 {
			if _, err := io.CopyN(io.Discard, s.pipe, skip); err != nil {
				s.mu.Unlock()
				return 0, s.readError(err)
			}
		}
	}
	pipe := s.pipe
	s.mu.Unlock()
	slow := time.AfterFunc(shellAnswer, s.cancel)
	n, err := pipe.Read(b)
	slow.Stop()
	if err != nil && err != io.EOF {
		err = shellPathError("read", s.name, err)
	}
	return n, err
}

// Seek sets where reading begins; once it has begun it goes on to the end.
func (s *shellFile) Seek(offset int64, whence int) (int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if whence != io.SeekStart || offset < 0 || s.pipe != nil {
		return 0, shellPathError("seek", s.name, fs.ErrInvalid)
	}
	s.from = offset
	return offset, nil
}

// reading gives the words that read the file with dd from its standard input. What was opened is looked at first: it must be
// the file that was found, whatever stands under its name by now. Where a shell does not tell, its name has to do, but not with
// more rights than the account has.
func (s *shellFile) reading(dd string) string {
	if s.resolved {
		return readPinned(s.name, s.info.inode, dd, s.f.prefix != "")
	}
	p := posix.Word(Path(s.name))
	if s.f.style.inode == "" || s.info.inode == "" {
		return "{ " + dd + "; } < " + p
	}
	look := s.f.style.inode
	return "{ i=$(" + look + " /dev/stdin 2>/dev/null) || i=$(" + look + " " + p + ")\n" +
		"[ \"$i\" = " + posix.Word(s.info.inode) + " ] || { echo 'it was replaced while it was read' >&2; exit 1; }\n" + dd + "; } < " + p
}

// ReadAt reads anywhere, in blocks that dd can skip to.
func (s *shellFile) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 {
		return 0, shellPathError("read", s.name, fs.ErrInvalid)
	}
	if len(b) == 0 {
		return 0, nil
	}
	from := off / shellBlock
	count := (off+int64(len(b))+shellBlock-1)/shellBlock - from
	ctx, cancel := context.WithTimeout(context.Background(), shellAnswer+time.Duration(len(b)/(64<<10))*time.Second)
	defer cancel()
	ended := make(chan struct{})
	pipe := s.f.stream(ctx, s.reading(fmt.Sprintf("dd bs=%d skip=%d count=%d", shellBlock, from, count)), ended)
	defer func() { cancel(); pipe.Close(); <-ended }()
	if _, err := io.CopyN(io.Discard, pipe, off-from*shellBlock); err != nil {
		return 0, s.readError(err)
	}
	n, err := io.ReadFull(pipe, b)
	if err == io.ErrUnexpectedEOF {
		err = io.EOF
	}
	return n, s.readError(err)
}

func (s *shellFile) readError(err error) error {
	if err == nil || err == io.EOF {
		return err
	}
	return shellPathError("read", s.name, err)
}

func (s *shellFile) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pipe != nil {
		s.cancel()
		s.pipe.Close()
		<-s.ended
		s.pipe = nil
	}
	return nil
}

// stream runs a script and gives its output, behind the mark, as it comes. ended is closed when the command is over.
func (f *shellFS) stream(ctx context.Context, script string, ended chan struct{}) *io.PipeReader {
	out, in := io.Pipe()
	go func() {
		defer close(ended)
		head, errOut := &pass{mark: []byte(f.mark + "\n"), to: in}, &behind{mark: f.mark, limit: 64 << 10}
		exit := -1
		err := fault.Safely(func() (err error) { exit, err = f.run(ctx, f.command(script), head, errOut); return err })
		if err == nil && (exit != 0 || !head.seen) {
			err = f.failure(exit, &behind{seen: head.seen}, errOut)
		}
		in.CloseWithError(err) // nil means the end
	}()
	return out
}

// pass passes on what comes behind the mark.
type pass struct {
	mark []byte
	to   io.Writer
	held []byte
	seen bool
}

func (p *pass) Write(b []byte) (int, error) {
	if p.seen {
		return p.to.Write(b)
	}
	n := len(b)
	p.held = append(p.held, b...)
	if i := bytes.Index(p.held, p.mark); i >= 0 {
		p.seen = true
		rest := p.held[i+len(p.mark):]
		p.held = nil
		if len(rest) > 0 {
			if _, err := p.to.Write(rest); err != nil {
				return 0, err
			}
		}
		return n, nil
	}
	if keep := len(p.mark); len(p.held) > keep {
		p.held = append([]byte(nil), p.held[len(p.held)-keep:]...)
	}
	return n, nil
}
