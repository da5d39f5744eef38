package redact

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
)

// One weak find takes no word out of paths, classes, packages, units and file names, and no part out of longer words.
func TestOneWeakFindRemovesNoWordElsewhere(t *testing.T) {
	const weak = "url=jdbc:postgresql://db.merrowick.example/ledger?user=ledger\nuser ALL=(root) NOPASSWD: /bin/sh\nlibsecret-1-0:amd64.\npassword=Kelp-77x\n"
	const others = "com.merrowick.ledger.Main started\nopen /srv/ledger/ledger.log by ledger.service\nexec /bin/sh -c run\nlinux amd64.deb, ledger-core-1.4.jar, ledger_pass\nxKelp-77xy stays\n"
	learned := NewLearned()
	e := NewEngine(Options{Learned: learned})
	_, err := e.Text(nil, strings.NewReader(weak))
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = NewEngine(Options{Matcher: NewMatcher(learned.Values())}).Text(&out, strings.NewReader(others+"then Kelp-77x again\n"))
	require.NoError(t, err)
	require.Equal(t, others+"then [redacted:keyed-secret] again\n", out.String())
}

// A table whose quoted cell goes over two lines is one table, on standard input as in a file.
func TestQuotedCellOverTwoLines(t *testing.T) {
	const table = "name,password,lane\n\"Lane \"\"x\"\"\r\nfour, five\",Kelp-7719-aB,3\nRui,\"Wharf-8820\n-cD-x71\",4\none row, with, too, many\nEva,Stone-9931-eF,5\n"
	out := redactText(t, table)
	for _, secret := range []string{"Kelp-7719", "Wharf-8820", "cD-x71", "Stone-9931"} {
		require.NotContains(t, out, secret)
	}
	require.Contains(t, out, "\"Lane \"\"x\"\"\r\nfour, five\",[redacted:keyed-secret],3\n")
	require.Contains(t, out, "one row, with, too, many\n")
}

// Lists for programs have a NUL character behind each entry: a secret goes up to there, and the rest stays.
func TestListsWithNULs(t *testing.T) {
	text := "PASSWORD=Sable-Wharf-77\x00HOME=/root\x00PATH=/bin\x00TOKEN=Kelp-Harbour-4711\x00LANE=1\x00"
	for _, repeat := range []int{1, 20_000} {
		require.Equal(t, strings.Repeat("PASSWORD=[redacted:keyed-secret]\x00HOME=/root\x00PATH=/bin\x00TOKEN=[redacted:keyed-secret]\x00LANE=1\x00", repeat), redactText(t, strings.Repeat(text, repeat)))
	}
}

// A value far behind its colon.
func TestValueFarBehindItsColon(t *testing.T) {
	for _, blank := range []string{" ", "\t"} {
		for n := range 40 {
			require.Contains(t, redactText(t, "IP:"+strings.Repeat(blank, n)+"10.1.2.3\n"), "24") // 240.0.0.0/4
			require.Contains(t, redactText(t, "\"IP\":"+strings.Repeat(blank, n)+"10.1.2.3\n"), "24")
		}
	}
}

// All of a file decides whether it is text.
func TestTextIsToldFromBinary(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	noise := func(n int, from, to byte) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = from + byte(r.IntN(int(to-from)+1))
		}
		return string(b)
	}
	log := strings.Repeat("2026-03-14T06:12:00Z INFO passage at lane 4, sensor 17 at 21.5 °C\n", 2000)
	for name, c := range map[string]struct {
		text   string
		binary bool
	}{
		"log":                  {log, false},
		"empty":                {"", false},
		"noise without NUL":    {noise(1<<20, 1, 255), true},
		"log, then noise":      {log + noise(200<<10, 1, 255), true},
		"noise far behind":     {strings.Repeat(log, 20) + noise(100<<10, 1, 255) + strings.Repeat(log, 20), true},
		"high bytes in a row":  {log + noise(200<<10, 128, 255), true},
		"a short blob":         {strings.Repeat(log, 20) + noise(2000, 1, 255) + log, false},
		"a power cut":          {log + strings.Repeat("\x00", 300<<10) + log, false},
		"environment":          {strings.Repeat("PATH=/usr/bin\x00HOME=/root\x00", 5000), false},
		"latin-1":              {strings.Repeat("2026-03-14 06:12 Ges\xe4mtlage: T\xfcr ge\xf6ffnet\n", 3000), false},
		"cyrillic in one byte": {strings.Repeat("\xce\xf8\xe8\xe1\xea\xe0 \xe4\xe2\xe5\xf0\xe8 4\n", 3000), false},
		"colours":              {strings.Repeat("\x1b[31mERROR\x1b[0m lane 4\n", 3000), false},
		"numbers of 4 bytes":   {log + strings.Repeat("\x00\x01\x00\x07\x12\x00\x00\x01", 20<<10), true},
	} {
		res, err := NewEngine(Options{Learned: NewLearned()}).File(nil, strings.NewReader(c.text), Source{Name: "gate.log"})
		require.NoError(t, err, name)
		require.Equal(t, c.binary, res.Unreadable(), name)
	}
	var out bytes.Buffer
	text := log + noise(200<<10, 1, 255)
	_, err := NewEngine(Options{}).File(&out, strings.NewReader(text), Source{Opaque: true, Unread: true})
	require.NoError(t, err)
	require.Equal(t, text, out.String(), "what is binary goes as it is")
}

// A name on weak evidence teaches the second time in a file; a file before it plays no part.
func TestWeakEvidenceCountsWithinAFile(t *testing.T) {
	l := NewLearned()
	e := NewEngine(Options{Learned: l})
	learn := func(text string) []alias.Value {
		_, err := e.Text(nil, strings.NewReader(text))
		require.NoError(t, err)
		return l.Take()
	}
	once := "disconnected from user itostrund today\n"
	require.Empty(t, learn(once))
	require.Empty(t, learn(once), "another file")
	require.Len(t, learn(once+once), 1)
	v := alias.Value{Text: "itostrund", Class: alias.User, Rule: "log-user"}
	require.NotEmpty(t, l.WhyLeft(v), "it was not learned, and that is said")
	l.Add(v)
	require.Empty(t, l.WhyLeft(v))
}
