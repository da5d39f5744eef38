package collect

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/posix"
	"envask/internal/round"
)

// takeJournal takes the system journal of the window: in its export form
// (https://systemd.io/JOURNAL_EXPORT_FORMATS/), bounded on the system, and beside it a copy that can be read.
func takeJournal(ctx context.Context, w *work) error {
	spec := w.item.Spec.(ask.Journal)
	line := w.journalLine(spec)
	s := stored{line: line, name: "journal/" + w.item.ID + ".export", readable: "journal/" + w.item.ID + ".txt",
		timeout: spec.Timeout, max: spec.Max,
		convert: func(in io.Reader, out io.Writer) error { return JournalText(in, out, w.clock.Location) }}
	return s.take(ctx, w)
}

// journalLine is the command that reads the journal. Times are given in seconds since 1970, which need no zone.
func (w *work) journalLine(spec ask.Journal) string {
	words := []string{"journalctl", "--no-pager", "--quiet", "--output=export"}
	if win := w.window(); win.Limited() {
		from, to := win.Spans[0].From, win.Spans[0].To
		for _, s := range win.Spans {
			if s.From.Before(from) {
				from = s.From
			}
			if s.To.After(to) {
				to = s.To
			}
		}
		if to.Nanosecond() > 0 {
			to = to.Add(time.Second)
		}
		words = append(words, fmt.Sprintf("--since=@%d", from.Unix()), fmt.Sprintf("--until=@%d", to.Unix()))
	}
	for _, u := range spec.Units {
		words = append(words, "--unit="+posix.Word(u))
	}
	if spec.Priority != "" {
		words = append(words, "--priority="+spec.Priority)
	}
	if spec.Folder != "" {
		words = append(words, "--directory="+posix.Word(spec.Folder))
	}
	return strings.Join(words, " ")
}

// maxField bounds one field of a journal entry, in bytes; what is longer is no journal.
const maxField = 768 << 20

// JournalText makes lines to read of a journal in export form: time, host, who, message. The times are those of the entries.
func JournalText(in io.Reader, out io.Writer, zone *time.Location) error {
	r := bufio.NewReaderSize(in, 64<<10)
	w := bufio.NewWriterSize(out, 64<<10)
	entry := map[string]string{}
	flush := func() error {
		if len(entry) == 0 {
			return nil
		}
		err := writeEntry(w, entry, zone)
		clear(entry)
		return err
	}
	for {
		line, err := cutLine(r)
		if err == io.EOF && line == "" {
			return errors.Join(flush(), w.Flush())
		}
		if err != nil && err != io.EOF {
			return err
		}
		line = strings.TrimSuffix(line, "\n")
		name, value, text := strings.Cut(line, "=")
		switch {
		case line == "":
			if err := flush(); err != nil {
				return err
			}
			continue
		case !text: // a field with any bytes: its length in 8 bytes, little endian, then the bytes
			if value, err = binaryField(r); err != nil {
				return fmt.Errorf("the journal ends within the field %.40q: %w", name, errors.Join(err, flush(), w.Flush()))
			}
		}
		if keepField[name] {
			entry[name] = value
		}
	}
}

// maxJournalLine is how much of one line of a journal is kept in memory, in bytes: a system can send one without end.
const maxJournalLine = 64 << 10

// cutLine reads a line with its end, and keeps its beginning.
func cutLine(r *bufio.Reader) (string, error) {
	var kept []byte
	for {
		piece, err := r.ReadSlice('\n')
		kept = append(kept, piece[:min(len(piece), max(0, maxJournalLine-len(kept)))]...)
		if err != bufio.ErrBufferFull {
			return string(kept), err
		}
	}
}

// keepField are the fields that a line to read is made of.
var keepField = map[string]bool{"__REALTIME_TIMESTAMP": true, "_HOSTNAME": true, "SYSLOG_IDENTIFIER": true, "_COMM": true, "_PID": true,
	"SYSLOG_PID": true, "MESSAGE": true,
	"PRIORITY": true, "_SYSTEMD_UNIT": true}

func binaryField(r *bufio.Reader) (string, error) {
	var length uint64
	if err := binary.Read(r, binary.LittleEndian, &length); err != nil {
		return "", err
	}
	if length > maxField {
		return "", fmt.Errorf("a field of %d bytes", length)
	}
	b := transfer.Head{Room: 64 << 10}
	n, err := io.CopyN(&b, r, int64(length))
	if err != nil || n != int64(length) {
		return "", io.ErrUnexpectedEOF
	}
	_, err = r.ReadByte() // the line end behind it
	return b.String(), err
}

var priorityNames = [8]string{"emerg", "alert", "crit", "err", "warning", "notice", "info", "debug"}

func writeEntry(w io.Writer, e map[string]string, zone *time.Location) error {
	at := "no time"
	if us, err := strconv.ParseInt(e["__REALTIME_TIMESTAMP"], 10, 64); err == nil {
		at = time.UnixMicro(us).In(zone).Format("2006-01-02T15:04:05.000000Z07:00")
	}
	who := e["SYSLOG_IDENTIFIER"]
	if who == "" {
		who = e["_COMM"]
	}
	if pid := e["_PID"]; pid != "" {
		who += "[" + pid + "]"
	} else if pid := e["SYSLOG_PID"]; pid != "" {
		who += "[" + pid + "]"
	}
	level := ""
	if p, err := strconv.Atoi(e["PRIORITY"]); err == nil && p >= 0 && p < len(priorityNames) && p != 6 {
		level = " <" + priorityNames[p] + ">"
	}
	message := strings.ReplaceAll(strings.TrimRight(e["MESSAGE"], "\n"), "\n", "\n    ")
	_, err := fmt.Fprintf(w, "%s %s %s%s: %s\n", at, e["_HOSTNAME"], who, level, message)
	return err
}

