package brief

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Editable writes the write-up as YAML with the questions as comments, to be edited and read again.
func Editable(b Brief) []byte {
	var s strings.Builder
	fmt.Fprintf(&s, "# The write-up of case %s. Leave a field empty to leave it out; several lines stand indented below |.\n",
		oneLine(b.Case))
	for _, f := range b.Fields() {
		fmt.Fprintf(&s, "\n# %s\n", oneLine(f.Text))
		if f.Help != "" {
			fmt.Fprintf(&s, "# %s\n", oneLine(f.Help))
		}
		if f.Required {
			s.WriteString("# the vendor needs it\n")
		}
		for _, c := range f.Choices {
			fmt.Fprintf(&s, "#   %s: %s\n", oneLine(c.Name), oneLine(c.Means))
		}
		if from := b.From[f.ID]; from != "" {
			fmt.Fprintf(&s, "# from %s\n", oneLine(from))
		}
		value := b.Value(f.ID)
		switch {
		case f.Lines && value != "" && plain(value):
			fmt.Fprintf(&s, "%s: |-\n  %s\n", f.ID, strings.ReplaceAll(value, "\n", "\n  "))
		case value == "" && f.Lines:
			fmt.Fprintf(&s, "%s: |-\n", f.ID)
		case value == "":
			fmt.Fprintf(&s, "%s: ''\n", f.ID)
		default:
			text, err := yaml.Marshal(map[string]string{f.ID: value})
			if err != nil { // a map of texts can always be written
				text = fmt.Appendf(nil, "%s:\n", f.ID)
			}
			s.Write(text)
		}
	}
	return []byte(s.String())
}

// plain reports whether a text can stand as a block of YAML as it is.
func plain(text string) bool {
	for _, r := range text {
		if r != '\n' && (r < ' ' || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff || r == 0xfffd) {
			return false
		}
	}
	return !strings.HasPrefix(text, " ") && !strings.HasPrefix(text, "\n") && !strings.HasSuffix(text, "\n")
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }
