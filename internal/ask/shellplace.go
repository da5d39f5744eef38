package ask

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// A placeholder of a command is filled in as one quoted word of the shell. That holds only where the grammar takes a word (IEEE 1003.1,
// shell command language, 2.3): within quotes, here-documents, comments or arithmetic the quotes would be text, and what is filled in,
// which may come from outside, would be read as commands. Where each placeholder stands is told by a parser of that grammar.

// readAgain are commands that read their arguments as commands once more.
var readAgain = []string{"eval", "trap", ".", "source", "sh", "bash", "dash", "ash", "ksh", "zsh", "busybox", "su", "ssh", "watch", "xargs",
	"env", "nice", "nohup", "sudo", "doas", "timeout", "setsid"}

// throughAgain of them run a command with its arguments as they are; only what reads a line as commands is dangerous behind them.
var throughAgain = []string{"xargs", "env", "nice", "nohup", "sudo", "doas", "timeout", "setsid", "busybox"}

// misplaced is a placeholder where nothing can be filled in.
type misplaced struct {
	field string // with its braces
	line  int    // of the command, from 1
	why   string
}

// mark stands for the n-th placeholder while a command is parsed: a word that no command holds.
func mark(n int) string { return fmt.Sprintf("EnvaskPlaceholder%dX", n) }

// checkPlaces gives the placeholders of a command that do not stand where the shell takes a word. A command without any is not parsed:
// it may be one of a device that is no shell.
func checkPlaces(command string) []misplaced {
	var fields []string
	marked := commandField().ReplaceAllStringFunc(command, func(p string) string {
		fields = append(fields, p)
		return mark(len(fields) - 1)
	})
	if len(fields) == 0 {
		return nil
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX), syntax.KeepComments(true)).Parse(strings.NewReader(marked), "")
	if err != nil {
		var p syntax.ParseError
		line, why := 1, err.Error()
		if errors.As(err, &p) {
			line, why = int(p.Pos.Line()), p.Text
		}
		return []misplaced{{fields[0], line, "the command cannot be read as one of a POSIX shell (" + why +
			"), so it is not known where it stands"}}
	}
	w := &placeWalk{fields: fields, good: make([]bool, len(fields))}
	syntax.Walk(file, w.visit)
	for i, f := range fields {
		if !w.good[i] && !slices.ContainsFunc(w.bad, func(m misplaced) bool { return m.field == f }) {
			w.bad = append(w.bad, misplaced{f, 1, "stands where the shell takes no word"})
		}
	}
	return w.bad
}

// placeWalk looks at every place of a parsed command.
type placeWalk struct {
	fields []string
	good   []bool
	bad    []misplaced
	above  []syntax.Node
}

func (w *placeWalk) visit(n syntax.Node) bool {
	if n == nil {
		w.above = w.above[:len(w.above)-1]
		return true
	}
	var text string
	switch n := n.(type) {
	case *syntax.Lit:
		text = n.Value
	case *syntax.SglQuoted:
		text = n.Value
	case *syntax.Comment:
		text = n.Text
	}
	for i, f := range w.fields {
		if !strings.Contains(text, mark(i)) {
			continue
		}
		if why := w.why(n); why != "" {
			w.bad = append(w.bad, misplaced{f, int(n.Pos().Line()), why})
		} else {
			w.good[i] = true
		}
	}
	w.above = append(w.above, n)
	return true
}

// why says why nothing can be filled in at a node; "" where it can.
func (w *placeWalk) why(n syntax.Node) string {
	const quotes = "stands within quotes; write it outside of them: what is filled in is quoted already"
	switch n.(type) {
	case *syntax.Comment:
		return "stands in a comment"
	case *syntax.SglQuoted:
		return quotes
	}
	var word *syntax.Word
	for i := len(w.above) - 1; i >= 0; i-- {
		switch at := w.above[i].(type) {
		case *syntax.Word:
			if word == nil {
				word = at
			}
		case *syntax.DblQuoted, *syntax.SglQuoted:
			return quotes
		case *syntax.CmdSubst:
			if at.Backquotes {
				return "does not go with backquotes; write $(...) instead"
			}
		case *syntax.ArithmExp, *syntax.ArithmCmd, *syntax.BinaryArithm, *syntax.UnaryArithm, *syntax.ParenArithm:
			return "stands in arithmetic, which takes no quoted word"
		case *syntax.ParamExp:
			return "stands within ${...}, where quotes are not always ones"
		case *syntax.Redirect:
			if at.Hdoc == word && word != nil {
				return "stands in a here-document, whose text is not quoted; give it as an argument"
			}
			return w.settled(i)
		case *syntax.CaseItem:
			return "stands in a pattern of case"
		case *syntax.FuncDecl:
			return "stands in a function, which may be called with anything"
		case *syntax.CallExpr:
			if why := calls(at, word); why != "" {
				return why
			}
			return w.settled(i)
		case *syntax.Assign, *syntax.WordIter, *syntax.CaseClause:
			return w.settled(i)
		}
	}
	return "stands where the shell takes no word"
}

// settled looks at what stands above a place that takes a word: command substitutions must not be backquotes, and nothing of it must
// stand in a here-document.
func (w *placeWalk) settled(from int) string {
	for i := from - 1; i >= 0; i-- {
		switch at := w.above[i].(type) {
		case *syntax.CmdSubst:
			if at.Backquotes {
				return "does not go with backquotes; write $(...) instead"
			}
		case *syntax.Redirect:
			if at.Hdoc != nil && i+1 < len(w.above) && w.above[i+1] == syntax.Node(at.Hdoc) {
				return "stands in a here-document"
			}
		case *syntax.FuncDecl:
			return "stands in a function, which may be called with anything"
		case *syntax.ArithmExp, *syntax.ArithmCmd:
			return "stands in arithmetic, which takes no quoted word"
		}
	}
	return ""
}

// calls says why a word of a command cannot be filled in: as the command itself, or as an argument that is read as commands.
func calls(c *syntax.CallExpr, word *syntax.Word) string {
	at := slices.Index(c.Args, word)
	if at < 0 {
		return "" // an assignment before the command
	}
	if at == 0 {
		return "would be the command itself"
	}
	for _, before := range c.Args[:at] {
		name := path.Base(before.Lit())
		if !slices.Contains(readAgain, name) {
			if before == c.Args[0] {
				return ""
			}
			continue
		}
		if !slices.Contains(throughAgain, name) {
			return "is an argument of " + name + ", which reads it as commands once more"
		}
	}
	return ""
}
