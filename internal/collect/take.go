package collect

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/dustin/go-humanize"

	"envask/internal/collect/transfer"
	"envask/internal/logset"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/stamp"
)

func bytesText(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// facts are what is known of a file's times before it is read.
func (f *filesWork) facts(info fs.FileInfo) stamp.Facts {
	zone, from := f.zone()
	given := from == zoneSystem || from == zoneItem
	if f.spec.Zone != nil {
		zone, from, given = f.spec.Zone, zoneItem, true
	}
	return stamp.Facts{Zone: zone, ZoneFrom: from, ZoneGiven: given, AsOf: info.ModTime()}
}

// content gives a file of the system for looking into it. close ends it.
func (f *filesWork) content(name string) (c logset.Content, info fs.FileInfo, close func(), err error) {
	fsys := f.target.FS()
	file, err := reach.OpenResolved(fsys, name)
	if err != nil {
		return c, nil, nil, err
	}
	if info, err = file.Stat(); err == nil && !info.Mode().IsRegular() {
		err = transfer.ErrSpecial(info.Mode())
	}
	if err != nil {
		file.Close()
		return c, nil, nil, err
	}
	c = logset.Content{Open: func() (io.ReadCloser, error) { return reach.OpenResolved(fsys, name) }, Size: info.Size(),
		Far: !reach.Near(f.target)}
	if at, ok := file.(io.ReaderAt); ok {
		c.ReadAt = at.ReadAt
	}
	if stream := f.squeezed(name); stream != nil {
		c.Stretch = stream
	}
	return c, info, func() { file.Close() }, nil
}

// inspect looks at both ends of a file.
func (f *filesWork) inspect(c *candidate, facts stamp.Facts) {
	content, _, done, err := f.content(c.real)
	if err != nil {
		c.member.Look = &logset.Look{Err: err}
		return
	}
	defer done()
	facts.Name = c.real
	c.member.Look = logset.Inspect(content, facts)
	if p := c.member.Look.Profile; p != nil && p.Timeless() {
		if facts.Boot = f.bootTime(); !facts.Boot.IsZero() {
			c.member.Look = logset.Inspect(content, facts)
		}
	}
}

// take takes one file and gives how many bytes it took. A limit of 0 is none. An error means that going on with this item
// makes no sense.
func (f *filesWork) take(ctx context.Context, c *candidate, limit int64) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	if l := c.member.Look; l != nil && l.Released && c.chosen.Cut {
		f.inspect(c, f.facts(c.info))
	}
	lines := !c.whole && f.spec.Cut == "lines" && c.chosen.Cut && c.member.Look.Cuttable()
	if f.dryRun {
		return f.price(ctx, c, lines)
	}
	if lines && !f.budget.reserve(0) {
		f.leave(c, round.Skipped, f.budget.why())
		return 0, f.failure()
	}
	n, err := f.takeFile(ctx, c, lines, limit)
	if err != nil {
		_, _, err = f.spoiled(ctx, c, err)
		return 0, err
	}
	return n, nil
}

func (f *filesWork) takeFile(ctx context.Context, c *candidate, lines bool, limit int64) (int64, error) {
	if lines {
		done, n, err := f.takeLines(ctx, c, limit)
		if done || err != nil {
			return n, err
		}
	}
	return f.takeContent(ctx, c, limit)
}

// wish says what of a file is wanted.
func (f *filesWork) wish() logset.Wish {
	return logset.Wish{Window: f.window(), Unordered: f.spec.Unordered}
}

