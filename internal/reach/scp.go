package reach

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
)

// Fetcher is what a device offers whose files come one by one, by their names.
type Fetcher interface {
	// Fetch opens a file of the device by the protocol of scp. size is what the device says, in bytes.
	Fetch(ctx context.Context, path string) (content io.ReadCloser, size int64, err error)
}

var _ Fetcher = (*Console)(nil)

// maxSCPLine bounds a line of the protocol of scp, in bytes.
const maxSCPLine = 4096

var errNoSCP = errors.New("the device serves neither SFTP nor the protocol of scp")

// Fetch opens a file of the device. The device sends "C", mode, size and name, then the bytes and a NUL; each part is acknowledged with a
// NUL (the protocol of rcp, that scp keeps). Whatever name it sends is not looked at.
func (c *Console) Fetch(ctx context.Context, path string) (io.ReadCloser, int64, error) {
	if c.line == nil {
		return nil, 0, errNoSCP
	}
	if !plainPathName().MatchString(path) {
		return nil, 0, fmt.Errorf("%q holds characters that are not given to a device", path)
	}
	session, _, free, err := c.line.rooms.get(ctx, false)
	if err != nil {
		return nil, 0, err
	}
	f := &scpFile{close: sync.OnceFunc(func() { session.Close(); free() })}
	f.unhook = context.AfterFunc(ctx, f.close)
	out, err := session.StdoutPipe()
	if err == nil {
		f.in, err = session.StdinPipe()
	}
	if err == nil {
		if err = session.Start("scp -f " + path); err != nil {
			err = fmt.Errorf("%w: %w", errNoSCP, err)
		}
	}
	if err == nil {
		f.out = bufio.NewReader(out)
		err = f.head()
	}
	if err != nil {
		f.Close()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return nil, 0, err
	}
	return f, f.left, nil
}

// scpFile is a file that is sent to us.
type scpFile struct {
	out    *bufio.Reader
	in     io.Writer
	left   int64
	ended  bool
	close  func()
	unhook func() bool
}

func (f *scpFile) acknowledge() error {
	_, err := f.in.Write([]byte{0})
	return err
}

// head reads until the line that announces the file.
func (f *scpFile) head() error {
	for {
		if err := f.acknowledge(); err != nil {
			return err
		}
		line, err := f.line()
		if err != nil {
			return err
		}
		if line == "" || line[0] == 'T' { // times
			continue
		}
		fields := strings.SplitN(line, " ", 3)
		if line[0] != 'C' || len(fields) != 3 {
			return fmt.Errorf("the device does not send it: %q", strings.TrimLeft(line, "\x01\x02"))
		}
		if f.left, err = strconv.ParseInt(fields[1], 10, 64); err != nil || f.left < 0 {
			return fmt.Errorf("the device announces a size that is none: %q", line)
		}
		return f.acknowledge()
	}
}

func (f *scpFile) line() (string, error) {
	var line []byte
	for len(line) < maxSCPLine {
		c, err := f.out.ReadByte()
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = fmt.Errorf("%w: it sends nothing", errNoSCP)
			}
			return "", err
		}
		if c == '\n' {
			return string(line), nil
		}
		line = append(line, c)
	}
	return "", errors.New("the device announces a file with a line that does not end")
}

func (f *scpFile) Read(b []byte) (int, error) {
	if f.left == 0 {
		if f.ended {
			return 0, io.EOF
		}
		f.ended = true
		if c, err := f.out.ReadByte(); err != nil || c != 0 { // how the device says that it could read all of it
			return 0, errors.New("the device says that it could not read all of the file")
		}
		_ = f.acknowledge() // nothing depends on it
		return 0, io.EOF
	}
	n, err := f.out.Read(b[:min(int64(len(b)), f.left)])
	f.left -= int64(n)
	if errors.Is(err, io.EOF) && f.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func (f *scpFile) Close() error {
	f.unhook()
	f.close()
	return nil
}
