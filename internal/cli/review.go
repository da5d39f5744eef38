package cli

import (
	"context"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/posix"
	"envask/internal/redact"
	"envask/internal/redact/prove"
)

type reviewFlags struct {
	request       flow.ReviewRequest
	approve, all  bool
	remove, leave []int
	looked        []string
	rules         []string
}

func newReview(s *session) *cobra.Command {
	var f reviewFlags
	c := &cobra.Command{
		Use:   "review [ARCHIVE]",
		Short: "Look at what redaction found, replaced and left, and approve it",
		Long: `Show what redaction did to an archive: by rule and by file, with samples in their lines; what it learned, what was left
readable on purpose, what could not be read, and what looks like a secret and was not replaced. Originals are masked; on a terminal
--unmask shows them. Approve the archive with --approve.`,
		Example: `  envask review
  envask review --rule keyed-secret --all
  envask review --remove 2 --keep 1,3      then pack again
  envask review --looked error.png
  envask review --approve`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.request.Unmask && (s.common.json || !s.screen.OnTerminal()) {
				return usage(cmd, fault.New(fault.Usage, "", "--unmask", "shows originals on a terminal only", ""))
			}
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			if len(args) > 0 {
				f.request.Archive = args[0]
			}
			return s.review(cmd.Context(), a, c, f)
		},
	}
	c.Flags().BoolVar(&f.request.Unmask, "unmask", false, "show originals (on a terminal only)")
	c.Flags().BoolVar(&f.approve, "approve", false, "record that you have reviewed and approved it")
	c.Flags().BoolVar(&f.all, "all", false, "every sample and every file")
	c.Flags().StringSliceVar(&f.rules, "rule", nil, "samples of these rules only")
	c.Flags().StringArrayVar(&f.looked, "looked", nil, "record that you have looked at this picture (several times)")
	c.Flags().IntSliceVar(&f.remove, "remove", nil,
		"values, by number, that must not leave wherever they stand: they go into the case's redaction.yaml")
	c.Flags().IntSliceVar(&f.leave, "keep", nil, "values, by number, that may stay as they are")
	return c
}

func (s *session) review(ctx context.Context, a *flow.App, c *casefile.Case, f reviewFlags) error {
	v, err := a.Review(ctx, c, f.request)
	if err != nil {
		return err
	}
	if len(f.remove)+len(f.leave) > 0 {
		if err := a.Decide(c, v, f.remove, f.leave); err != nil {
			return err
		}
		s.screen.Say("written to redaction.yaml of the case: %s to remove, %s to keep", number(len(f.remove)), number(len(f.leave)))
		s.next("pack", "review")
		return nil
	}
	if len(f.looked) > 0 {
		if err := a.Looked(c, v, f.looked); err != nil {
			return err
		}
	}
	if f.approve {
		if err := a.ApproveArchive(c, v); err != nil {
			return err
		}
	}
	if s.common.json {
		return s.writeJSON(v)
	}
	s.drawReview(v, f)
	return nil
}

// Files and samples that are shown when --all is not given.
const (
	reviewFiles   = 8
	reviewSamples = 2
)

func (s *session) drawReview(v *flow.Review, f reviewFlags) {
	s.screen.Print("%s", term.Clean(v.Archive))
	s.screen.Print("")
	s.drawRules(v, f)
	s.drawReviewedFiles(v, f.all)
	s.drawLeft(v)
	s.drawPictures(v)
	s.drawSuspects(v)
	s.drawValues(v, f.all)
	s.screen.Print("")
	if n := len(v.Proof.Missed); n > 0 {
		s.screen.Print("%s %d test secrets were not removed", s.screen.Paint(term.Bad, "proof failed:"), n)
	} else if v.Proof.Values > 0 {
		s.screen.Field("proof",
			fmt.Sprintf("%d test secrets went beside the evidence; rules and leak check caught %s of %s notations",
				v.Proof.Values, humanize.Comma(int64(v.Proof.Caught)), humanize.Comma(int64(v.Proof.Notations))))
	}
	switch {
	case v.ApprovedBy != "":
		s.screen.Field("approved", fmt.Sprintf("%s by %s", v.ApprovedAt, term.Clean(v.ApprovedBy)))
	case v.Required:
		s.screen.Field("approved", s.screen.Paint(term.Warn, "not yet; it must be before it is sent"))
		s.next("review --approve", "submit")
	default:
		s.screen.Field("approved", "not yet (nobody demands it)")
		s.next("review --approve", "submit")
	}
}

