package report

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/archive"
	"envask/internal/collect"
	"envask/internal/redact"
)

func draw(t *testing.T, m archive.Manifest) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Page(&b, &m))
	return b.String()
}

func sample() archive.Manifest {
	return archive.Manifest{Case: "26031407", Ask: "gateway", Complete: true,
		Coverage: collect.Coverage{{System: "gate-1", Item: "log", State: collect.Taken, Files: 1, Bytes: 10}, {System: "fare-1", Item: "table", State: collect.Denied, Reason: "permission denied", Required: true},
			{Item: "crew", State: collect.Missing, Reason: "no system plays the role crew"}},
		Files:     []archive.File{{Path: "systems/gate-1/files/var/log/a b#c?d%41.log", System: "gate-1", Source: "/var/log/a b#c?d%41.log", Size: 10}},
		LeftOut:   []archive.LeftOut{{System: "gate-1", Item: "log", State: collect.Empty, Source: "/x", Reason: "old"}, {System: "gate-1", Item: "log", State: collect.Empty, Source: "/y", Reason: "old"}},
		Redaction: archive.Redaction{Findings: redact.Counts{"mail": 3, "jwt": 70}}}
}

func TestPageSaysWhatIsThereAndWhatIsNot(t *testing.T) {
	text := draw(t, sample())
	require.Contains(t, text, "Everything that the ask <b>gateway</b> requires is here")
	require.Contains(t, text, `href="systems/gate-1/files/var/log/a%20b%23c%3Fd%2541.log"`, "a link leads to the file, whatever its name")
	require.Contains(t, text, "gate-1, item log: empty: 2 (for example <code>/x: old</code>)")
	require.Contains(t, text, "<td>none</td><td>crew</td>")
	require.Less(t, strings.Index(text, "<td>jwt</td>"), strings.Index(text, "<td>mail</td>"), "the most frequent first")

	m := sample()
	m.Complete, m.Lacking, m.Redaction.Opaque = false, []string{"table on fare-1: denied"}, []string{"systems/x/core"}
	text = draw(t, m)
	require.Contains(t, text, "This archive lacks something")
	require.Contains(t, text, "<li>table on fare-1: denied</li>")
	require.Contains(t, text, "Not looked into")
	require.NotContains(t, text, "requires is here")
}

func TestPageTrustsNothing(t *testing.T) {
	const evil = `<script>alert(1)</script>"'javascript:`
	m := sample()
	m.Title, m.Vendor, m.Site = evil, evil, evil
	m.Coverage[1].Reason, m.Coverage[1].System = evil, evil
	m.Files[0].Source, m.Files[0].How, m.Files[0].Path = evil, evil, "systems/gate-1/files/"+evil
	m.LeftOut[0].Source = evil
	m.Rounds = []archive.RoundInfo{{ID: "r1", Note: evil}}
	text := draw(t, m)
	require.NotContains(t, text, "<script")
	require.NotContains(t, text, `href="javascript`)
	require.NotContains(t, text, "http", "the page loads nothing from anywhere")
}

func TestPageStaysReadableWithManyFiles(t *testing.T) {
	m := sample()
	for i := range 5000 {
		m.Files = append(m.Files, archive.File{Path: fmt.Sprintf("systems/gate-1/files/%d", i), System: "gate-1"})
	}
	text := draw(t, m)
	require.Equal(t, maxLinks, strings.Count(text, `href="systems/`))
	require.Contains(t, text, "<b>gate-1</b>: 5,001 files")
	require.Contains(t, text, "and 4701 more, listed in manifest.json")
}