// stored is a command whose output is evidence by itself, and of which a readable copy is made here.
type stored struct {
	line           string
	name, readable string // places of the output and of the copy
	timeout        time.Duration
	max            int64
	convert        func(in io.Reader, out io.Writer) error
	empty          func(size int64) bool // says whether the output holds nothing
}

func (s stored) take(ctx context.Context, w *work) error {
	e := round.Entry{Source: s.line}
	if had, ok := w.done.get(s.line); ok {
		w.add(had)
		if copied, ok := w.done.get(s.readable); ok {
			w.add(copied)
		}
		return w.failure()
	}
	run, why := w.runner()
	switch {
	case run == nil:
		e.State, e.Reason = round.Failed, why
	case w.probing:
		e.State, e.Reason = lookUp(ctx, run, s.line)
	case w.dryRun:
		e.State, e.Name, e.Reason = round.Taken, s.name, fmt.Sprintf("would be read, at most %s", s.timeout)
	default:
		return s.read(ctx, w, run, &e)
	}
	w.add(e)
	return w.failure()
}

func (s stored) read(ctx context.Context, w *work, run interface {
	Run(context.Context, string, io.Writer, io.Writer) (int, error)
}, e *round.Entry) error {
	runCtx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	out, err := transfer.NewTail(w.round.PartDir(), s.max)
	if err != nil {
		return err
	}
	defer out.Remove()
	out.OnLocal, out.OnWrite = w.fail, w.count
	said := transfer.Head{Room: 64 << 10}
	begun := time.Now()
	exit, err := run.Run(runCtx, s.line, out, &said)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if e := w.failure(); e != nil {
		return e
	}
	e.Command = &round.Ran{Line: s.line, Exit: exit, Started: begun.UTC().Truncate(time.Millisecond),
		Took: time.Since(begun).Round(time.Millisecond)}
	e.State, e.Reason = judgeStored(s, out, exit, runCtx.Err(), err, firstWords(said.String(), out, exit))
	if out.Total == 0 || s.empty != nil && s.empty(out.Total) {
		if e.State == round.Taken {
			e.State = round.Empty
			e.Reason = round.Join("nothing of the window", e.Reason)
		}
		w.add(*e)
		return errors.Join(w.failure(), lostBy(w.target, err))
	}
	if err := s.store(w, out, e); err != nil {
		return err
	}
	w.add(*e)
	if gone := lostBy(w.target, err); err != nil && gone != nil {
		return gone
	}
	if e.State == round.Denied || e.State == round.Failed && exit != 0 {
		return w.failure() // what it printed is no log
	}
	return errors.Join(w.failure(), s.copy(w, e))
}

// firstWords gives what a command said of itself in a line: what came on standard error, and of a failed one that said nothing there
// its short output.
func firstWords(said string, out *transfer.Tail, exit int) string {
	if strings.TrimSpace(said) == "" && exit != 0 && out.Total <= refusalBytes {
		said = out.Begin(refusalBytes)
	}
	said = strings.Join(strings.Fields(said), " ")
	return strings.ToValidUTF8(said[:min(len(said), 200)], "")
}

func judgeStored(s stored, out *transfer.Tail, exit int, ended, err error, said string) (round.State, string) {
	switch {
	case errors.Is(ended, context.DeadlineExceeded):
		return round.TimedOut, fmt.Sprintf("stopped after %s; what had arrived is kept", s.timeout)
	case err != nil:
		return round.Failed, transfer.Plain(err)
	case exit == 127, exit == 126:
		return round.Failed, withText(fmt.Sprintf("exit code %d", exit), said)
	case strings.Contains(said, "No journal files were found"), strings.Contains(said, "Access is denied"),
		strings.Contains(said, "ermission denied"),
		strings.Contains(said, "insufficient permissions"):
		return round.Denied, said
	case exit != 0:
		return round.Failed, strings.TrimSuffix(fmt.Sprintf("exit code %d: %s", exit, said), ": ")
	case out.Dropped() > 0:
		return round.Cut, fmt.Sprintf("newest %s kept, %s before it dropped", bytesText(out.Max), bytesText(out.Dropped()))
	}
	return round.Taken, said
}

// store gives the output its final name.
func (s stored) store(w *work, out *transfer.Tail, e *round.Entry) error {
	part := w.part()
	n, sum, err := writePart(part, out.CopyTo)
	defer os.Remove(part) // fails harmlessly after the rename
	if err != nil {
		return err
	}
	e.Bytes, e.Size, e.SHA256, e.ModTime = n, out.Total, sum, e.Command.Started
	return w.settlePlace(part, s.name, e)
}

// copy makes the copy to read.
func (s stored) copy(w *work, of *round.Entry) error {
	in, err := os.Open(w.final(of.Name))
	if err != nil {
		return transfer.Ours(err)
	}
	defer in.Close()
	part := w.part()
	var odd error
	n, sum, err := writePart(part, func(out io.Writer) error {
		odd = s.convert(in, out)
		return nil
	})
	defer os.Remove(part)
	if err != nil {
		return err
	}
	e := round.Entry{Source: s.readable, State: round.Taken, Size: n, Bytes: n, SHA256: sum, ModTime: of.ModTime,
		Reason: "made here from " + s.name + ", to read"}
	if odd != nil {
		e.Reason = round.Join(e.Reason, odd.Error())
	}
	if err := w.settlePlace(part, s.readable, &e); err != nil {
		return err
	}
	w.add(e)
	return w.failure()
}