// drawPictures names the pictures that go along, with the paths at which to look at them.
func (s *session) drawPictures(v *flow.Review) {
	if len(v.Pictures) == 0 {
		return
	}
	s.screen.Print("")
	s.screen.Print("%s", s.screen.Paint(term.Bold, "pictures that go along; only a person can say what they show"))
	open := ""
	for _, p := range v.Pictures {
		s.screen.Print("  %s", term.Clean(p.File))
		s.screen.Print("    look at  %s", term.Clean(p.Path))
		switch {
		case p.LookedBy != "":
			s.screen.Print("    looked at by %s, %s", term.Clean(p.LookedBy), p.LookedAt)
		case v.MustLook:
			s.screen.Print("    %s", s.screen.Paint(term.Warn, "nobody looked at it yet; somebody must before it is sent"))
		default:
			s.screen.Print("    nobody looked at it yet")
		}
		if p.LookedBy == "" && open == "" {
			open = path.Base(p.File)
		}
	}
	if open != "" {
		s.next("review --looked " + posix.Plain(open))
	}
}

// drawRules shows each rule with its count and some samples.
func (s *session) drawRules(v *flow.Review, f reviewFlags) {
	samples := map[string][]flow.ReviewSample{}
	for _, x := range v.Samples {
		samples[x.Rule] = append(samples[x.Rule], x)
	}
	for _, rule := range byCount(v.Findings) {
		if len(f.rules) > 0 && !slices.Contains(f.rules, rule) {
			continue
		}
		learned := ""
		if n := v.Learned[rule]; n > 0 {
			learned = fmt.Sprintf(", %d %s known everywhere", n, one(n, "value", "values"))
		}
		s.screen.Print("%s  %s replaced%s", s.screen.Paint(term.Bold, rule), humanize.Comma(int64(v.Findings[rule])), learned)
		for i, x := range samples[rule] {
			if i >= reviewSamples && !f.all {
				break
			}
			original := prove.Mask(x.Length)
			if x.Original != "" {
				original = term.Clean(x.Original)
			}
			where := x.File
			if x.Member != "" {
				where += ": " + x.Member
			}
			if x.Masked != "" {
				where += " (masked: " + x.Masked + ")"
			}
			s.screen.Print("    %s", s.screen.Paint(term.Faint, term.Clean(where)))
			left, right := s.context(x, len([]rune(original)))
			s.screen.Print("      %s → %s%s%s", original, left, s.screen.Paint(term.Good, term.Clean(x.Put)), right)
		}
	}
	if len(v.Findings) == 0 {
		s.screen.Print("nothing had to be replaced")
	}
}

// context gives what stands around a sample, as much as there is room for on the line.
func (s *session) context(x flow.ReviewSample, original int) (left, right string) {
	l, r := []rune(term.Clean(x.Left)), []rune(term.Clean(x.Right))
	room := max(8, (s.screen.Width-len([]rune(x.Put))-original-13)/2)
	if len(r) < room {
		room += room - len(r)
	}
	if len(l) > room {
		l = append([]rune("…"), l[len(l)-room+1:]...)
	}
	if room = s.screen.Width - 11 - original - len(l) - len([]rune(x.Put)); len(r) > max(room, 8) {
		r = append(r[:max(room, 8)-1], '…')
	}
	return string(l), string(r)
}

func byCount(c redact.Counts) []string {
	var rules []string
	for r := range c {
		rules = append(rules, r)
	}
	sort.Slice(rules, func(i, j int) bool {
		return c[rules[i]] > c[rules[j]] || c[rules[i]] == c[rules[j]] && rules[i] < rules[j]
	})
	return rules
}

