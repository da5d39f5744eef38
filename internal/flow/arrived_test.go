package flow

import (
	"bytes"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact"
)

func TestPlacesAreReadBack(t *testing.T) {
	var text strings.Builder
	var got arrived
	var want []redact.Value
	for i := range 5000 { // beyond what is held at a time, and rules in turn
		v := redact.Value{Text: fmt.Sprintf("tpg_%08d", i*7919), Class: redact.Secret, Rule: "keyed-secret"}
		if i%3 == 0 {
			v = redact.Value{Text: fmt.Sprintf("maren.%d@pier.example", i), Class: redact.Mail, Rule: "mail"}
		}
		fmt.Fprintf(&text, "lane %d saw ", i)
		got.put(v, int64(text.Len()))
		fmt.Fprintf(&text, "%s and went on\n", v.Text)
		want = append(want, v)
	}
	require.Len(t, got.Places, 2)
	values, err := got.values(strings.NewReader(text.String()))
	require.NoError(t, err)
	require.Equal(t, want, values)

	file := bytes.NewReader([]byte("0123456789"))
	for _, at := range [][]int64{{0}, {-1, 2}, {2, 0}, {2, -1}, {8, 3}, {10, 1}, {1 << 62, 1}, {1, 1, math.MaxInt64, 1}, {0, redact.MaxLearned + 1}, {1, 1, 9, 2}} {
		bad := arrived{Places: []places{{Class: redact.Secret, Rule: "keyed-secret", At: at}}}
		_, err := bad.values(file)
		require.Error(t, err, at)
	}
}
