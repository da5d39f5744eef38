package brief

import (
	"bytes"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
)

func TestBrief(t *testing.T) {
	b := Brief{Case: "26031407", Vendor: "Ostrevane Gate Systems", Site: "tallow-pier", Window: "no limit", Questions: []ask.Question{
		{ID: "serial", Text: "Serial number", Required: true, Like: regexp.MustCompile(`^OG[0-9]{6}$`)}, {ID: "since", Text: "Since when?"}, {ID: "who", Text: "Who?", Required: true}},
		Answers: map[string]string{"serial": "OG1"}}
	require.Equal(t, []string{"serial: the answer is not as the vendor wants it (^OG[0-9]{6}$)", "who: Who?"}, b.Open())
	b.Answers["serial"], b.Answers["who"] = "OG410772", "the night shift"
	require.Empty(t, b.Open())
	var out bytes.Buffer
	require.NoError(t, b.Write(&out))
	require.Equal(t, "# Case 26031407: evidence\n\n- Vendor: Ostrevane Gate Systems\n- Site: tallow-pier\n- Window: no limit\n\n## Questions\n"+
		"\n**Serial number**\n\nOG410772\n\n**Since when?**\n\n(not answered)\n\n**Who?**\n\nthe night shift\n", out.String())
}
