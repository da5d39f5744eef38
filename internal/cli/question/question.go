// Package question asks a person questions in small forms on a terminal, one after the other: a line, several lines, or a choice.
package question

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
)

// Question is what a person is asked. Its texts stand in the form as they are: whoever asks makes sure that none of them steers the
// terminal.
type Question struct {
	Text  string
	Below []string // lines that explain it
	Offer string   // what an answer could be; Enter alone takes it. "" is none: Enter alone leaves the question out
	// Choices are the answers that there are; none is any text.
	Choices []Choice
	Other   bool // an answer that is none of the choices can be written, too
	Lines   bool // the answer may have several lines; an empty one ends it
	Most    int  // bytes of the answer
	// Keep is told each answer as soon as it is given, "" where what is offered is taken or the question is left out. Its error is shown,
	// and the question stays.
	Keep func(answer string) error
	Skip func() bool // says whether it is not to be asked, for what was answered before; nil is never
}

// Choice is one of several answers.
type Choice struct {
	Answer string
	Shown  string // the answer as it stands in the form
	Means  string // beside it, to choose by; "" is nothing
}

// Terminal is where questions are asked.
type Terminal struct {
	In      io.Reader
	Out     io.Writer
	Color   bool
	Columns int
}

// ErrLeft: the person wants to answer no more now.
var ErrLeft = errors.New("left")

// widest is as wide as a form gets, in columns: longer lines are hard to read.
const widest = 100

// Ask asks questions. It gives ErrLeft where the person leaves with Escape, which keeps what is typed there, and context.Canceled after
// Ctrl-C or when ctx ends; what was kept until then stays.
func Ask(ctx context.Context, t Terminal, questions []Question) error {
	a := asking{byKey: map[string]*entry{}, columns: min(t.Columns, widest)}
	var groups []*huh.Group
	for i, q := range questions {
		groups = append(groups, a.groups(fmt.Sprint(i), q)...)
	}
	a.form = huh.NewForm(groups...).WithWidth(a.columns).WithKeyMap(keys()).WithTheme(huh.ThemeFunc(theme))
	options := []tea.ProgramOption{tea.WithInput(t.In), tea.WithOutput(t.Out), tea.WithoutSignalHandler(), tea.WithFilter(a.filter)}
	if !t.Color {
		options = append(options, tea.WithColorProfile(colorprofile.ASCII))
	}
	err := a.form.WithProgramOptions(options...).RunWithContext(ctx)
	switch {
	case a.interrupted || ctx.Err() != nil:
		return context.Canceled
	case errors.Is(err, huh.ErrUserAborted):
		return ErrLeft
	}
	return err
}

// asking is a run of questions.
type asking struct {
	form        *huh.Form
	columns     int
	byKey       map[string]*entry
	interrupted bool
	back, leads bool // what the last key does: it leads to the question before, or to the next
	typed
}

// entry is the answer to a question while it is typed.
type entry struct {
	question Question
	text     string
	kept     string
	isKept   bool
}

// other is the answer of the choice that leads to a written one; no answer that is written looks like it.
const other = "\x00other"

// groups makes the form of a question; of one that can be answered by something else than its choices, two.
func (a *asking) groups(id string, q Question) []*huh.Group {
	skip := func() bool { return q.Skip != nil && q.Skip() }
	e := &entry{question: q}
	a.byKey[id] = e
	out := []*huh.Group{huh.NewGroup(a.field(id, e)).WithHideFunc(skip)}
	if q.Other {
		q.Choices = nil
		written := &entry{question: q}
		a.byKey[id+other] = written
		out = append(out, huh.NewGroup(a.field(id+other, written)).WithHideFunc(func() bool { return skip() || e.text != other }))
	}
	return out
}

