package brief

import (
	"fmt"
	"io"
	"strings"

	"envask/internal/ask"
)

// Brief is what the write-up is made of.
type Brief struct {
	Case, Title, Vendor, Site string
	Window                    string
	Ask                       *ask.Ask
	Answers                   map[string]string // by field, without the title
	News                      string            // what is new since an archive of the case was sent; "" for nothing
	From                      map[string]string // by field: where the answer was taken from, such as "gate-2's gate.log, line 1841"
}

// Value gives the answer of a field.
func (b Brief) Value(id string) string {
	if id == Title {
		return b.Title
	}
	return b.Answers[id]
}

// Fields gives the fields of the write-up.
func (b Brief) Fields() []Field {
	if b.Ask == nil {
		return nil
	}
	return Of(b.Ask)
}

// Open gives what the vendor must have and what is not as it wants it: required fields without an answer, and answers that do not fit.
func (b Brief) Open() []string {
	var open []string
	for _, f := range b.Fields() {
		if !f.Asked && f.ID != Severity && f.ID != Category {
			continue
		}
		if why := f.Wrong(b.Value(f.ID)); why != "" {
			open = append(open, f.ID+": "+why)
		}
	}
	return open
}

// Wrong says what is wrong with an answer; "" is nothing.
func (f Field) Wrong(answer string) string {
	switch {
	case answer == "" && f.Required:
		return f.Text
	case answer == "":
		return ""
	case f.Like != nil && !f.Like.MatchString(answer):
		return fmt.Sprintf("the answer is not as the vendor wants it (%s)", f.Like)
	case f.Most > 0 && len([]rune(answer)) > f.Most:
		return fmt.Sprintf("the answer has %d characters, and the vendor takes %d", len([]rune(answer)), f.Most)
	case f.Choices != nil && f.choice(answer) == nil:
		return fmt.Sprintf("%q is none of the vendor's words: %s", answer, strings.Join(f.names(), ", "))
	}
	return ""
}

// choice gives the vendor's word that an answer is.
func (f Field) choice(answer string) *ask.Severity {
	for i := range f.Choices {
		if strings.EqualFold(f.Choices[i].Name, answer) {
			return &f.Choices[i]
		}
	}
	return nil
}

func (f Field) names() (names []string) {
	for _, c := range f.Choices {
		names = append(names, c.Name)
	}
	return names
}

// headings are the parts of the write-up; the first field of each begins it.
var headings = map[string]string{"happens": "What happens", "affected": "Who is affected",
	"environment": "Environment", "contact": "Contact",
	"attachments": "Attachments"}

// Write writes the write-up as Markdown.
func (b Brief) Write(w io.Writer) error {
	var s strings.Builder
	title := b.Title
	if title == "" {
		title = "evidence"
	}
	fmt.Fprintf(&s, "# Case %s: %s\n\n- Vendor: %s\n- Site: %s\n- Window: %s\n", b.Case, title, b.Vendor, b.Site, b.Window)
	if b.News != "" {
		fmt.Fprintf(&s, "\n**%s**\n", b.News)
	}
	asked, head := false, ""
	for _, f := range b.Fields() {
		if h, ok := headings[f.ID]; ok {
			head = h
		}
		answer := b.Value(f.ID)
		if f.ID == Title || answer == "" && !f.Asked {
			continue
		}
		standard := isStandard(f.ID)
		if !standard && !asked {
			asked, head = true, "Questions"
		}
		if head != "" {
			fmt.Fprintf(&s, "\n## %s\n", head)
			head = ""
		}
		if answer == "" {
			answer = "(not answered)"
		}
		if c := f.choice(answer); c != nil && c.Means != "" {
			answer += " (" + c.Means + ")"
		}
		fmt.Fprintf(&s, "\n**%s**\n\n%s\n", f.Text, listed(f, answer))
		if from := b.From[f.ID]; from != "" {
			fmt.Fprintf(&s, "\n*from %s*\n", from)
		}
	}
	_, err := io.WriteString(w, s.String())
	return err
}

func isStandard(id string) bool {
	for _, f := range fields {
		if f.ID == id {
			return true
		}
	}
	return false
}

// listed writes steps as a numbered list, and an excerpt as it is.
func listed(f Field, answer string) string {
	switch f.ID {
	case "steps":
		var out []string
		for i, line := range strings.Split(strings.TrimSpace(answer), "\n") {
			out = append(out, fmt.Sprintf("%d. %s", i+1, strings.TrimSpace(line)))
		}
		return strings.Join(out, "\n")
	case "excerpt":
		return "```\n" + strings.ReplaceAll(strings.TrimRight(answer, "\n"), "```", "'''") + "\n```"
	}
	return answer
}

// Text writes the write-up as plain text: for a mail, a chat, a form with one field.
func (b Brief) Text(w io.Writer) error {
	var s strings.Builder
	fmt.Fprintf(&s, "Case %s: %s\n\n", b.Case, b.Title)
	if b.News != "" {
		s.WriteString(b.News + "\n\n")
	}
	for _, f := range b.Fields() {
		if answer := b.Value(f.ID); answer != "" && f.ID != Title {
			fmt.Fprintf(&s, "%s\n%s\n\n", f.Text, indent(listedText(f, answer)))
		}
	}
	fmt.Fprintf(&s, "Window: %s\n", b.Window)
	_, err := io.WriteString(w, s.String())
	return err
}

func listedText(f Field, answer string) string {
	if f.ID == "steps" {
		return listed(f, answer)
	}
	return strings.TrimRight(answer, "\n")
}

func indent(text string) string { return "  " + strings.ReplaceAll(text, "\n", "\n  ") }
