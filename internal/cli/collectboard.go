package cli

import (
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/flow"
	"envask/internal/round"
)

// collectBoard shows a collection while it runs: live lines on a terminal, plain lines elsewhere.
type collectBoard struct {
	s       *session
	board   *term.Board
	mu      sync.Mutex
	begun   time.Time
	systems map[string]*systemState
	planned int
	cells   int // fields that are to be filled, and that are
	filled  int
	ended   int
	files   int
	bytes   int64
	stop    chan struct{}
}

type systemState struct {
	doing       string
	bytes       int64
	files, want int
	bad         int
	said        string // what was said of the whole system already
}

func (s *session) newCollectBoard() *collectBoard {
	b := &collectBoard{s: s, board: s.screen.NewBoard(), begun: time.Now(), systems: map[string]*systemState{}, stop: make(chan struct{})}
	if b.board.Live() {
		go b.tick()
	}
	s.asking = b.board
	return b
}

// tick keeps the clock going while nothing happens, so that a long command does not look like a standstill.
func (b *collectBoard) tick() {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for {
		select {
		case <-b.stop:
			return
		case <-t.C:
			b.mu.Lock()
			if b.planned > 0 {
				b.total()
			}
			b.mu.Unlock()
		}
	}
}

func (b *collectBoard) close() {
	close(b.stop)
	b.s.asking = nil
	b.board.Close()
}

// totalLine is the name of the line that sums up; it comes first.
const totalLine = ""

func (b *collectBoard) event(e any) {
	if b.s.common.json {
		b.s.jsonEvent(e)
		return
	}
	switch e := e.(type) {
	case collect.Event:
		b.mu.Lock()
		b.step(e)
		b.mu.Unlock()
	case flow.Planned:
		b.mu.Lock()
		defer b.mu.Unlock()
		b.planned, b.cells, b.filled, b.ended = e.Systems, e.Cells, 0, 0
		doing := "collecting from"
		if e.DryRun {
			doing = "looking at"
		}
		b.board.Above(doing+" %d %s, %d %s, depth %s", e.Systems, one(e.Systems, "system", "systems"), e.Cells,
			one(e.Cells, "item", "items"), e.Depth)
		b.total()
	case flow.Note:
		b.board.Above("note: %s", term.Clean(e.Text))
	case flow.SetChosen:
		b.board.Above("%s: %s", e.Set.Name, term.Clean(e.Set.Text))
	case flow.BeforeSystem:
		b.board.Above("before %s: %s", e.System, term.Clean(e.Text))
	default:
		b.s.remark(e)
	}
}

func one(n int, single, many string) string {
	if n == 1 {
		return single
	}
	return many
}

func (b *collectBoard) step(e collect.Event) {
	st := b.systems[e.System]
	if st == nil && e.System != "" {
		st = &systemState{}
		b.systems[e.System] = st
	}
	switch e.Kind {
	case collect.Resuming:
		b.board.Above("resuming the unfinished round: %d %s already collected", e.Files, one(e.Files, "file", "files"))
	case collect.Connecting:
		st.doing = "connecting"
	case collect.Connected:
		st.doing = "connected"
		if v := e.Served; v != nil && b.s.screen.Verbose {
			b.board.Above("%s  reached by %s: %s", e.System, v.Way, term.Clean(v.Means))
		}
	case collect.Retrying:
		st.doing = "waiting " + e.Took.String()
		cameUp := st.bytes > 0 || st.files > 0 // what never came up is told once, at the end
		if cameUp && st.said != e.Reason {     // further tries are not told one by one
			st.said = e.Reason
			b.board.Above("%s: %s; trying again", e.System, term.Clean(e.Reason))
		}
	case collect.Waiting:
		st.doing = e.Item + ", running for " + e.Took.Round(time.Second).String()
		if e.Reason != "" { // the device's own progress
			st.doing += ", " + term.Clean(e.Reason)
		}
	case collect.ItemStart:
		st.doing, st.files, st.want = e.Item, 0, 0
	case collect.ItemSize:
		st.want = e.Files
	case collect.Progress:
		st.bytes += e.Bytes
		b.bytes += e.Bytes
	case collect.FileDone:
		st.files++
		if e.Entry.Name != "" {
			b.files++
		}
		if b.s.screen.Verbose {
			b.board.Above("%s  %s  %s  %s", e.System, e.Entry.State, term.Clean(e.Entry.Source), term.Clean(e.Entry.Reason))
		}
	case collect.CellDone:
		b.filled++
		b.cell(st, e)
	case collect.SystemDone:
		b.ended++
		b.board.Drop(e.System)
		b.total()
		return
	}
	if e.System != "" {
		b.board.Set(e.System, "  %-14s %s %-24s %s %s", e.System, bar(st.files, st.want), st.doing, fileCount(st), bytesText(st.bytes))
	}
	b.total()
}

// barWidth is the length of a bar, in columns.
const barWidth = 10

// bar draws how far something is; blanks where that is not known.
func bar(done, of int) string {
	if of <= 0 {
		return strings.Repeat(" ", barWidth)
	}
	n := min(done*barWidth/of, barWidth)
	return strings.Repeat("━", n) + strings.Repeat("─", barWidth-n)
}

func fileCount(st *systemState) string {
	if st.want == 0 {
		return ""
	}
	return humanize.Comma(int64(min(st.files, st.want))) + "/" + humanize.Comma(int64(st.want)) + ","
}

// cell reports a finished field: on a terminal only what went wrong, elsewhere every one.
func (b *collectBoard) cell(st *systemState, e collect.Event) {
	c := e.Cell
	good := c.State == round.Taken || c.State == round.Cut || c.State == round.Empty
	if !good {
		st.bad++
	}
	if good && b.board.Live() {
		return
	}
	if ofSystem(c.Code) {
		if st.said != string(c.Code) {
			st.said = string(c.Code)
			b.board.Above("%s: %s: %s", c.System, c.State, term.Clean(c.Reason))
		}
		return
	}
	line := string(c.State)
	if c.Files > 0 {
		line += ", " + sizeText(c.Files, c.Bytes)
	}
	if c.Reason != "" {
		line += ": " + term.Clean(c.Reason)
	}
	b.board.Above("%s %s: %s", c.System, c.Item, line)
}

func sizeText(files int, bytes int64) string {
	return humanize.Comma(int64(files)) + " " + one(files, "file", "files") + ", " + bytesText(bytes)
}

// estimate says how long it may still take, going by the fields that are filled; nothing while too few are.
func (b *collectBoard) estimate(took time.Duration) string {
	if b.filled*4 < b.cells || b.filled >= b.cells || took < 3*time.Second {
		return ""
	}
	left := time.Duration(float64(took) * float64(b.cells-b.filled) / float64(b.filled))
	return ", about " + left.Round(time.Second).String() + " more"
}

func (b *collectBoard) total() {
	took := time.Since(b.begun)
	b.board.Set(totalLine, "%s %d of %d systems and %d of %d items done, %s, %s/s, %s%s", bar(b.filled, b.cells), b.ended, b.planned,
		b.filled, b.cells, sizeText(b.files, b.bytes),
		bytesText(int64(float64(b.bytes)/max(took.Seconds(), 0.1))), took.Round(time.Second), b.estimate(took))
}
