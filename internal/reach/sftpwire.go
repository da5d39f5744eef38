package reach

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"
)

// sftpWire stands between the SFTP client and the channel, and keeps watch over a server that may do anything: it counts which
// requests wait for an answer, and takes the names of listings out of the answers as they come, so that neither silence nor a
// listing without end holds us or fills our memory. What it passes on to the client is otherwise as it came.
//
// The packets are those of version 3 (draft-ietf-secsh-filexfer-02): a length of four bytes, a type of one, then but for the first
// packet in each direction a number of four, which the answer repeats.
type sftpWire struct {
	io.ReadWriteCloser
	stall func(error) // is called once when an answer is overdue

	mu      sync.Mutex
	waiting map[uint32]*sftpListing // requests without an answer; those of a listing have one
	began   int                     // packets of the beginning without an answer
	moved   time.Time               // when a byte came or went last
	current *sftpListing            // whose requests are going out now
	ended   chan struct{}
	once    sync.Once

	out   frame // of what goes
	in    frame // of what comes
	empty int   // pieces of files without a byte, in a row
	buf   []byte
}

// Types of packets.
const (
	sftpInit    = 1
	sftpReaddir = 12
	sftpName    = 104
	sftpHead    = 9 // bytes of length, type and number
	sftpData    = 103
	sftpMost    = 1 << 20 // the longest packet of names that is taken, in bytes; the client itself takes 256 KiB
)

// sftpPatience is how many answers in a row may bring nothing.
const sftpPatience = 100

var errSFTPPacket = errors.New("the server sends what is not SFTP")

// sftpListing receives the names of one listing.
type sftpListing struct {
	each func(fs.FileInfo) error
	err  error // of each, or of a packet that cannot be read
	stop func()

	empty int // answers without a name in a row
}

// take hands on the names of one answer.
func (l *sftpListing) take(body []byte) {
	if l.err != nil {
		return
	}
	before := l.empty
	l.empty++
	l.err = eachSFTPName(body, func(info fs.FileInfo) error {
		l.empty = 0
		return l.each(info)
	})
	if l.err == nil && before >= sftpPatience {
		l.err = errors.New("the server sends nothing but empty lists")
	}
	if l.err != nil {
		l.stop()
	}
}

// list says whose names come from now on.
func (w *sftpWire) list(l *sftpListing) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.current = l
}

// frame finds the beginnings of packets in a stream of bytes.
type frame struct {
	head [sftpHead]byte
	have int   // bytes of the head
	left int64 // bytes of the packet that still follow the head
}

func newSFTPWire(c io.ReadWriteCloser, after time.Duration, stall func(error)) *sftpWire {
	w := &sftpWire{ReadWriteCloser: c, stall: stall, waiting: map[uint32]*sftpListing{}, moved: time.Now(), ended: make(chan struct{})}
	go w.watch(after)
	return w
}

// watch ends the channel when an answer is overdue: requests wait, and nothing has moved for a while.
func (w *sftpWire) watch(after time.Duration) {
	tick := time.NewTicker(max(after/4, time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-w.ended:
			return
		case <-tick.C:
		}
		w.mu.Lock()
		late := len(w.waiting)+w.began > 0 && time.Since(w.moved) > after
		w.mu.Unlock()
		if late {
			w.stall(fmt.Errorf("%w for %s", ErrSilent, after))
			w.Close()
			return
		}
	}
}

func (w *sftpWire) Close() error {
	w.once.Do(func() { close(w.ended) })
	return w.ReadWriteCloser.Close()
}

func (w *sftpWire) Write(b []byte) (int, error) {
	w.mu.Lock()
	w.moved = time.Now()
	for rest := b; len(rest) > 0; {
		n, whole := w.out.take(rest)
		rest = rest[n:]
		if whole {
			w.sent()
		}
	}
	w.mu.Unlock()
	n, err := w.ReadWriteCloser.Write(b)
	w.mu.Lock()
	w.moved = time.Now()
	w.mu.Unlock()
	return n, err
}

// take takes bytes of a stream, and says whether they end the head of a packet.
func (f *frame) take(b []byte) (n int, whole bool) {
	if f.left > 0 {
		n = int(min(f.left, int64(len(b))))
		f.left -= int64(n)
		return n, false
	}
	n = copy(f.head[f.have:], b)
	if f.have += n; f.have < sftpHead {
		return n, false
	}
	f.have = 0
	f.left = max(0, int64(binary.BigEndian.Uint32(f.head[:4]))+4-sftpHead)
	return n, true
}

