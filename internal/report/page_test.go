package report

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/redact"
	"envask/internal/round"
)

func draw(t *testing.T, m archive.Manifest) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Page(&b, &Content{Manifest: &m}))
	return b.String()
}

// elements gives the page's elements and the values of all attributes by name, as a browser reads them.
func elements(t *testing.T, text string) (tags map[string]int, attributes map[string][]string) {
	t.Helper()
	root, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	tags, attributes = map[string]int{}, map[string][]string{}
	for n := range root.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		tags[n.Data]++
		for _, a := range n.Attr {
			attributes[a.Key] = append(attributes[a.Key], a.Val)
		}
	}
	return tags, attributes
}

func sample() archive.Manifest {
	return archive.Manifest{Case: "26031407", Ask: "gateway", Complete: true,
		Coverage: round.Coverage{{System: "gate-1", Item: "log", State: round.Taken, Files: 1, Bytes: 10},
			{System: "fare-1", Item: "table", State: round.Denied, Reason: "permission denied", Required: true},
			{Item: "crew", State: round.Missing, Reason: "no system plays the role crew"}},
		Files: []archive.File{{Path: "systems/gate-1/files/var/log/a b#c?d%41.log", System: "gate-1",
			Source: "/var/log/a b#c?d%41.log", Size: 10}},
		LeftOut: []archive.LeftOut{{System: "gate-1", Item: "log", State: round.Empty, Source: "/x", Reason: "old"},
			{System: "gate-1", Item: "log", State: round.Empty, Source: "/y", Reason: "old"}},
		Redaction: archive.Redaction{Findings: redact.Counts{"mail": 3, "jwt": 70}}}
}

func TestPageSaysWhatIsThereAndWhatIsNot(t *testing.T) {
	text := draw(t, sample())
	require.Contains(t, text, "Everything that the ask <b>gateway</b> requires is here")
	require.Contains(t, text, `href="systems/gate-1/files/var/log/a%20b%23c%3Fd%2541.log"`, "a link leads to the file, whatever its name")
	require.Contains(t, text, `<td>gate-1, item log: empty</td><td class="n">2</td><td><code>/x: old</code></td>`)
	require.Contains(t, text, `<td class="name">none</td><td class="name">crew</td>`)
	require.Less(t, strings.Index(text, ">jwt</td>"), strings.Index(text, ">mail</td>"), "the most frequent first")
	require.NotContains(t, text, "The write-up", "what there is nothing of has no heading")

	m := sample()
	m.Complete, m.Lacking, m.Redaction.Opaque = false, []string{"table on fare-1: denied"}, []string{"systems/x/core"}
	text = draw(t, m)
	require.Contains(t, text, "This archive lacks something")
	require.Contains(t, text, "<li>table on fare-1: denied</li>")
	require.Contains(t, text, "Not looked into")
	require.NotContains(t, text, "requires is here")
}

func TestPageTrustsNothing(t *testing.T) {
	const evil = `<script>alert(1)</script>"'><img src=x onerror=alert(1)>javascript:&#x6a;`
	m := sample()
	m.Case, m.Title, m.Vendor, m.Site, m.Ask, m.NewSince, m.SignedBy, m.Envask = evil, evil, evil, evil, evil, evil, evil, evil
	m.Coverage[1].Reason, m.Coverage[1].System, m.Coverage[1].Item, m.Coverage[1].State = evil, evil, evil, evil
	m.Files[0].Source, m.Files[0].How, m.Files[0].Path, m.Files[0].Item = evil, evil, "systems/gate-1/files/"+evil, evil
	m.Files[0].Cut = &round.CutInfo{Sure: evil, Unpacked: evil}
	m.LeftOut[0].Source = evil
	m.Lacking, m.Complete, m.Redaction.Opaque, m.Redaction.AsIs, m.Redaction.Weaker = []string{evil}, false, []string{evil},
		[]string{evil}, []string{evil}
	m.Redaction.Findings[evil], m.Redaction.Disclosed = 1, map[string]int{evil: 1}
	m.Rounds = []archive.RoundInfo{{ID: evil, Note: evil}}
	m.Clocks = []round.Clock{{System: evil, Zone: evil, How: evil}}
	m.Groups = []round.GroupResult{{Name: evil, Why: evil, Items: []string{evil}, Lacking: []string{evil}}}
	var b bytes.Buffer
	require.NoError(t, Page(&b, &Content{Manifest: &m, Brief: brief.Brief{Ask: &ask.Ask{Questions: []ask.Question{{ID: "a", Text: evil}}},
		Answers: map[string]string{"a": evil}},
		Facts: Facts{Systems: []string{evil}, Rows: []Fact{{Name: evil, Values: []string{evil}}}}}))
	tags, attributes := elements(t, b.String())
	require.Equal(t, 0, tags["script"]+tags["img"]+tags["iframe"]+tags["link"]+tags["object"]+tags["form"], "%v", tags)
	require.Equal(t, 1, tags["style"])
	for key := range attributes {
		require.False(t, strings.HasPrefix(key, "on") || key == "src" || key == "style", key)
	}
	for _, to := range attributes["href"] {
		u, err := url.Parse(to)
		require.NoError(t, err)
		require.True(t, u.Scheme == "" && u.Host == "" && !strings.HasPrefix(to, "/"), to)
	}
	require.NotContains(t, strings.ReplaceAll(b.String(), "http-equiv", ""), "http", "the page loads nothing from anywhere")
}