func (s *session) drawReviewedFiles(v *flow.Review, all bool) {
	if len(v.Files) == 0 {
		return
	}
	s.screen.Print("")
	var rows [][]string
	for i, f := range v.Files {
		if i == reviewFiles && !all {
			break
		}
		rows = append(rows, []string{term.Clean(f.Path), humanize.Comma(int64(f.Findings.Total())), countsText(f.Findings)})
	}
	s.screen.Table([]term.Column{{Title: "file", Wide: true, Least: 24}, {Title: "replaced", Right: true},
		{Title: "by rule", Wide: true, Least: 24}}, rows)
	if n := len(v.Files) - len(rows); n > 0 {
		s.screen.Print("and %d %s more; --all shows them", n, one(n, "file", "files"))
	}
}

// drawLeft shows what stays readable or unread, and why.
func (s *session) drawLeft(v *flow.Review) {
	var kinds []string
	for k, n := range v.Disclosed {
		kinds = append(kinds, fmt.Sprintf("%d %s", n, k))
	}
	sort.Strings(kinds)
	if len(kinds) > 0 {
		s.screen.Print("")
		s.screen.Field("disclosed", "stays readable on purpose: "+strings.Join(kinds, ", "))
	}
	s.drawStillThere(v.StillThere)
	for _, list := range []struct {
		what  string
		lines []string
	}{{"weaker:", v.Weaker}, {"as it is, on your word:", v.AsIs}, {"unread, on your word:", v.OpaqueIn},
		{"unread, stays behind:", v.OpaqueOut}} {
		for _, l := range list.lines {
			s.screen.Print("  %s %s", s.screen.Paint(term.Warn, list.what), term.Clean(l))
		}
	}
}

func (s *session) drawSuspects(v *flow.Review) {
	s.screen.Print("")
	if len(v.Suspects) == 0 {
		s.screen.Print("nothing else in the archive looks like a secret")
		return
	}
	s.screen.Print("%s", s.screen.Paint(term.Warn, "looks like a secret and was not replaced; you decide (--remove N, --keep N):"))
	var rows [][]string
	for _, x := range v.Suspects {
		key := x.Key
		if key == "" {
			key = "-"
		}
		rows = append(rows, []string{number(x.Number), term.Clean(x.Text), term.Clean(key), x.Why, number(x.Places), term.Clean(x.File)})
	}
	s.screen.Table([]term.Column{{Title: "no", Right: true}, {Title: "value"}, {Title: "key"}, {Title: "why"},
		{Title: "places", Right: true}, {Title: "first in", Wide: true, Least: 24}}, rows)
	if v.MoreThan {
		s.screen.Print("there are more; decide on these first")
	}
}

// reviewValues is how many learned values are shown when --all is not given.
const reviewValues = 10

// drawValues lists what was removed where no rule found it, and what was left there.
func (s *session) drawValues(v *flow.Review, all bool) {
	if len(v.Values) == 0 {
		return
	}
	s.screen.Print("")
	s.screen.Print("%s", s.screen.Paint(term.Bold, "values that rules found, and what became of them elsewhere"))
	list := v.Values
	if !all {
		list = list[:min(len(list), reviewValues)]
	}
	var rows [][]string
	for _, x := range list {
		elsewhere := fmt.Sprintf("%d more removed", x.Elsewhere)
		if x.Left != "" {
			elsewhere = "left: " + x.Left
		}
		found := number(x.Found)
		if x.Found == 0 { // as a part of something longer
			found = "in parts"
		}
		rows = append(rows, []string{number(x.Number), term.Clean(x.Text), x.Rule, found, number(x.Files), elsewhere,
			term.Clean(x.File)})
	}
	s.screen.Table([]term.Column{{Title: "no", Right: true}, {Title: "value"}, {Title: "rule"}, {Title: "found", Right: true},
		{Title: "files", Right: true}, {Title: "elsewhere"}, {Title: "first in", Wide: true, Least: 24}}, rows)
	if n := len(v.Values) - len(list); n > 0 {
		s.screen.Print("%d more with --all", n)
	}
}