// takeLines takes the lines of the window from a file. done is false when all of it belongs: then it is taken as it is.
func (f *filesWork) takeLines(ctx context.Context, c *candidate, limit int64) (done bool, taken int64, err error) {
	content, info, end, err := f.content(c.real)
	if err != nil {
		return f.spoiled(ctx, c, err)
	}
	defer end()
	if info.Size() < c.member.Look.Size { // another file than was looked at
		f.inspect(c, f.facts(info))
		if l := c.member.Look; l.Err != nil || !l.Cuttable() {
			return false, 0, nil
		}
	}
	part := f.part()
	out, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return true, 0, transfer.Ours(err)
	}
	defer os.Remove(part) // fails harmlessly after the rename
	defer out.Close()
	s := &transfer.Sink{Ctx: ctx, Out: out, Hash: sha256.New(), Limit: 1 << 62, Count: f.count}
	var spooled []string
	defer func() {
		for _, name := range spooled {
			os.Remove(name)
		}
	}()
	var spool func() (logset.Content, error)
	if content.Far {
		spool = func() (logset.Content, error) {
			name := f.part()
			spooled = append(spooled, name)
			s.Count = func(int64) {} // it is counted as it arrives
			return spoolFile(ctx, f.target.FS(), c.real, f.part(), name, f.count)
		}
	}
	o, err := logset.Cut(ctx, content, c.member.Look, f.wish(), spool, s)
	switch {
	case err != nil:
		return f.spoiled(ctx, c, err)
	case o.All:
		return false, 0, nil
	case o.Nothing():
		f.leave(c, round.Empty, round.Join(c.entry.Reason, "no line of it is of the window"))
		return true, 0, nil
	}
	target := shortTarget(cmp.Or(c.target, "files/"+name0(c.entry.Source)))
	if o.Packing != "" {
		target = f.plainName(target)
	}
	e := &c.entry
	e.Size, e.ModTime, e.State = info.Size(), info.ModTime().UTC(), round.Taken
	e.Cut = CutInfo(o)
	f.budget.spend(s.N)
	e.Reason = round.Join(c.chosen.Why, e.Cut.Words(f.window().Zone))
	if o.Ended != nil {
		e.State = round.Cut
		e.Reason = round.Join(e.Reason, "it ends early ("+transfer.Plain(o.Ended)+"); what is whole was taken")
	}
	return true, s.N, f.finish(c, out, part, target, s, limit)
}

// spoiled decides what an error in the middle of a file means.
func (f *filesWork) spoiled(ctx context.Context, c *candidate, err error) (bool, int64, error) {
	var local *transfer.LocalError
	switch {
	case ctx.Err() != nil:
		return true, 0, ctx.Err()
	case errors.As(err, &local):
		return true, 0, err
	}
	if gone := lostBy(f.target, err); gone != nil {
		return true, 0, gone
	}
	f.leave(c, stateOf(err), transfer.Plain(err))
	return true, 0, f.failure()
}

// finish applies the item's limits to what was taken and gives it its final name.
func (f *filesWork) finish(c *candidate, out *os.File, part, target string, s *transfer.Sink, limit int64) error {
	e := &c.entry
	e.Bytes, e.SHA256 = s.N, hex.EncodeToString(s.Hash.Sum(nil))
	from, why, err := f.excess(out, s.N, limit, c)
	if err != nil {
		return transfer.Ours(err)
	}
	if from > 0 {
		e.State = round.Cut
		e.Reason = round.Join(e.Reason, why)
		if e.Bytes, e.SHA256, err = dropHead(out, part, from, s.N); err != nil {
			return transfer.Ours(err)
		}
	}
	if err := out.Close(); err != nil {
		return transfer.Ours(err)
	}
	if err := f.settlePlace(part, target, e); err != nil {
		return err
	}
	f.add(*e)
	return f.failure()
}

// excess gives how many bytes at the beginning are beyond the item's limits, up to the beginning of a line.
func (f *filesWork) excess(file *os.File, size, limit int64, c *candidate) (from int64, why string, err error) {
	if l := c.member.Look; f.spec.LastLines > 0 && !c.whole && (l == nil || l.Packing == "") {
		if from, err = tailStart(file, size, f.spec.LastLines); err != nil {
			return 0, "", err
		}
		if from > 0 {
			why = fmt.Sprintf("the last %d lines kept", f.spec.LastLines)
		}
	}
	if limit > 0 && size-from > limit {
		all := size - from
		if from, err = lineFrom(file, size-limit, size); err != nil {
			return 0, "", err
		}
		why = round.Join(why, fmt.Sprintf("newest %s kept of %s (the item's max)", bytesText(size-from), bytesText(all)))
	}
	return from, why, nil
}

// tailStart gives where the last n lines of a file begin.
func tailStart(file io.ReaderAt, size int64, n int) (int64, error) {
	buf := make([]byte, 64<<10)
	lines := 0
	for end := size; end > 0; {
		from := max(0, end-int64(len(buf)))
		piece := buf[:end-from]
		if _, err := file.ReadAt(piece, from); err != nil && err != io.EOF {
			return 0, err
		}
		for i := len(piece) - 1; i >= 0; i-- {
			if piece[i] == '\n' && from+int64(i) != size-1 {
				if lines++; lines == n {
					return from + int64(i) + 1, nil
				}
			}
		}
		end = from
	}
	return 0, nil
}

// lineFrom gives the first beginning of a line at or behind an offset; the offset itself where lines are very long.
func lineFrom(file io.ReaderAt, off, size int64) (int64, error) {
	buf := make([]byte, min(1<<20, size-off+1))
	n, err := file.ReadAt(buf, off-1)
	if err != nil && err != io.EOF {
		return 0, err
	}
	if i := bytes.IndexByte(buf[:n], '\n'); i >= 0 && off+int64(i) < size {
		return off + int64(i), nil
	}
	return off, nil
}

// dropHead takes the first bytes off a file of ours, in place.
func dropHead(file *os.File, name string, from, size int64) (n int64, sum string, err error) {
	h := sha256.New()
	buf := make([]byte, 256<<10)
	for at := from; at < size; {
		k, err := file.ReadAt(buf[:min(int64(len(buf)), size-at)], at)
		if k == 0 && err != nil {
			return 0, "", err
		}
		h.Write(buf[:k])
		if _, err := file.WriteAt(buf[:k], n); err != nil {
			return 0, "", err
		}
		at += int64(k)
		n += int64(k)
	}
	return n, hex.EncodeToString(h.Sum(nil)), os.Truncate(name, n)
}

// plainName gives the name for what was unpacked from a compressed file: without the ending, unless that is taken.
func (f *filesWork) plainName(target string) string {
	plain, _ := logset.Unsuffixed(target)
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.names.Has([]byte(strings.TrimPrefix(plain, "files/"))) || f.plain[plain] || plain == target {
		return target + ".txt"
	}
	f.plain[plain] = true // x.log.1.gz and x.log.1.xz would both be x.log.1
	return plain
}

// spoolFile copies a file of the system to a file of ours.
func spoolFile(ctx context.Context, fsys reach.FS, name, part, final string, count func(int64)) (logset.Content, error) {
	if _, err := (transfer.File{FS: fsys, Name: name, Part: part, Final: final, Count: count}).Take(ctx); err != nil {
		return logset.Content{}, err
	}
	file, err := os.Open(final)
	if err != nil {
		return logset.Content{}, transfer.Ours(err)
	}
	info, err := file.Stat()
	if err != nil {
		return logset.Content{}, transfer.Ours(err)
	}
	return logset.Content{Open: func() (io.ReadCloser, error) { return os.Open(final) }, ReadAt: file.ReadAt, Size: info.Size()}, nil
}

// content gives the bytes of a small file that was read when it was looked at.
func (c *candidate) content() ([]byte, bool) {
	l := c.member.Look
	if l == nil || c.info.Size() != l.Size {
		return nil, false
	}
	return l.Content()
}

// cheap is up to what size a file that was changed while it was read is read once more, in bytes.
const cheap = 16 << 20

// takeContent takes a file as it is.
func (f *filesWork) takeContent(ctx context.Context, c *candidate, limit int64) (int64, error) {
	e := &c.entry
	target := shortTarget(cmp.Or(c.target, "files/"+name0(e.Source))) // the source is safe already
	need, err := f.room(c.info)
	if err != nil {
		return 0, err
	}
	if !f.budget.reserve(need) {
		f.leave(c, round.Skipped, f.budget.why())
		return 0, f.failure()
	}
	var got transfer.Got
	defer func() { f.budget.spend(got.Kept - need) }()
	if err := f.fits(need); err != nil {
		return 0, err
	}
	whole := f.part()
	defer os.Remove(whole) // fails harmlessly after the rename
	if data, ok := c.content(); ok {
		got, err = transfer.Keep(data, c.info.ModTime(), f.part(), whole)
		f.count(got.Bytes)
	} else {
		get := transfer.File{FS: f.target.FS(), Name: c.real, Part: f.part(), Final: whole, Stream: f.squeezed(c.real), Count: f.count,
			Resume: f.resumePart(e.Source)}
		if got, err = get.Take(ctx); err == nil && got.Torn && got.Size <= cheap {
			f.count(-got.Bytes)
			first := got
			if got, err = get.Take(ctx); err == nil && !got.Torn {
				got.Note = "changed during collection (" + first.Note + "), read again"
			}
		}
	}
	if err != nil {
		return 0, err
	}
	e.Size, e.Bytes, e.SHA256, e.ModTime = got.Size, got.Bytes, got.SHA256, got.Modified.UTC()
	e.State, e.Reason, e.Through = round.Taken, round.Join(e.Reason, got.Note), got.Through
	if got.Through != "" {
		e.Reason = round.Join(e.Reason, "read with "+got.Through)
	}
	if got.Short {
		e.State, e.Reason = round.Cut, got.Note
	}
	f.remember(e.Source, again{name: c.real, whole: e.State == round.Taken, size: got.Size, sha256: e.SHA256})
	if err := f.limitWhole(c, whole, limit); err != nil {
		return 0, err
	}
	if c.check != nil {
		c.check(e)
	}
	if e.State != round.Skipped {
		if err := f.settlePlace(whole, target, e); err != nil {
			return 0, err
		}
	}
	f.add(*e)
	return e.Bytes, f.failure()
}

