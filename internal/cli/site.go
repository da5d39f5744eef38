package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/site"
)

func newSite(s *session) *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "Write and check systems files"}
	c.AddCommand(newSiteNew(s), newSiteCheck(s))
	return c
}

// systemsSchemaFile is how the schema of systems files is called beside one.
const systemsSchemaFile = "systems.schema.json"

func newSiteNew(s *session) *cobra.Command {
	var name string
	var patterns []string
	c := &cobra.Command{
		Use:   "new FILE",
		Short: "Write a commented systems file, with this machine or hosts of your SSH configuration",
		Long: `Write a commented systems file. It lists this machine, or with --from-ssh-config the hosts of your own OpenSSH client
configuration whose names match: users, keys, ports and jump hosts stay there, and are honoured.`,
		Example: `  envask site new my-systems.yaml
  envask site new tallow-pier.yaml --from-ssh-config 'gate-*' --from-ssh-config fare`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			n := site.Draft{Name: name, Zone: localZoneName()}
			if n.Name == "" {
				n.Name = askNameOf(args[0])
			}
			if len(patterns) > 0 {
				hosts, err := s.hostsLike(patterns)
				if err != nil {
					return err
				}
				n.Hosts = hosts
			}
			text := site.Compose(n)
			if _, err := site.Parse(args[0], text); err != nil {
				return &fault.Error{Class: fault.Usage, Err: err}
			}
			head := strings.Replace(editorLine, schemaFile, systemsSchemaFile, 1)
			if err := s.writeInput(args[0], systemsSchemaFile, site.Schema, append([]byte(head), text...)); err != nil {
				return err
			}
			s.next("site check "+posix.Plain(args[0]), "open NUMBER --ask ASK --systems "+posix.Plain(args[0])+" --last 2h")
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "short name of the site (default: that of the file)")
	c.Flags().StringArrayVar(&patterns, "from-ssh-config", nil,
		"list the hosts of your SSH configuration whose names match (several times)")
	return c
}

// localZoneName is the zone of this machine by its name; "" where it has none that other machines know.
func localZoneName() string {
	zone := reach.LocalZoneName()
	if zone == "Local" {
		return ""
	}
	return zone
}

// hostsLike gives the hosts of the engineer's client configuration whose names match one of the patterns.
func (s *session) hostsLike(patterns []string) ([]site.Host, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil, fault.New(fault.Failed, "find the SSH configuration", "", err.Error(),
			"write the systems file without --from-ssh-config")
	}
	files := []string{filepath.Join(home, ".ssh", "config")}
	if runtime.GOOS != "windows" {
		files = append(files, "/etc/ssh/ssh_config")
	}
	config := reach.LoadClientConfig(files...)
	for _, r := range config.Remarks {
		s.screen.Say("note: %s", term.Clean(r))
	}
	hosts, err := config.Hosts(patterns)
	if err != nil {
		return nil, fault.New(fault.Usage, "", "--from-ssh-config", err.Error(), "write patterns such as 'gate-*'")
	}
	if len(hosts) == 0 {
		return nil, fault.New(fault.Usage, "", "--from-ssh-config", fmt.Sprintf("no host in %s matches %s", strings.Join(files, " or "),
			strings.Join(patterns, " or ")), "its Host lines name the hosts; lines with * name none")
	}
	return hosts, nil
}

func newSiteCheck(s *session) *cobra.Command {
	var against string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a systems file: every mistake with its line and column",
		Long: "Check a systems file. With --against it also names the items of an ask whose roles no system plays, and systems " +
			"that no item is for.",
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			st, err := flow.LoadSite(args[0])
			if err != nil {
				return err
			}
			remarks := []string{}
			if against != "" {
				k, err := flow.LoadAsk(against)
				if err != nil {
					return err
				}
				remarks = append(flow.AskRemarks(k, st), flow.SiteRemarks(k, st)...)
			}
			return s.checkedSite(st, remarks)
		},
	}
	c.Flags().StringVar(&against, "against", "", "ask whose roles the systems are to play")
	return c
}

func (s *session) checkedSite(st *site.Site, remarks []string) error {
	if s.common.json {
		return s.writeJSON(map[string]any{"site": st.Name, "systems": len(st.Systems), "remarks": remarks, "good": true})
	}
	s.screen.Print("good: site %s, %d %s", st.Name, len(st.Systems), one(len(st.Systems), "system", "systems"))
	var rows [][]string
	for i := range st.Systems {
		sys := &st.Systems[i]
		rows = append(rows, []string{sys.Name, strings.Join(sys.Ways, ", "), strings.Join(sys.Roles, ", "), sys.Via})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "reached by"}, {Title: "roles"}, {Title: "through"}}, rows)
	for _, r := range remarks {
		s.screen.Print("%s %s", s.screen.Paint(term.Warn, "remark:"), term.Clean(r))
	}
	return nil
}
