package flow

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/durable"
	"envask/internal/submit"
)

func FuzzCarry(f *testing.F) {
	sum := strings.Repeat("a", 64)
	f.Add([]byte(`{"case":"26031407","archive":"a.tar.gz","sha256":"` + sum +
		`","records":[{"kind":"packed","data":{"archive":"a.tar.gz","sha256":"` + sum +
		`","size":1}},{"kind":"split","data":{"name":"a.tar.gz","sha256":"` + sum + `","page":"x/../../secret.txt","parts":[]}}]}`))
	f.Add([]byte(`{"archive":"../x"}`))
	f.Add([]byte(`{"archive":"x","records":[{"kind":"sealed","data":{"archive":"a","sealed":"/etc/passwd"}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var c carry
		if c.read(data) != nil {
			return
		}
		require.NoError(t, durable.PlainName(c.Archive))
		for _, r := range c.Records { // whatever was taken holds plain names only
			var names struct {
				Archive, Sealed, Name, Page string
				Parts                       []struct{ Name string }
			}
			require.NoError(t, json.Unmarshal(r.Data, &names))
			for _, n := range append([]string{names.Archive, names.Sealed, names.Name, names.Page}, partNames(names.Parts)...) {
				require.NotContains(t, n, "/")
				require.NotEqual(t, "..", n)
			}
		}
	})
}

func partNames(parts []struct{ Name string }) (out []string) {
	for _, p := range parts {
		out = append(out, p.Name)
	}
	return out
}

func FuzzReceipt(f *testing.F) {
	k := &ask.Ask{Routes: []ask.Route{{Name: "stick", To: "/stick"}}}
	a := &App{Now: func() time.Time { return time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC) }}
	sum := strings.Repeat("b", 64)
	f.Add([]byte(`{"case":"1","route":"stick","to":"/stick","name":"a.tar.gz","size":5,"sha256":"` + sum +
		`","started":"2026-03-14T10:00:00Z","finished":"2026-03-14T10:00:01Z","proved":true}`))
	f.Add([]byte(`{"route":"stick","to":"/stick","name":"..","size":-5,"sha256":"x","finished":"9999-01-01T00:00:00Z"}`))
	f.Add([]byte(`{"route":"stick","to":"/stick","name":"a","sha256":"` + sum +
		`","finished":"2026-03-14T10:00:01Z","parts":[{"name":"/x"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var rec submit.Receipt
		if json.Unmarshal(data, &rec) != nil || a.impossible(k, &rec) != "" {
			return
		}
		for _, r := range append([]submit.Receipt{rec}, rec.Parts...) {
			require.NoError(t, durable.PlainName(r.Name))
			require.GreaterOrEqual(t, r.Size, int64(0))
			require.Regexp(t, sha256Text(), r.SHA256)
			require.Less(t, r.Finished.Year(), 2027)
		}
		require.Equal(t, "stick", rec.Route)
		_ = rec.Line()
	})
}
