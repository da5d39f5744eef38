package flow

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/logset"
	"envask/internal/redact"
	"envask/internal/round"
)

// Bounds of an excerpt.
const (
	mostExcerpt = 200 // lines of one passage
	linesBefore = 3   // around the first error, where an excerpt is proposed
	linesBehind = 5
)

// passage is a run of lines of a file.
type passage struct {
	first int // its number in the file as it was taken, from 1
	lines []string
}

// from says where a passage stands.
func (p *passage) from(e *round.Entry) string {
	where := fmt.Sprintf("%s's %s, line %d", e.System, path.Base(e.Name), p.first)
	if len(p.lines) > 1 {
		where = fmt.Sprintf("%s's %s, lines %d to %d", e.System, path.Base(e.Name), p.first, p.first+len(p.lines)-1)
	}
	return where
}

func (p *passage) text() string { return strings.Join(p.lines, "\n") }

// Excerpt reads passages out of the evidence of a case, for the write-up: each is named by system, file and lines, such as
// gate-2/gate.log:420-431. The file is named by its path on the system, or the end of it; of several rounds the newest counts.
func (a *App) Excerpt(ctx context.Context, c *casefile.Case, named []string) (*BriefChange, error) {
	rounds, err := a.countingRounds(c)
	if err != nil {
		return nil, err
	}
	ch := &BriefChange{ID: "excerpt"}
	var texts, froms []string
	for _, name := range named {
		system, file, first, last, err := parsePassage(name)
		if err != nil {
			return nil, err
		}
		r, e, err := takenFile(rounds, system, file)
		if err != nil {
			return nil, err
		}
		p, err := readPassage(ctx, filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)), first, last)
		if err != nil {
			return nil, fault.Wrap("read the evidence", name, err)
		}
		if len(p.lines) == 0 {
			return nil, fault.New(fault.Usage, "--excerpt", name, "the file that was taken has no such lines", "envask show --file "+
				path.Base(e.Name)+" shows how much of it was taken")
		}
		text := p.text()
		if len(named) > 1 {
			text = p.from(e) + ":\n" + text
		}
		texts, froms = append(texts, text), append(froms, p.from(e))
	}
	ch.Text, ch.From = withoutSecrets(strings.Join(texts, "\n\n")), strings.Join(froms, "; ")
	return ch, nil
}

// parsePassage reads SYSTEM/FILE:LINE or SYSTEM/FILE:FIRST-LAST.
func parsePassage(name string) (system, file string, first, last int, err error) {
	system, rest, ok := strings.Cut(name, "/")
	colon := strings.LastIndexByte(rest, ':')
	if ok && colon > 0 {
		from, to, several := strings.Cut(rest[colon+1:], "-")
		first, err = strconv.Atoi(from)
		if last = first; err == nil && several {
			last, err = strconv.Atoi(to)
		}
		if err == nil && first > 0 && last >= first && system != "" {
			if last-first >= mostExcerpt {
				return "", "", 0, 0, fault.New(fault.Usage, "--excerpt", name, fmt.Sprintf("more than %d lines", mostExcerpt),
					"the whole file goes with the evidence; choose the lines that say most")
			}
			return system, rest[:colon], first, last, nil
		}
	}
	return "", "", 0, 0, fault.New(fault.Usage, "--excerpt", name, "expected SYSTEM/FILE:LINE or SYSTEM/FILE:FIRST-LAST",
		"such as gate-2/gate.log:420-431")
}

// takenFile finds the newest taken file of a system by the end of its path.
func takenFile(rounds []*round.Round, system, file string) (*round.Round, *round.Entry, error) {
	known := false
	for _, r := range slices.Backward(rounds) {
		var found []round.Entry
		err := r.Entries(func(e round.Entry) error {
			if e.System != system {
				return nil
			}
			known = true
			whole := "/" + strings.ReplaceAll(e.Source, `\`, "/")
			if e.Name != "" && (strings.HasSuffix(whole, "/"+strings.TrimPrefix(file, "/")) || path.Base(e.Name) == file) {
				found = append(found, e)
			}
			return nil
		})
		switch {
		case err != nil:
			return nil, nil, fault.Wrap("read the evidence", r.ID, err)
		case len(found) == 1:
			return r, &found[0], nil
		case len(found) > 1:
			var names []string
			for _, e := range found {
				names = append(names, e.Source)
			}
			return nil, nil, fault.New(fault.Usage, "--excerpt", system+"/"+file,
				"several files are called so: "+strings.Join(names, ", "), "name more of the path")
		}
	}
	if !known {
		return nil, nil, fault.New(fault.Usage, "--excerpt", system, "nothing was taken of such a system",
			"envask show lists what there is")
	}
	return nil, nil, fault.New(fault.Usage, "--excerpt", system+"/"+file, "no such file was taken of that system",
		"envask show --system "+system+" lists what there is")
}

// readPassage reads lines of a file, which may be compressed.
func readPassage(ctx context.Context, file string, first, last int) (*passage, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	plain, done, err := logset.Plain(io.LimitReader(f, maxLooked))
	if err != nil {
		return nil, err
	}
	defer done()
	p := &passage{first: first}
	keyBegins, inKey := keyBegins(), false
	lines := bufio.NewReaderSize(plain, maxLine)
	for n := 1; n <= last && ctx.Err() == nil; n++ {
		line, err := nextLine(lines)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		if keyBegins.Match(line) {
			inKey = true
		}
		if n >= first {
			text := quotedTo(string(line), maxPassageLine)
			if inKey { // its lines tell nothing of themselves, and the passage may begin in the middle of them
				text = redact.Placeholder("private-key")
			}
			p.lines = append(p.lines, text)
		}
		inKey = inKey && !bytes.Contains(line, []byte("-----END "))
	}
	return p, ctx.Err()
}

// keyBegins tells the first line of a private key (RFC 7468).
var keyBegins = late.Pattern(`-----BEGIN [A-Z0-9 ]*PRIVATE KEY`)

// maxPassageLine bounds a line of an excerpt, in characters.
const maxPassageLine = 2000