// The browser is told to run nothing and to load nothing, and the page's own style is what the rule lets through.
func TestPageForbidsTheBrowserEverything(t *testing.T) {
	text := draw(t, sample())
	_, inside, _ := strings.Cut(text, "<style>")
	inside, _, _ = strings.Cut(inside, "</style>")
	sum := sha256.Sum256([]byte(inside))
	_, attributes := elements(t, text)
	require.Contains(t, attributes["content"], "default-src 'none'; style-src 'sha256-"+base64.StdEncoding.EncodeToString(sum[:])+
		"'; base-uri 'none'; form-action 'none'")
}

func TestPageLinksNoActiveFile(t *testing.T) {
	m := sample()
	m.Files = append(m.Files, archive.File{Path: "systems/gate-1/files/www/status.html", System: "gate-1",
		Source: "/www/status.html", Active: true})
	var b bytes.Buffer
	require.NoError(t, Page(&b, &Content{Manifest: &m}))
	_, attributes := elements(t, b.String())
	require.NotContains(t, attributes["href"], "systems/gate-1/files/www/status.html")
	require.Contains(t, b.String(), "<code>/www/status.html</code><small>not linked: a browser could run it</small>")
}

// The longer list goes down the page.
func TestPageTurnsTheTable(t *testing.T) {
	m := sample()
	require.Contains(t, draw(t, m), "<th>item</th><th>gate-1</th><th>fare-1</th>")
	for i := range 3 {
		m.Coverage = append(m.Coverage, round.Cell{System: fmt.Sprintf("pc-%d", i), Item: "log", State: round.Taken})
	}
	require.Contains(t, draw(t, m), "<th>system</th><th>log</th>")
	for i := range 9 {
		m.Coverage = append(m.Coverage, round.Cell{System: "gate-1", Item: fmt.Sprintf("item-%d", i), State: round.Taken})
	}
	require.Contains(t, draw(t, m), "<th>item</th><th>gate-1</th><th>fare-1</th><th>pc-0</th>")
}

// Every word that a page can have is among those that stand in every archive.
func TestTextHasEveryWord(t *testing.T) {
	text := Text()
	for _, word := range []string{"not linked", "not answered", "demanded together", "was reached by", "Readable on purpose",
		"Less is taken out", "As they are", "Not looked into",
		"lacks something", "requires is here", "did not change since round", "and 1 more", "further folders", "earlier/",
		"took too long", "is signed with"} {
		require.Contains(t, text, word)
	}
}

// Many files are folded by system and folder, and each list has an end.
func TestPageStaysReadableWithManyFiles(t *testing.T) {
	m := sample()
	for i := range 5000 {
		m.Files = append(m.Files, archive.File{Path: fmt.Sprintf("systems/gate-1/files/day-%d/%d", i/15, i), System: "gate-1", Size: 10})
	}
	m.Files = append(m.Files, archive.File{Path: "systems/gate-1/files/day-1/late", System: "gate-1"})
	text := draw(t, m)
	require.Equal(t, maxLinks, strings.Count(text, `href="systems/`))
	require.Contains(t, text, "<b>gate-1</b>: 5,002 files")
	require.Contains(t, text, "<code>files/day-0</code>: 15 files, 150 B</summary>")
	require.Equal(t, 1, strings.Count(text, "<code>files/day-1</code>: 16 files"), "a folder stands once")
	require.Contains(t, text, "and 2,015 files in further folders, listed in manifest.json")
	require.Less(t, strings.Count(text, "<details"), maxFolders+10)

	many := sample()
	for s := range 300 {
		name := fmt.Sprintf("gate-%d", s+10)
		many.Coverage = append(many.Coverage, round.Cell{System: name, Item: "log", State: round.Taken})
		for i := range 100 {
			many.Files = append(many.Files, archive.File{Path: fmt.Sprintf("systems/%s/files/%d", name, i), System: name})
		}
	}
	require.Equal(t, 300*leastLinks+1, strings.Count(draw(t, many), `href="systems/`), "however many systems there are")
}