// largeFile is from what size on it is asked whether there is room for a file, and spareRoom what stays free besides, in bytes.
const (
	largeFile = 64 << 20
	spareRoom = 128 << 20
)

// mostSparse is up to what size a file is read that is mostly holes, in bytes: reading them takes as long as reading what is there.
const mostSparse = 8 << 30

// room gives how many bytes a file takes on a disk: one with holes takes less than its size says.
func (f *filesWork) room(info fs.FileInfo) (int64, error) {
	size := info.Size()
	takes, known := occupied(info)
	if !known || takes >= size {
		return size, nil
	}
	if size > mostSparse && takes < size/8 {
		return 0, fmt.Errorf("a sparse file of %s of which %s are there: too large to be read whole; "+
			"take what matters of it with a command", bytesText(size), bytesText(takes))
	}
	return takes, nil
}

// fits says whether there is room here for a file, rather than fill the disk to its last byte.
func (f *filesWork) fits(size int64) error {
	if size < largeFile || f.req.Free == nil {
		return nil
	}
	if free := f.req.Free(); free >= 0 && free < size+spareRoom {
		return &transfer.RoomError{Err: fmt.Errorf("it takes %s, and only %s are free", bytesText(size), bytesText(free))}
	}
	return nil
}

// limitWhole applies the item's limits to a file that was taken as it is. What is compressed cannot lose its beginning.
func (f *filesWork) limitWhole(c *candidate, name string, limit int64) error {
	e := &c.entry
	if f.spec.LastLines == 0 && (limit == 0 || e.Bytes <= limit) {
		return nil
	}
	file, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return transfer.Ours(err)
	}
	defer file.Close()
	head := make([]byte, 8)
	n, _ := file.ReadAt(head, 0)
	if logset.PackingOf(head[:n]) != "" {
		if limit > 0 && e.Bytes > limit {
			e.State, e.Reason = round.Skipped, round.Join(e.Reason, "larger than the item's max of "+bytesText(limit)+
				", and compressed: left out")
			e.Bytes, e.SHA256 = 0, ""
		}
		return nil
	}
	from, why, err := f.excess(file, e.Bytes, limit, c)
	if err != nil {
		return transfer.Ours(err)
	}
	if from > 0 {
		e.State, e.Reason = round.Cut, round.Join(e.Reason, why)
		if e.Bytes, e.SHA256, err = dropHead(file, name, from, e.Bytes); err != nil {
			return transfer.Ours(err)
		}
	}
	return nil
}

// CutInfo tells for an entry how a file was cut.
func CutInfo(o *logset.Outcome) *round.CutInfo {
	c := &round.CutInfo{Lines: o.Lines, Of: o.Of, First: o.First, Last: o.Last, Unpacked: o.Packing, Sure: "read whole", Notes: o.Notes}
	if o.Probes > 0 {
		c.Sure = fmt.Sprintf("assumed sorted after %d probes; lines up to %s or %d lines out of place are covered", o.Probes,
			o.Bound, logset.DisorderLines)
	}
	if o.Odd > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%d lines dated far from all others went with the line before them", o.Odd))
	}
	return c
}

// name0 takes the leading slash off an already safe path.
func name0(source string) string {
	if source != "" && source[0] == '/' {
		return source[1:]
	}
	return path.Clean(source)
}

// resumePart gives the place where a part of a file stays.
func (w *work) resumePart(source string) string {
	sum := sha256.Sum256([]byte(w.sys.Name + "\x00" + w.item.ID + "\x00" + source))
	return filepath.Join(w.round.PartDir(), hex.EncodeToString(sum[:12])+transfer.ResumeEnding)
}
