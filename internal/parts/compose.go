package parts

import (
	"fmt"
	"strconv"
	"strings"
)

// Draft is an ask to be written.
type Draft struct {
	Name, Vendor string
	Comment      []string // what stands on top, line by line
	Blocks       []Block
	Routes       []Route
	LeftOut      []string // what was seen and is not asked for, line by line
}

// Block is items with a comment over them.
type Block struct {
	Comment []string
	Items   string // as they stand in an ask
	Part    *Part  // which they are of; nil for none
}

// Block gives the items of a choice under what the part takes.
func (c Choice) Block() Block {
	return Block{Comment: []string{c.Part.Title + ": " + strings.Join(c.Part.Takes, ", ")}, Items: c.items(), Part: c.Part}
}

// Route is a way to hand the archive over.
type Route struct{ Name, To string }

// Compose writes an ask.
func Compose(d Draft) []byte {
	var b strings.Builder
	for _, line := range d.Comment {
		comment(&b, "", line)
	}
	fmt.Fprintf(&b, "ask: %s\nvendor: %s\ncase: {archive: '{case}_{site}_{round}'}  # add number: EXPRESSION if you know how its case "+
		"numbers look\n",
		d.Name, Quoted(d.Vendor))
	b.WriteString("\n# Roles (of: [web]) say which systems an item is wanted from; without them it is wanted from every system.\nitems:\n")
	var expressions strings.Builder
	seen := map[*Part]bool{}
	for i, block := range d.Blocks {
		if i > 0 {
			b.WriteByte('\n')
		}
		for _, line := range block.Comment {
			comment(&b, "  ", line)
		}
		b.WriteString(block.Items)
		if p := block.Part; p != nil && !seen[p] {
			seen[p] = true
			expressions.WriteString(p.expressions)
		}
	}
	if expressions.Len() > 0 {
		b.WriteString("\n# Secrets that only these programs write this way.\nredaction:\n  expressions:\n")
		for _, line := range strings.SplitAfter(expressions.String(), "\n") {
			if strings.TrimSpace(line) != "" {
				b.WriteString("  " + line)
			}
		}
	}
	if len(d.LeftOut) > 0 {
		b.WriteString("\n# Left out:\n")
		for _, line := range d.LeftOut {
			comment(&b, "", "- "+line)
		}
	}
	b.WriteString("\n# How the vendor takes the archive: a folder, sftp://, https:// and others (see envask submit --help).\n")
	if len(d.Routes) == 0 {
		b.WriteString("routes: []\n#  - {name: desk, to: 'sftp://intake@desk.vendor.example/incoming', limit: 20GiB}\n")
		return []byte(b.String())
	}
	b.WriteString("routes:\n")
	for _, r := range d.Routes {
		fmt.Fprintf(&b, "  - {name: %s, to: %s}\n", r.Name, Quoted(r.To))
	}
	return []byte(b.String())
}

// comment writes a comment of one line, whatever is in it.
func comment(b *strings.Builder, indent, text string) {
	if text == "" {
		b.WriteByte('\n')
		return
	}
	b.WriteString(indent + "# " + OneLine(text) + "\n")
}

// OneLine makes a text harmless in a comment and on a terminal: what is no printable character is shown escaped.
func OneLine(text string) string {
	q := strconv.Quote(text)
	return strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(q[1 : len(q)-1])
}

// Quoted writes a text of one line as YAML has it in single quotes.
func Quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
