package measure

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"

	"envask/internal/redact"
)

// Report is what was replaced in the texts of the machine, read as one archive: what is learned in one file is removed from all.
type Report struct {
	Kinds   []KindReport
	Samples map[string][]Shown // by rule
	Learned []redact.Value
}

// KindReport is what was replaced in one kind.
type KindReport struct {
	Kind   Kind
	Files  int
	Bytes  int64
	Direct redact.Counts // by the rules at their places
	All    redact.Counts // and by what was learned
}

// PerMB gives the replacements per MB, mail addresses apart.
func (k KindReport) PerMB() float64 {
	n := k.All.Total() - k.All["mail"] - k.All["mailbox-name"]
	return float64(n) / (float64(k.Bytes)/1e6 + 1e-9)
}

// Shown is one replacement with what was there.
type Shown struct {
	Kind, File string
	Line       int
	Left, Text string
	Right, Put string
}

// Precision redacts the texts, up to so many bytes of each kind, and keeps so many random samples of each rule; direct gives those of the
// rules at their places alone.
func Precision(kinds []Kind, each int, direct bool, mostOfKind int64) (*Report, error) {
	r := &Report{Samples: map[string][]Shown{}}
	learned := redact.NewLearned()
	learner := redact.NewEngine(redact.Options{Learned: learned})
	for _, k := range kinds {
		kr := KindReport{Kind: k, Direct: redact.Counts{}, All: redact.Counts{}}
		err := k.Each(mostOfKind, func(t Text) error {
			kr.Files++
			kr.Bytes += int64(len(t.Data))
			learned.AddCommon(redact.PathWords(t.Path)...)
			res, err := learner.File(nil, bytes.NewReader(t.Data), redact.Source{Name: t.Path})
			kr.Direct.Add(res.Counts)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", k.Name, err)
		}
		r.Kinds = append(r.Kinds, kr)
	}
	r.Learned = learned.Values()
	o := redact.Options{}
	if !direct {
		all, _ := learned.Everything()
		o.Matcher = redact.NewMatcher(all)
	}
	engine := redact.NewEngine(o)
	seen, draw := map[string]int{}, rand.New(rand.NewPCG(26, 31407))
	for i := range r.Kinds {
		kr := &r.Kinds[i]
		err := kr.Kind.Each(mostOfKind, func(t Text) error {
			res, err := engine.File(io.Discard, bytes.NewReader(t.Data), redact.Source{Name: t.Path, Sampler: func(s redact.Sample) {
				if s.Form != "" && s.Form != redact.Plain || s.Member != "" {
					return
				}
				seen[s.Rule]++
				at := len(r.Samples[s.Rule])
				if at == each {
					if at = draw.IntN(seen[s.Rule]); at >= each {
						return
					}
				} else {
					r.Samples[s.Rule] = append(r.Samples[s.Rule], Shown{})
				}
				r.Samples[s.Rule][at] = shown(kr.Kind.Name, t, s)
			}})
			kr.All.Add(res.Counts)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", kr.Kind.Name, err)
		}
	}
	return r, nil
}

func shown(kind string, t Text, s redact.Sample) Shown {
	at, end := int(s.Offset), int(s.Offset)+s.Length
	if at < 0 || end > len(t.Data) {
		return Shown{Kind: kind, File: t.Path, Left: s.Left, Text: "?", Put: s.Put, Right: s.Right}
	}
	from, to := bytes.LastIndexByte(t.Data[:at], '\n')+1, len(t.Data)
	if n := bytes.IndexByte(t.Data[end:], '\n'); n >= 0 {
		to = end + n
	}
	return Shown{Kind: kind, File: t.Path, Line: bytes.Count(t.Data[:at], []byte("\n")) + 1, Put: s.Put,
		Left: string(t.Data[max(from, at-70):at]), Text: string(t.Data[at:end]), Right: string(t.Data[end:min(to, end+50)])}
}

// Write prints it: replacements by kind, by rule, and the samples to read.
func (r *Report) Write(w io.Writer, samples bool) {
	rules := map[string][2]int{}
	fmt.Fprintf(w, "%-14s %7s %8s %8s %8s %8s  most\n", "kind", "files", "MB", "direct", "all", "per MB")
	for _, k := range r.Kinds {
		fmt.Fprintf(w, "%-14s %7d %8.1f %8d %8d %8.1f  %.0f\n", k.Kind.Name, k.Files, float64(k.Bytes)/1e6, k.Direct.Total(),
			k.All.Total(), k.PerMB(), k.Kind.Most)
		for name, n := range k.All {
			x := rules[name]
			rules[name] = [2]int{x[0] + k.Direct[name], x[1] + n}
		}
	}
	for _, k := range r.Kinds {
		var rules []string
		for name := range k.All {
			rules = append(rules, name)
		}
		slices.SortFunc(rules, func(a, b string) int { return k.All[b] - k.All[a] })
		fmt.Fprintf(w, "\n%s:", k.Kind.Name)
		for _, name := range rules[:min(len(rules), 8)] {
			fmt.Fprintf(w, " %s %d (%d)", name, k.All[name], k.Direct[name])
		}
	}
	fmt.Fprintln(w)
	var names []string
	for name := range rules {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { return rules[b][1] - rules[a][1] })
	fmt.Fprintf(w, "\n%-20s %8s %8s\n", "rule", "direct", "all")
	for _, name := range names {
		fmt.Fprintf(w, "%-20s %8d %8d\n", name, rules[name][0], rules[name][1])
	}
	if !samples {
		return
	}
	for _, name := range names {
		fmt.Fprintf(w, "\n== %s\n", name)
		for _, s := range r.Samples[name] {
			fmt.Fprintf(w, "%s:%d: %s⟦%s⟧%s\n", s.File, s.Line, strings.TrimLeft(s.Left, " \t"), s.Text, s.Right)
		}
	}
}