func (f *frame) kind() byte     { return f.head[4] }
func (f *frame) number() uint32 { return binary.BigEndian.Uint32(f.head[5:]) }

// sent takes down a request.
func (w *sftpWire) sent() {
	if w.out.kind() == sftpInit {
		w.began++
		return
	}
	var l *sftpListing
	if w.out.kind() == sftpReaddir {
		l = w.current
	}
	w.waiting[w.out.number()] = l
}

// Read passes on what comes, packet by packet; of a listing only that it has no names.
func (w *sftpWire) Read(b []byte) (int, error) {
	for len(w.buf) == 0 {
		if w.in.left > 0 { // the rest of a packet goes by as it is
			n, err := w.ReadWriteCloser.Read(b[:min(int64(len(b)), w.in.left)])
			w.in.left -= int64(n)
			w.touch()
			return n, err
		}
		if err := w.packet(); err != nil {
			return 0, err
		}
	}
	n := copy(b, w.buf)
	w.buf = w.buf[n:]
	return n, nil
}

func (w *sftpWire) touch() {
	w.mu.Lock()
	w.moved = time.Now()
	w.mu.Unlock()
}

// packet reads the head of the next packet, and all of one that lists names.
func (w *sftpWire) packet() error {
	head := make([]byte, sftpHead)
	if _, err := io.ReadFull(w.ReadWriteCloser, head); err != nil {
		return err
	}
	w.touch()
	w.in.take(head)
	w.mu.Lock()
	l, asked := w.waiting[w.in.number()]
	if w.began > 0 {
		w.began, l, asked = w.began-1, nil, true
	} else {
		delete(w.waiting, w.in.number())
	}
	w.mu.Unlock()
	if !asked {
		return errSFTPPacket
	}
	if l == nil || w.in.kind() != sftpName {
		if w.in.kind() == sftpData && w.in.left <= 4 { // a length of none: the end has an answer of its own
			if w.empty++; w.empty > sftpPatience {
				return errSFTPPacket
			}
		} else if w.in.kind() == sftpData {
			w.empty = 0
		}
		w.buf = head
		return nil
	}
	if w.in.left > sftpMost {
		return errSFTPPacket
	}
	body := make([]byte, w.in.left)
	w.in.left = 0
	if _, err := io.ReadFull(w.ReadWriteCloser, body); err != nil {
		return err
	}
	w.touch()
	l.take(body)
	binary.BigEndian.PutUint32(head, sftpHead) // type, number, and a count of no names
	w.buf = append(head, 0, 0, 0, 0)
	return nil
}

// sftpFields reads the fields of a packet.
type sftpFields struct {
	b   []byte
	bad bool
}

func (f *sftpFields) u32() uint32 {
	if len(f.b) < 4 {
		f.b, f.bad = nil, true
		return 0
	}
	n := binary.BigEndian.Uint32(f.b)
	f.b = f.b[4:]
	return n
}

func (f *sftpFields) text() []byte {
	n := f.u32()
	if uint64(n) > uint64(len(f.b)) {
		f.b, f.bad = nil, true
		return nil
	}
	t := f.b[:n]
	f.b = f.b[n:]
	return t
}

// eachSFTPName reads the body of a packet of names: a count, then of each its name, a line of ls, and attributes (sections 5 and 7).
func eachSFTPName(body []byte, each func(fs.FileInfo) error) error {
	f := &sftpFields{b: body}
	count := f.u32()
	for range count {
		name := string(f.text())
		f.text()
		info := fileInfo{name: name}
		flags := f.u32()
		if flags&1 != 0 {
			high, low := f.u32(), f.u32()
			info.size = int64(uint64(high)<<32 | uint64(low)) // what cannot be is found when it is looked at
		}
		if flags&2 != 0 {
			f.u32()
			f.u32()
		}
		if flags&4 != 0 {
			info.mode, _ = unixMode(uint64(f.u32()))
		}
		if flags&8 != 0 {
			f.u32()
			info.modified = time.Unix(int64(f.u32()), 0)
		}
		if flags&(1<<31) != 0 {
			for n := f.u32(); n > 0 && !f.bad; n-- {
				f.text()
				f.text()
			}
		}
		if f.bad {
			return errSFTPPacket
		}
		if name == "." || name == ".." {
			continue
		}
		if err := each(info); err != nil {
			return err
		}
	}
	return nil
}
