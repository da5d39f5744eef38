package submit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/time/rate"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/patience"
)

// mostFailures is how many tries in a row may fail without a byte more having gone.
const mostFailures = 5

// passing is a failure that another try may not meet: a lost connection, a busy server.
type passing struct{ error }

func (p passing) Unwrap() error { return p.error }

// passingNumbers are the errors of the system that another try may not meet.
var passingNumbers = []syscall.Errno{syscall.ECONNRESET, syscall.EPIPE, syscall.ETIMEDOUT, syscall.ECONNABORTED, syscall.ECONNREFUSED,
	syscall.EHOSTUNREACH, syscall.ENETUNREACH, syscall.EINTR, syscall.EAGAIN}

// isPassing says whether it is worth to try again.
func isPassing(err error) bool {
	var p passing
	var n net.Error
	var number syscall.Errno
	if errors.As(err, &number) && !errors.As(err, &p) { // each is a net.Error by its methods, also that a disk is full
		return slices.Contains(passingNumbers, number)
	}
	return errors.As(err, &p) || errors.As(err, &n) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) ||
		errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE) || errors.Is(err, net.ErrClosed)
}

// Send sends a parcel over a route, which open opens. When the connection is lost, the route is opened again, and the parcel
// goes on where it stopped, if the other side can do that.
func Send(ctx context.Context, open func(context.Context) (Route, error), p Parcel, m *Means) (Receipt, error) {
	rec := Receipt{Name: p.Name, Size: p.Size, SHA256: p.SHA256, Started: time.Now().UTC().Truncate(time.Second)}
	if err := p.sendable(); err != nil {
		return rec, err
	}
	x := &sending{Parcel: p, Means: m, rec: &rec}
	for failures := 0; ; {
		rec.Tries++
		x.moved = false
		err := x.once(ctx, open)
		switch {
		case err == nil:
			rec.Finished = time.Now().UTC().Truncate(time.Second)
			return rec, nil
		case ctx.Err() != nil:
			return rec, x.ended(ctx)
		case !isPassing(err) || rec.Server == "": // it was never reached
			return rec, err
		}
		if failures++; x.moved || rec.Resumed > x.kept {
			failures = 1
		}
		x.kept = max(x.kept, rec.Resumed)
		if failures >= mostFailures {
			return rec, fmt.Errorf("%w (tried %d times)", err, rec.Tries)
		}
		m.note(fmt.Sprintf("%v; trying again", err))
		pause := m.Pause
		if pause == nil {
			pause = pauses.Wait
		}
		if err := pause(ctx, failures); err != nil {
			if ctx.Err() != nil {
				err = x.ended(ctx)
			}
			return rec, err
		}
	}
}

// sendable makes sure that a parcel is one regular file, under a name that leads nowhere on the other side.
func (p Parcel) sendable() error {
	if err := durable.PlainName(p.Name); err != nil {
		return fault.New(fault.Refused, "submit", "", err.Error(), "")
	}
	info, err := os.Lstat(p.File)
	if err == nil && !info.Mode().IsRegular() {
		return fault.New(fault.Refused, "submit", p.File, "it is not a regular file", "")
	}
	return err
}

// pauses are the times between tries.
var pauses = patience.Doubling(time.Second, 32*time.Second)

func (m *Means) note(text string) {
	if m.Note != nil {
		m.Note(text)
	}
}

// sending is one parcel on its way.
type sending struct {
	Parcel
	*Means
	rec     *Receipt
	highest int64 // so many bytes have gone at most
	moved   bool  // more bytes than ever before went in this try
	handed  bool  // a courier had it, in this try or an earlier one
	kept    int64 // so many bytes were there at most when a try began
}

func (x *sending) once(ctx context.Context, open func(context.Context) (Route, error)) error {
	r, err := open(ctx)
	if err != nil {
		return err
	}
	defer r.Close()
	x.rec.Server, x.rec.Cover = r.Server(), r.Cover()
	if s, ok := r.(Store); ok {
		return x.store(ctx, s)
	}
	x.handed = true
	return r.(Courier).Deliver(ctx, x.Parcel, x.progress, x.rec)
}

// ErrUnderway is in the error of a send that ended while a courier had the parcel: whether the other side took it is not known.
var ErrUnderway = errors.New("the other side may have taken it")

// ended gives the error of a send whose context ended.
func (x *sending) ended(ctx context.Context) error {
	if x.handed {
		return fmt.Errorf("%w; %w", ctx.Err(), ErrUnderway)
	}
	return ctx.Err()
}

func (x *sending) progress(done int64) {
	if done > x.highest {
		x.highest, x.moved = done, true
	}
	if x.Progress != nil {
		x.Progress(done)
	}
}

// store writes the parcel under a name that shows it is not whole, compares it, and gives it its final name.
func (x *sending) store(ctx context.Context, r Store) error {
	final, part := r.Place(x.Name)
	x.rec.Path = final
	if size, err := r.Size(final); err == nil {
		if err := x.alreadyThere(ctx, r, size); err != nil {
			return err
		}
		return x.settleLeft(r, final, part)
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	id, at, err := x.begin(r, part)
	if err != nil {
		return err
	}
	if err := x.enough(r, at); err != nil {
		return errors.Join(err, x.takeBack(r, part, id))
	}
	x.rec.Resumed = at
	err = x.fill(ctx, r, part, at)
	if err == nil {
		err = r.Rename(part, final)
	}
	if err != nil {
		if _, resumes := r.Resumes(); resumes && (ctx.Err() != nil || isPassing(err)) {
			return err // it is resumed, now or by a later submit
		}
		return errors.Join(err, x.takeBack(r, part, id))
	}
	delete(x.Left, part)
	if err := x.Changes.Done(id, "became "+final); err != nil {
		return err
	}
	if size, err := r.Size(final); err != nil || size != x.Parcel.Size {
		return fmt.Errorf("the file is not there under its final name (%d bytes expected, found %d, %v)", x.Parcel.Size, size, err)
	}
	return nil
}

// settleLeft strikes off what an earlier try left on its way, once the whole is there: a kill can come between the final name and the
// record of it.
func (x *sending) settleLeft(r Store, final, part string) error {
	id, known := x.Left[part]
	if !known {
		return nil
	}
	if _, err := r.Size(part); errors.Is(err, os.ErrNotExist) {
		delete(x.Left, part)
		return x.Changes.Done(id, "became "+final)
	}
	return x.takeBack(r, part, id)
}

// begin writes the file down before it is made, or finds what an earlier try left of it.
func (x *sending) begin(r Store, part string) (id string, at int64, err error) {
	if id, known := x.Left[part]; known {
		back, resumes := r.Resumes()
		size, err := r.Size(part)
		switch {
		case err != nil && !errors.Is(err, os.ErrNotExist):
			return "", 0, err
		case err == nil && resumes && size <= x.Parcel.Size && size > back:
			return id, size - back, nil
		}
		return id, 0, nil
	}
	if id, err = x.Changes.Begin(part, x.SHA256); err != nil {
		return "", 0, err
	}
	if x.Left == nil {
		x.Left = map[string]string{}
	}
	x.Left[part] = id
	return id, 0, nil
}

// enough makes sure that there is room, where the other side can tell.
func (x *sending) enough(r Store, at int64) error {
	roomy, ok := r.(Roomy)
	if !ok {
		return nil
	}
	if room := roomy.Room(); room >= 0 && room < x.Parcel.Size-at {
		return fault.New(fault.Failed, "", x.Name, fmt.Sprintf("there is room for %s only, and %s are to go there",
			humanize.IBytes(uint64(room)), humanize.IBytes(uint64(x.Parcel.Size-at))), "ask the vendor for room, or choose another route")
	}
	return nil
}

// fill writes the file and compares it. What was gone on with and differs is written once more from the beginning.
func (x *sending) fill(ctx context.Context, r Store, part string, at int64) error {
	for {
		if err := x.transfer(ctx, r, part, at); err != nil {
			return err
		}
		var err error
		if x.rec.Proof, x.rec.Proved, err = prove(ctx, r, part, x.Parcel); err == nil || at == 0 || ctx.Err() != nil || isPassing(err) {
			return err
		}
		x.note(fmt.Sprintf("the partial upload does not match (%v); starting over", err))
		at, x.rec.Resumed = 0, 0
	}
}

func (x *sending) takeBack(r Store, part, id string) error {
	err := r.Remove(part)
	if err == nil || errors.Is(err, os.ErrNotExist) {
		delete(x.Left, part)
		return x.Changes.Done(id, "removed")
	}
	return fmt.Errorf("%s is left there and could not be removed; the next submit tries again (%w)", part, err)
}

func (x *sending) transfer(ctx context.Context, r Store, part string, at int64) error {
	f, err := os.Open(x.File)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err := f.Seek(at, io.SeekStart); err != nil {
		return err
	}
	if err := r.Put(ctx, part, &meter{ctx: ctx, r: f, at: at, size: x.Parcel.Size - at, told: x.progress, rate: x.Rate}, at); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return err
	}
	return nil
}

