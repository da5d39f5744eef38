package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/keyfile"
	"envask/internal/redact"
	"envask/internal/site"
)

func newPack(s *session) *cobra.Command {
	var q flow.PackRequest
	var passphrase bool
	var from, split, warn string
	var warnOver int64
	c := &cobra.Command{
		Use:   "pack",
		Short: "Redact and package into the archive named after the case",
		Long: `Redact the evidence and write the archive. Pack then reads the archive back from the disk, verifies its checksums, and
searches it for every value that redaction learned. The default is all rounds since the last archive that was sent,
each item from the newest round that has it. The same rounds and rules always give the same bytes.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			if split != "" {
				if q.Split, err = keyfile.ParseSize(split); err != nil || q.Split < 1024 {
					return fault.New(fault.Usage, "--split", "", "give the size of one part, 1KiB at least, such as 20MiB", "")
				}
			}
			if warn != "" {
				if warnOver, err = keyfile.ParseSize(warn); err != nil {
					return &fault.Error{Class: fault.Usage, Op: "--warn-over", Err: err}
				}
			}
			if passphrase || from != "" {
				q.Passphrase = func() (string, error) { return s.newPassphrase(from) }
			}
			out, err := s.pack(cmd.Context(), a, c, q)
			if err == nil {
				s.tooLarge(out, warnOver)
			}
			return err
		},
	}
	c.Flags().StringSliceVar(&q.Rounds, "round", nil,
		"round to pack, or several together: r1,r2 (default: all since the last archive that was sent)")
	c.Flags().StringVar(&q.NewSince, "new-since", "", "leave out what is unchanged since this round, of which the vendor has the archive")
	c.Flags().StringVar(&q.Format, "format", "", "form of the archive: tar.gz, tar.zst or zip (default: what the ask wants, else tar.gz)")
	c.Flags().StringVar(&q.Level, "level", "",
		"how much work goes into making it small: fast, balanced or small (default: fast for tar.gz, else balanced)")
	c.Flags().StringArrayVar(&q.EncryptTo, "encrypt-to", nil,
		"encrypt for the owner of this public key (age1…, ssh-ed25519 …, ssh-rsa …), beside the ask's; repeat for several")
	c.Flags().StringVar(&q.SignWith, "sign", "", "sign the manifest with this private SSH key, for ssh-keygen -Y verify")
	c.Flags().StringSliceVar(&q.Without, "without", nil, "items that stay behind, though they were collected; the archive says so")
	c.Flags().StringVar(&warn, "warn-over", "", "say what is largest when what is sent is larger than this, such as 500MiB")
	c.Flags().StringVar(&split, "split", "", "cut what is sent into parts of this size at most, such as 20MiB, which plain cat joins")
	c.Flags().BoolVar(&passphrase, "passphrase", false, "encrypt by a passphrase that is asked for")
	c.Flags().StringVar(&from, "passphrase-from", "", "encrypt by the passphrase that env:NAME or file:PATH holds")
	c.Flags().StringSliceVar(&q.Domains, "domain", nil,
		"host names under these domains are removed too (domains: in the systems file or redaction.yaml keeps them)")
	c.Flags().StringSliceVar(&q.Opaque, "opaque", nil, "items whose unreadable files (dumps, images) may go unread")
	return c
}

// tooLarge says for whom an archive is too large, which items make it so, and what to do.
func (s *session) tooLarge(p *flow.Packed, warnOver int64) {
	over := warnOver > 0 && p.Size > warnOver
	if over {
		s.screen.Say("warning: the archive has %s, more than %s", bytesText(p.Size), bytesText(warnOver))
	}
	for _, r := range p.TooLarge {
		s.screen.Say("warning: the route %s takes %s at most; what would be sent is larger", term.Clean(r.Route), bytesText(r.Limit))
	}
	if !over && len(p.TooLarge) == 0 {
		return
	}
	s.screen.Say("before packing, most of it is of")
	for _, i := range p.Largest {
		s.screen.Say("  %s: %s", term.Clean(i.Item), bytesText(i.Bytes))
		if i.Advice != "" {
			s.screen.Say("    to make it smaller: %s", term.Clean(i.Advice))
		}
	}
	s.screen.Say("leave one out with --without ITEM, cut it deeper with a smaller window, or make parts with --split")
}

// newPassphrase asks for a passphrase twice, or takes it from where the engineer keeps it.
func (s *session) newPassphrase(from string) (string, error) {
	if from != "" {
		ref := site.Secret(from)
		if !ref.Valid() {
			return "", fault.New(fault.Usage, "--passphrase-from", "",
				"write env:NAME or file:PATH; the passphrase itself never stands in a command line", "")
		}
		return s.secret(ref)
	}
	if !s.screen.Ask {
		return "", fault.New(fault.Refused, "--passphrase", "", "nobody can be asked for it",
			"give --passphrase-from env:NAME or file:PATH")
	}
	defer s.pause()()
	once, err := s.screen.Secret("Passphrase for the archive")
	if err != nil {
		return "", err
	}
	again, err := s.screen.Secret("The same once more")
	if err != nil {
		return "", err
	}
	if string(once) != string(again) {
		return "", fault.New(fault.Usage, "--passphrase", "", "the two differ", "")
	}
	return string(once), nil
}

func (s *session) pack(ctx context.Context, a *flow.App, c *casefile.Case, q flow.PackRequest) (*flow.Packed, error) {
	board := s.screen.NewBoard()
	stage := ""
	a.Report = func(e any) {
		switch e := e.(type) {
		case flow.PackProgress:
			if e.Stage != stage && !board.Live() {
				board.Above("%s %s of evidence", e.Stage, bytesText(e.Total))
			}
			stage = e.Stage
			board.Set("pack", "%-9s %s of %s", e.Stage, bytesText(e.Done), bytesText(e.Total))
		case flow.Note:
			board.Above("note: %s", term.Clean(e.Text))
		default:
			s.remark(e)
		}
	}
	defer func() { a.Report = s.remark }()
	p, err := a.Pack(ctx, c, q)
	board.Close()
	if err != nil {
		return nil, err
	}
	if s.common.json {
		return p, s.writeJSON(p)
	}
	s.drawPacked(p)
	return p, nil
}

func (s *session) drawPacked(p *flow.Packed) {
	s.screen.Print("%s", term.Clean(p.Archive))
	same := ""
	if p.Same {
		same = "   (the same bytes as before)"
	}
	since := ""
	if p.NewSince != "" {
		since = ", only what is new since " + p.NewSince
	}
	s.screen.Field("size", fmt.Sprintf("%s, %s %s from %s %s%s%s", bytesText(p.Size), humanize.Comma(int64(p.Files)),
		one(p.Files, "file", "files"), one(1+strings.Count(p.Round, ","), "round", "rounds"), p.Round, since, same))
	s.screen.Field("SHA-256", p.SHA256)
	if e := p.Sealed; e != nil {
		whom := fmt.Sprintf("for %d %s", len(e.Recipients), one(len(e.Recipients), "key", "keys"))
		if e.Passphrase {
			whom = "by a passphrase"
		}
		s.screen.Field("encrypted", fmt.Sprintf("%s, %s; this is what submit sends", term.Clean(e.File), whom))
		s.screen.Field("to open", term.Clean(e.HowTo))
	}
	if n := len(p.Parts); n > 0 {
		s.screen.Field("parts", fmt.Sprintf("%d, %s to %s; this is what submit sends", n, p.Parts[0].Name, p.Parts[n-1].Name))
		s.screen.Field("to join", term.Clean(p.JoinPage))
	}
	s.screen.Field("replaced", countsText(p.Findings))
	where := "it"
	if len(p.StillThere) > 0 {
		where = "what was redacted"
	}
	s.screen.Field("checked", fmt.Sprintf("read back completely; none of the %s learned values is in %s",
		humanize.Comma(int64(p.Learned)), where))
	s.drawStillThere(p.StillThere)
	if s.common.verbose {
		var took []string
		for _, x := range p.Took {
			took = append(took, fmt.Sprintf("%s %.2f s", x.Stage, x.Seconds))
		}
		s.screen.Field("took", strings.Join(took, ", "))
	}
	s.screen.Field("proof", fmt.Sprintf("%d test secrets; %s of %s notations were removed", p.Proof.Values,
		humanize.Comma(int64(p.Proof.Caught)), humanize.Comma(int64(p.Proof.Notations))))
	for _, r := range p.Remarks {
		s.screen.Print("  %s %s", s.screen.Paint(term.Warn, "window:"), term.Clean(r))
	}
	for _, w := range p.Weaker {
		s.screen.Print("  %s %s", s.screen.Paint(term.Warn, "weaker redaction:"), term.Clean(w))
	}
	for _, o := range p.OpaqueOut {
		s.screen.Print("  %s %s", s.screen.Paint(term.Warn, "left out, unreadable:"), term.Clean(o))
	}
	if len(p.OpaqueOut) > 0 {
		s.screen.Say("hint: %s", s.withCase("envask pack --opaque ITEM sends what is unreadable as it is"))
	}
	for _, o := range p.OpaqueIn {
		s.screen.Print("  %s %s", s.screen.Paint(term.Warn, "went unread, on your word:"), term.Clean(o))
	}
	for _, o := range p.Pictures {
		s.screen.Print("  %s %s", s.screen.Paint(term.Warn, "goes along:"), term.Clean(o))
	}
	for _, q := range p.OpenQuestions {
		s.screen.Print("  %s %s (envask open NUMBER --answer ID=TEXT, then pack again)",
			s.screen.Paint(term.Warn, "the brief lacks"), term.Clean(q))
	}
	for _, l := range p.Lacking {
		s.screen.Print("  %s %s", s.screen.Paint(term.Bad, "lacks:"), term.Clean(l))
	}
	s.next("review", "submit")
}

// drawStillThere names the files that nobody redacted and that hold learned values.
func (s *session) drawStillThere(list []archive.StillThere) {
	for i, x := range list {
		if i == mostLacking {
			s.screen.Print("  %s", s.screen.Paint(term.Bad, fmt.Sprintf("and %s more; the manifest lists all", number(len(list)-i))))
			return
		}
		s.screen.Print("  %s %s", s.screen.Paint(term.Bad, "still holds learned values, on your word:"), term.Clean(x.Words()))
	}
}

func countsText(c redact.Counts) string {
	if len(c) == 0 {
		return "nothing"
	}
	var parts []string
	for _, r := range byCount(c) {
		parts = append(parts, humanize.Comma(int64(c[r]))+" "+r)
	}
	return strings.Join(parts, ", ")
}

// bytesText gives a size for people. What came from outside can be no size.
func bytesText(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }
