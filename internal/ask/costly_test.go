package ask

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Work that an ask could make without end is refused when it is read, with line and column.
func TestCostlyAsks(t *testing.T) {
	ask := func(rest string) string { return "ask: a\nvendor: v\n" + rest }
	many := func(n int, line string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, line, i)
		}
		return b.String()
	}
	for name, c := range map[string]struct{ text, want string }{
		"eight **":                 {ask("items:\n  - {id: x, files: ['/**/a/**/b/**/c/**/d/**/e/**/f/**/g/**']}\n"), "a.yaml:4:21: files: the pattern goes down all folders 8 times (**); 3 at most"},
		"braces that multiply":     {ask("items:\n  - {id: x, files: ['/" + strings.Repeat("{a,b}", 20) + "']}\n"), "more than 3 groups of braces"},
		"stars that multiply":      {ask("items:\n  - {id: x, files: ['/" + strings.Repeat("*a", 20) + "']}\n"), "more than 8 stars"},
		"a pattern without end":    {ask("items:\n  - {id: x, files: ['/" + strings.Repeat("abcdefghi/", 200) + "']}\n"), "1000 at most"},
		"an expression that grows": {ask("case: {number: '((x{100}){100})'}\nitems:\n  - {id: x, run: y}\n"), "a.yaml:3:16: number: not a usable expression"},
		"a long expression":        {ask("case: {number: '" + strings.Repeat("(a|b)", 300) + "'}\nitems:\n  - {id: x, run: y}\n"), "1000 at most"},
		"too many items":           {ask("items:\n" + many(1200, "  - {id: x%d, run: y}\n")), "a.yaml:1004:10: items: more than 1000"},
		"too many commands":        {ask("items:\n  - id: x\n    run:\n" + many(1200, "      - y%d\n")), "run: more than 1000 commands"},
		"too many patterns":        {ask("items:\n  - id: x\n    files:\n" + many(1200, "      - /y%d\n")), "files: more than 1000 patterns"},
		"too many expressions":     {ask("items:\n  - {id: x, run: y}\nredaction:\n  expressions:\n" + many(120, "    - {name: own-%d, match: 'a+', class: secret}\n")), "more than 100"},
		"a costly expression":      {ask("items:\n  - {id: x, run: y}\nredaction:\n  expressions:\n    - {name: own, match: '[a-z]{1,900}[0-9]{1,900}[a-z]{1,900}[0-9]{1,900}[a-f]{1,900}', class: secret}\n"), "a.yaml:7:26: match: not a usable expression: it costs too much"},
		"aliases":                  {ask("x: &a [1,2]\ny: [*a,*a]\nitems:\n  - {id: x, run: y}\n"), "anchors and aliases are not used"},
		"nested for ever":          {ask("items: " + strings.Repeat("[", 20_000) + "\n"), ""},
	} {
		t.Run(name, func(t *testing.T) {
			begun := time.Now()
			_, err := Parse("a.yaml", []byte(c.text))
			require.Error(t, err)
			require.Contains(t, err.Error(), c.want)
			t.Logf("%s", time.Since(begun).Round(time.Millisecond))
		})
	}
}
