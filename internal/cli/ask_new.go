package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/ask"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/late"
	"envask/internal/parts"
	"envask/internal/posix"
	"envask/internal/submit"
)

// askHead is what can be said of a new ask beside its items.
type askHead struct {
	vendor string
	routes []string
}

func (h *askHead) add(c *cobra.Command) {
	c.Flags().StringVar(&h.vendor, "vendor", "Example Vendor", "who asks")
	c.Flags().StringArrayVar(&h.routes, "route", nil,
		"how the archive is handed over: NAME=ADDRESS, such as desk=sftp://intake@desk.example/incoming (several times)")
}

var notInAskName = late.Pattern(`[^A-Za-z0-9_-]+`)

// draft begins an ask that is called like its file.
func (h *askHead) draft(file string) (parts.Draft, error) {
	d := parts.Draft{Name: askNameOf(file), Vendor: h.vendor}
	for _, r := range h.routes {
		name, to, ok := strings.Cut(r, "=")
		if !ok || to == "" {
			return d, fault.New(fault.Usage, "", "--route", fmt.Sprintf("expected NAME=ADDRESS, found %q", r), "")
		}
		if err := submit.Check(name, to); err != nil {
			return d, err
		}
		d.Routes = append(d.Routes, parts.Route{Name: name, To: to})
	}
	return d, nil
}

// askNameOf makes a short name from that of a file.
func askNameOf(file string) string {
	base := filepath.Base(file)
	name := strings.Trim(notInAskName().ReplaceAllString(strings.TrimSuffix(base, filepath.Ext(base)), "-"), "-_")
	if name == "" {
		name = "first"
	}
	return name[:min(len(name), 64)]
}

func newAskNew(s *session) *cobra.Command {
	var wanted []string
	var head askHead
	c := &cobra.Command{
		Use:   "new FILE",
		Short: "Write an ask to start from: of shipped parts, or with every key explained",
		Long: `Write an ask. With --for it is made of parts that Envask ships for open systems (see: envask ask parts), and can be used as
it is. Without, it is a commented example with every key.

A part that has to be told something takes it after an equals sign, and a role that its items are wanted from before a colon:
  --for linux,journal,web:nginx,java=/opt/gate`,
		Example: `  envask ask new first.yaml --for linux,journal,openssh --route here=/tmp/handover
  envask ask new site.yaml --for linux,web:nginx,db:postgresql,gate:systemd-unit=gate-agent.service --vendor "Ostrevane Gate Systems"`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(wanted) == 0 {
				if cmd.Flags().Changed("vendor") || cmd.Flags().Changed("route") {
					return usage(cmd, fault.New(fault.Usage, "", "--vendor and --route", "go with --for", ""))
				}
				return s.writeAsk(args[0], ask.Template)
			}
			d, err := head.draft(args[0])
			if err != nil {
				return usage(cmd, err)
			}
			var choices []parts.Choice
			for _, w := range wanted {
				choice, err := parts.ParseChoice(strings.TrimSpace(w))
				if err != nil {
					return err
				}
				choices = append(choices, choice)
				d.Blocks = append(d.Blocks, choice.Block())
			}
			if id := parts.Clash(choices); id != "" {
				return fault.New(fault.Usage, "", "--for", "two of its parts would have the item "+id,
					"name each part once; of two services with one name write the second item by hand")
			}
			d.Comment = []string{"Written by: envask ask new --for " + strings.Join(wanted, ","),
				"Change it as you like; envask ask check " +
					filepath.Base(args[0]) + " names every mistake."}
			text, err := flow.ComposeAsk(d)
			if err != nil {
				return err
			}
			return s.writeAsk(args[0], text)
		},
	}
	c.Flags().StringSliceVar(&wanted, "for", nil, "parts that it is made of: [ROLE:]PART[=VALUE], with commas between them")
	head.add(c)
	_ = c.RegisterFlagCompletionFunc("for", completeParts)
	return c
}

// writeAsk writes a new ask with the schema that editors need beside it, and never over a file.
func (s *session) writeAsk(file string, text []byte) error {
	if err := s.writeInput(file, schemaFile, ask.Schema, append([]byte(editorLine), text...)); err != nil {
		return err
	}
	s.next("ask check "+posix.Plain(file), "ask approve "+posix.Plain(file))
	return nil
}

// writeInput writes a new input file, and the schema that editors need beside it.
func (s *session) writeInput(file, schema string, schemaText, text []byte) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644) // #nosec G302 -- it is shared and holds no secret
	if os.IsExist(err) {
		return fault.New(fault.Usage, "write", file, "there is a file of that name already",
			"choose another name; nothing is overwritten")
	}
	if err != nil {
		return &fault.Error{Class: fault.Usage, Err: err}
	}
	_, err = f.Write(text)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return fault.Wrap("write", file, err)
	}
	s.screen.Print("wrote %s", term.Clean(file))
	beside := filepath.Join(filepath.Dir(file), schema)
	if _, err := os.Lstat(beside); os.IsNotExist(err) {
		if err := os.WriteFile(beside, schemaText, 0o644); err != nil { // #nosec G306 -- a schema holds no secret
			return fault.Wrap("write", beside, err)
		}
		s.screen.Print("wrote %s, by which editors complete and check it", term.Clean(beside))
	}
	return nil
}

func newAskParts(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "parts [PART]",
		Short: "List the parts that asks can be made of, or show one",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				return s.showPart(args[0])
			}
			return s.listParts()
		},
		ValidArgsFunction: completeParts,
	}
}

func (s *session) listParts() error {
	if s.common.json {
		type part struct {
			Name    string   `json:"name"`
			Title   string   `json:"title"`
			Takes   []string `json:"takes"`
			Needs   string   `json:"needs,omitempty"`
			Example string   `json:"example,omitempty"`
		}
		out := []part{}
		for _, p := range parts.All() {
			x := part{Name: p.Name, Title: p.Title, Takes: p.Takes}
			if p.Value != nil {
				x.Needs, x.Example = p.Value.Means, p.Value.Example
			}
			out = append(out, x)
		}
		return s.writeJSON(out)
	}
	var rows [][]string
	for _, p := range parts.All() {
		name := p.Name
		if p.Value != nil {
			name += "=" + p.Value.Example
		}
		rows = append(rows, []string{name, p.Title, strings.Join(p.Takes, ", ")})
	}
	s.screen.Table([]term.Column{{Title: "part"}, {Title: "for"}, {Title: "takes", Wide: true}}, rows)
	s.next("ask new FILE --for PART,PART", "ask parts PART")
	return nil
}

func (s *session) showPart(name string) error {
	p, err := parts.Find(name)
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(map[string]any{"name": p.Name, "title": p.Title, "takes": p.Takes, "items": p.Text()})
	}
	s.screen.Print("# %s: %s", p.Title, strings.Join(p.Takes, ", "))
	s.screen.Print("items:\n%s", strings.TrimSuffix(p.Text(), "\n"))
	value := ""
	if p.Value != nil {
		value = "=" + p.Value.Example
	}
	s.next("ask new FILE --for " + name + value)
	return nil
}
