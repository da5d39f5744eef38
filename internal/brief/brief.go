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
	Questions                 []ask.Question
	Answers                   map[string]string // by question id
}

// Open gives the required questions that have no answer, and the answers that are not as the vendor wants them.
func (b Brief) Open() []string {
	var open []string
	for _, q := range b.Questions {
		answer := b.Answers[q.ID]
		switch {
		case answer == "" && q.Required:
			open = append(open, fmt.Sprintf("%s: %s", q.ID, q.Text))
		case answer != "" && q.Like != nil && !q.Like.MatchString(answer):
			open = append(open, fmt.Sprintf("%s: the answer is not as the vendor wants it (%s)", q.ID, q.Like))
		}
	}
	return open
}

// Write writes the write-up as Markdown.
func (b Brief) Write(w io.Writer) error {
	var s strings.Builder
	title := b.Title
	if title == "" {
		title = "evidence"
	}
	fmt.Fprintf(&s, "# Case %s: %s\n\n- Vendor: %s\n- Site: %s\n- Window: %s\n", b.Case, title, b.Vendor, b.Site, b.Window)
	if len(b.Questions) > 0 {
		s.WriteString("\n## Questions\n")
	}
	for _, q := range b.Questions {
		answer := b.Answers[q.ID]
		if answer == "" {
			answer = "(not answered)"
		}
		fmt.Fprintf(&s, "\n**%s**\n\n%s\n", q.Text, answer)
	}
	_, err := io.WriteString(w, s.String())
	return err
}
