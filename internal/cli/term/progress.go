package term

import (
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

// Board shows what is going on: on a terminal a line for each thing that is active, redrawn in place; elsewhere nothing,
// since there the events are written as lines.
type Board struct {
	screen *Screen
	p      *mpb.Progress
	mu     sync.Mutex
	lines  map[string]*boardLine
	closed bool
	paused bool     // a person is being asked something
	held   []string // what is to be said after that
}

type boardLine struct {
	bar  *mpb.Bar
	text atomic.Value // string; read while drawing, which must not wait for whoever sets it
}

// redraw is how often the live lines are drawn.
const redraw = 120 * time.Millisecond

// NewBoard begins a board.
func (s *Screen) NewBoard() *Board {
	b := &Board{screen: s, lines: map[string]*boardLine{}}
	b.begin()
	return b
}

func (b *Board) begin() {
	if s := b.screen; s.Live && !s.Quiet {
		b.p = mpb.New(mpb.WithOutput(s.Err), mpb.WithRefreshRate(redraw), mpb.WithWidth(min(s.Width, 200)), mpb.WithAutoRefresh())
	}
}

// Pause takes the live lines away and holds what is said, so that a person can be asked something. Work goes on meanwhile.
func (b *Board) Pause() {
	b.mu.Lock()
	b.paused = true
	b.mu.Unlock()
	b.clear()
}

// Resume goes on after a pause.
func (b *Board) Resume() {
	b.mu.Lock()
	b.begin()
	b.paused = false
	held := b.held
	b.held = nil
	b.mu.Unlock()
	for _, l := range held {
		b.Above("%s", l)
	}
}

// Live says whether lines are drawn in place.
func (b *Board) Live() bool { return b.screen.Live && !b.screen.Quiet }

// Set shows a line under a name, or changes it. Names are shown in the order in which they came.
func (b *Board) Set(name, format string, args ...any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.p == nil || b.closed || b.paused {
		return
	}
	l := b.lines[name]
	if l == nil {
		l = &boardLine{}
		l.text.Store("")
		b.lines[name] = l
		l.bar = b.p.New(0, mpb.NopStyle(), mpb.BarRemoveOnComplete(), mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
			return l.text.Load().(string)
		})))
	}
	text := fmt.Sprintf(format, args...)
	if width := b.screen.Width - 1; len(text) > width { // a line that wraps cannot be drawn over
		text = cutRunes(text, width)
	}
	l.text.Store(safe(text))
}

func cutRunes(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	return string(r[:n-1]) + "…"
}

// Drop takes a line away.
func (b *Board) Drop(name string) {
	b.mu.Lock()
	l := b.lines[name]
	delete(b.lines, name)
	b.mu.Unlock()
	if l != nil {
		l.bar.SetTotal(-1, true)
	}
}

// Above writes a line above the live ones, or as a plain line.
func (b *Board) Above(format string, args ...any) {
	if b.screen.Quiet {
		return
	}
	text := safe(fmt.Sprintf(format, args...))
	if b.p != nil { // on a terminal; elsewhere a line is a line
		text = b.screen.Indented(0, 4, text)
	}
	b.mu.Lock()
	var w io.Writer = b.screen.Err
	if b.p != nil {
		w = b.p
	}
	if b.paused {
		b.held = append(b.held, text)
		b.mu.Unlock()
		return
	}
	b.mu.Unlock()
	_, _ = io.WriteString(w, text+"\n") // a message that cannot be shown stops nothing
}

// Close takes all lines away.
func (b *Board) Close() {
	b.mu.Lock()
	b.closed = true
	b.mu.Unlock()
	b.clear()
}

// clear takes the live lines away and waits until they are.
func (b *Board) clear() {
	b.mu.Lock()
	var names []string
	for n := range b.lines {
		names = append(names, n)
	}
	p := b.p
	b.mu.Unlock()
	for _, n := range names {
		b.Drop(n)
	}
	if p != nil {
		p.Wait()
		b.mu.Lock()
		b.p = nil
		b.mu.Unlock()
	}
}