// meter counts what goes, holds it back to a rate, and stops when the context ends.
type meter struct {
	ctx  context.Context
	r    io.Reader
	at   int64 // of the whole
	size int64 // of what is read here
	told func(done int64)
	rate *rate.Limiter
}

func (m *meter) Read(b []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, err
	}
	if m.rate != nil {
		b = b[:min(len(b), m.rate.Burst())]
		if err := m.rate.WaitN(m.ctx, len(b)); err != nil {
			return 0, err
		}
	}
	n, err := m.r.Read(b)
	if m.at += int64(n); m.told != nil && n > 0 {
		m.told(m.at)
	}
	return n, err
}

// Size lets the SFTP client send many packets at a time.
func (m *meter) Size() int64 { return m.size }

// prove compares what is there with what was sent, as far as the other side allows.
func prove(ctx context.Context, r Store, path string, p Parcel) (proof string, proved bool, err error) {
	size, err := r.Size(path)
	if err != nil {
		return "", false, err
	}
	if size != p.Size {
		return "", false, fmt.Errorf("only %d of %d bytes arrived", size, p.Size)
	}
	known, how, err := compare(ctx, r, path, p)
	switch {
	case err != nil:
		return "", false, err
	case !known:
		return "the size agrees; " + how, false, nil
	}
	return "size and " + how, true, nil
}

func (x *sending) alreadyThere(ctx context.Context, r Store, size int64) error {
	other := fault.New(fault.Refused, "", x.rec.Path, "another file of this name is there already, and is not overwritten",
		"rename or remove it there, or pack again under another name")
	if size != x.Parcel.Size {
		return other
	}
	known, how, err := compare(ctx, r, x.rec.Path, x.Parcel)
	if errors.Is(err, errDiffers) {
		return other
	}
	if err != nil {
		return err
	}
	x.rec.Already, x.rec.Proved = true, known
	x.rec.Proof = "it was there already, of the same size; " + how
	if known {
		x.rec.Proof = "it was there already; size and " + how
	}
	return nil
}

// ErrSilent is what Confirm gives for ways of sending that cannot be asked.
var ErrSilent = errors.New("this way of sending cannot be asked again")

// Confirm asks the other side again about what a receipt says.
func Confirm(ctx context.Context, r Route, rec *Receipt) (proof string, proved bool, err error) {
	if p, ok := r.(*put); ok && p.u.RawQuery == "" {
		u, _ := p.file(rec.Name)
		return p.prove(ctx, u, Parcel{Name: rec.Name, Size: rec.Size, SHA256: rec.SHA256})
	}
	s, ok := r.(Store)
	if !ok {
		return "", false, ErrSilent
	}
	return prove(ctx, s, rec.Path, Parcel{Name: rec.Name, Size: rec.Size, SHA256: rec.SHA256})
}
