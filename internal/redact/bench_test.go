package redact

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
)

// gateLog is a log in which every fifth line holds something to be found, or each when all is set.
func gateLog(lines int, all bool) []byte {
	r := rand.New(rand.NewPCG(1, 2))
	var w bytes.Buffer
	t := time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC)
	for range lines {
		t = t.Add(time.Duration(r.IntN(40)) * time.Millisecond)
		at := t.Format("2006-01-02T15:04:05.000Z")
		x := r.IntN(100)
		if all {
			x = 80 + x/5
		}
		switch {
		case x < 60:
			fmt.Fprintf(&w, "%s INFO  pass  [reader-%d] pass OT%08d accepted zone=%d lane=%d in %d ms\n", at, x%3, r.IntN(1e8), x%4, x%2, r.IntN(90))
		case x < 80:
			fmt.Fprintf(&w, "%s DEBUG door  [lane-%d] cycle %d open=%dms close=%dms current=1.%dA\n", at, x%2, r.IntN(1e6), 380+x, 410+x, x%10)
		case x < 95:
			fmt.Fprintf(&w, "%s INFO  link  heartbeat to 192.0.2.%d ok rtt=%dms queue=%d\n", at, r.IntN(250), x, x%4)
		case x < 98:
			fmt.Fprintf(&w, "%s INFO  pass  operator=m.quintela checked mail passenger.%d@merrowick.example\n", at, r.IntN(5000))
		default:
			fmt.Fprintf(&w, "%s WARN  auth  token refresh token=tpg_%016x expires_in=3600\n", at, r.Uint64N(4000))
		}
	}
	return w.Bytes()
}

// inLines gives a log as a container's output is kept, each line in one of JSON.
func inLines(log []byte) []byte {
	var out bytes.Buffer
	for line := range bytes.Lines(log) {
		fmt.Fprintf(&out, `{"log":%s,"stream":"stdout","time":"2026-03-14T06:12:00.123Z"}`+"\n", quoted(string(line)))
	}
	return out.Bytes()
}

// jsonLog is a log of lines of JSON with a message in each.
func jsonLog(lines int) []byte {
	r := rand.New(rand.NewPCG(3, 4))
	var out bytes.Buffer
	for i := range lines {
		fmt.Fprintf(&out, `{"time":"2026-03-14T06:%02d:%02dZ","level":"info","msg":"%s","gate":"gate-%d","zone":%d,"cents":%d,"ms":%d}`+"\n",
			i/60%60, i%60, []string{"quote given", "door cycle done", "Response delayed by the Terminal", "pass accepted", "heartbeat ok"}[r.IntN(5)], i%9, i%5, 100+r.IntN(800), i%90)
	}
	return out.Bytes()
}

// BenchmarkText redacts on one core: a log with few finds, one with a find in every fifth line or in each, and one with several in each.
func BenchmarkText(b *testing.B) {
	var values []alias.Value
	for i := range 5000 {
		values = append(values, alias.Value{Text: fmt.Sprintf("learned-%05d-value", i*7), Class: alias.Secret, Rule: "keyed-secret"})
	}
	var random []alias.Value
	rr := rand.New(rand.NewPCG(3, 4))
	for range 5000 {
		text := make([]byte, 20)
		for i := range text {
			text[i] = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"[rr.IntN(56)]
		}
		random = append(random, alias.Value{Text: string(text), Class: alias.Secret, Rule: "keyed-secret"})
	}
	learned := NewLearned()
	_, err := NewEngine(Options{Learned: learned}).Text(nil, bytes.NewReader(gateLog(100_000, false)))
	require.NoError(b, err)
	plain := bytes.Repeat([]byte("2026-03-14T06:12:00.123+00:00 INFO  pass  [reader-1] pass OT00030425 accepted zone=2 lane=1 in 87 ms\n"), 40_000)
	for _, c := range []struct {
		name    string
		data    []byte
		learned []alias.Value
	}{{"plain", plain, values}, {"gate", gateLog(100_000, false), values}, {"gate-random-values", gateLog(100_000, false), random}, {"gate-nothing-learned", gateLog(100_000, false), nil}, {"gate-own-values", gateLog(100_000, false), learned.Values()}, {"each-line", gateLog(100_000, true), values}, {"dense", []byte(sampleText(b, 40_000)), values}, {"container", inLines(gateLog(60_000, false)), values}, {"json", jsonLog(80_000), values}} {
		run := func(b *testing.B) {
			e := NewEngine(Options{Matcher: NewMatcher(c.learned)})
			b.SetBytes(int64(len(c.data)))
			for b.Loop() {
				if _, err := e.Text(io.Discard, bytes.NewReader(c.data)); err != nil {
					b.Fatal(err)
				}
			}
		}
		b.Run(c.name, run)
		b.Run(c.name+"-portable", func(b *testing.B) { portable(b, func() { run(b) }) })
	}
}

// What it takes to know 9,000 learned values.
func BenchmarkNewMatcher(b *testing.B) {
	learned := NewLearned()
	_, err := NewEngine(Options{Learned: learned}).Text(nil, bytes.NewReader(gateLog(100_000, false)))
	require.NoError(b, err)
	values := learned.Values()
	b.ReportMetric(float64(len(values)), "values")
	for b.Loop() {
		NewMatcher(values)
	}
}