// field makes the field that suits a question.
func (a *asking) field(id string, e *entry) huh.Field {
	q := &e.question
	below := strings.Join(q.Below, "\n")
	keep := func(text string) error { return a.keep(e, text) }
	switch {
	case len(q.Choices) > 0:
		options := []huh.Option[string]{huh.NewOption("leave it out", "")} // first, so that Enter alone chooses nothing
		shown := []string{"", ""}                                          // the lines of the others
		for _, c := range q.Choices {
			text := c.Shown
			if c.Means != "" {
				text += ": " + c.Means
			}
			shown, options = append(shown, text), append(options, huh.NewOption(text, c.Answer))
		}
		if q.Other {
			shown, options = append(shown, ""), append(options, huh.NewOption("something else", other))
		}
		height := 0 // the field does not count lines that it breaks
		for _, text := range shown {
			height += lipgloss.Height(lipgloss.Wrap(text, a.columns-beside, breaks))
		}
		return huh.NewSelect[string]().Key(id).Title(q.Text).Description(below).Options(options...).Height(height).Validate(keep).
			Value(&e.text)
	case q.Lines:
		return huh.NewText().Key(id).Title(q.Text).Description(below).Placeholder(q.Offer).ExternalEditor(false).Lines(textLines).
			CharLimit(q.Most).Validate(keep).Value(&e.text)
	}
	return huh.NewInput().Key(id).Title(q.Text).Description(below).Placeholder(q.Offer).CharLimit(q.Most).Validate(keep).Value(&e.text)
}

// How the form lays out what it shows: columns beside the text, and where lines break.
const (
	beside = 4
	breaks = ",.-; "
)

// textLines is the height of a field for several lines.
const textLines = 5

// keep hands an answer on, once; one that is empty because the person goes back is none.
func (a *asking) keep(e *entry, text string) error {
	text = strings.TrimSpace(text)
	if text != other && !(a.back && text == "") && !(e.isKept && e.kept == text) {
		if err := e.question.Keep(text); err != nil {
			return err
		}
		e.kept, e.isKept = text, true
	}
	if a.leads {
		a.leave()
	}
	return nil
}

func lastLineEmpty(text string) bool { return text == "" || strings.HasSuffix(text, "\n") }

// press sees a key before the form does.
func (a *asking) press(m tea.Msg) tea.Msg {
	press, ok := m.(tea.KeyPressMsg)
	if !ok {
		return m
	}
	e := a.byKey[a.focused()]
	written := e != nil && len(e.question.Choices) == 0
	a.back, a.leads = press.String() == "shift+tab", press.String() == "enter"
	switch {
	case a.back:
		a.leave()
	case press.String() == "esc" && written && strings.TrimSpace(e.text) != "": // what is typed is not lost
		_ = a.keep(e, e.text)
	case a.leads && written && e.question.Lines && !lastLineEmpty(e.text):
		a.leads = false
		return tea.KeyPressMsg{Code: 'j', Mod: tea.ModCtrl} // the next line
	}
	return m
}

// keys are those that lead on, back, out, and between lines.
func keys() *huh.KeyMap {
	k := huh.NewDefaultKeyMap()
	k.Quit = key.NewBinding(key.WithKeys("ctrl+c", "esc"))
	back := key.NewBinding(key.WithKeys("shift+tab"), key.WithHelp("shift+tab", "back"))
	k.Input.Prev, k.Text.Prev, k.Select.Prev = back, back, back
	next := key.NewBinding(key.WithKeys("enter"), key.WithHelp("enter", "next"))
	k.Input.Submit, k.Input.Next = next, next
	next.SetHelp("enter on an empty line", "next")
	k.Text.Submit, k.Text.Next = next, next
	k.Text.NewLine = key.NewBinding(key.WithKeys("ctrl+j"), key.WithHelp("enter", "new line"))
	next.SetHelp("enter", "choose")
	k.Select.Submit, k.Select.Next = next, next
	k.Select.Filter.SetEnabled(false)
	return k
}

// theme uses the terminal's own colours, as all of Envask's output does: they are readable wherever the rest is.
func theme(dark bool) *huh.Styles {
	s := huh.ThemeBase(dark)
	faint, bold := lipgloss.NewStyle().Faint(true), lipgloss.NewStyle().Bold(true)
	s.Focused.Title, s.Focused.Description, s.Focused.TextInput.Placeholder = bold, faint, faint
	s.Focused.SelectedOption = lipgloss.NewStyle().Foreground(lipgloss.Green)
	s.Focused.ErrorMessage, s.Focused.ErrorIndicator = lipgloss.NewStyle().Foreground(lipgloss.Yellow), lipgloss.NewStyle()
	s.Help.ShortKey, s.Help.ShortDesc, s.Help.ShortSeparator, s.Help.Ellipsis = bold, faint, faint, faint
	return s
}
