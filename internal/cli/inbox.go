package cli

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/inbox"
	"envask/internal/keyfile"
	"envask/internal/round"
	"envask/internal/window"
)

func newInbox(s *session) *cobra.Command {
	q := flow.InboxRequest{Ports: map[string]int{}}
	var ports []string
	var long, most string
	c := &cobra.Command{
		Use:   "inbox",
		Short: "Receive what devices push, for a limited time",
		Long: `Receive files from devices that can do nothing but send: over SFTP and SCP, FTP, TFTP, and HTTP (PUT and POST). Each device
gets credentials for this time alone, and the words to type on it. Only writing is possible, and only into this case: nothing is listed
or read back. It ends when all that the ask expects (arrives:) is there, or after --for. Where the ask or the systems file names a
folder (a stick, a share), it takes what is put there.

What arrives joins the round like what a person brings; envask show --todo lists what is still expected.`,
		Example: `  envask inbox --listen 192.0.2.7
  envask inbox --listen 192.0.2.7 --protocol tftp --port tftp=69 --for 10m`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := inboxFlags(&q, ports, long, most); err != nil {
				return err
			}
			a, k, err := s.appAndCase()
			if err != nil {
				return err
			}
			a.Report = s.inboxEvent
			got, err := a.Inbox(cmd.Context(), k, q)
			var f *fault.Error
			if q.Listen == "" && errors.As(err, &f) && f.Op == "--listen" {
				f.Hint = "this machine has " + ownAddresses()
			}
			if s.common.json && got != nil {
				if e := s.writeJSON(got); e != nil {
					return e
				}
			}
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&q.Listen, "listen", "", "address of this machine that the devices reach (not needed for folders)")
	f.StringSliceVar(&q.Protocols, "protocol", inbox.Protocols(), "receive by these alone")
	f.StringSliceVar(&ports, "port", nil, "port for a protocol, such as tftp=69; others are chosen")
	f.StringVar(&long, "for", "30m", "stop after DURATION")
	f.StringVar(&most, "most", "", "largest file that is taken, such as 10GiB")
	f.StringSliceVar(&q.Items, "item", nil, "only these items of the ask")
	f.StringSliceVar(&q.Systems, "system", nil, "only these systems")
	return c
}

func inboxFlags(q *flow.InboxRequest, ports []string, long, most string) (err error) {
	if q.For, err = window.ParseDuration(long); err != nil || q.For <= 0 {
		return fault.New(fault.Usage, "--for", "", "give a length of time, such as 15m", "")
	}
	q.Most = flow.DefaultInboxFile
	if most != "" {
		if q.Most, err = keyfile.ParseSize(most); err != nil {
			return fault.New(fault.Usage, "--most", "", err.Error(), "")
		}
	}
	q.Ports, err = portsOf(ports)
	return err
}

// portsOf reads the ports of protocols.
func portsOf(list []string) (map[string]int, error) {
	out := map[string]int{}
	for _, p := range list {
		name, text, _ := strings.Cut(p, "=")
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > 65535 || !slices.Contains(inbox.Protocols(), name) {
			return nil, fault.New(fault.Usage, "--port", p, "give a protocol and its port, such as tftp=69", "")
		}
		out[name] = n
	}
	return out, nil
}

// ownAddresses lists the addresses of this machine.
func ownAddresses() string {
	var out []string
	list, err := net.InterfaceAddrs()
	if err != nil {
		return "none that can be listed"
	}
	for _, a := range list {
		if n, ok := a.(*net.IPNet); ok && !n.IP.IsLinkLocalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	return strings.Join(out, ", ")
}

// inboxEvent draws what the inbox does.
func (s *session) inboxEvent(e any) {
	switch e := e.(type) {
	case flow.InboxOpen:
		s.drawInbox(e)
	case flow.InboxArrived:
		from := e.How()
		if e.Renamed {
			from += ", which called it " + e.Said
		}
		state := s.paintState(round.Cell{State: e.State})
		line := fmt.Sprintf("arrived: %s %s: %s, %s, %s, SHA-256 %s", e.System, e.Name, bytesText(e.Bytes),
			term.Clean(from), state, e.SHA256[:12])
		line += fmt.Sprintf(" (%d of %d)", e.Came, e.Want)
		if e.Reason != "" {
			line += ": " + term.Clean(e.Reason)
		}
		s.screen.Say("%s", line)
	default:
		s.remark(e)
	}
}

func (s *session) drawInbox(e flow.InboxOpen) {
	var at []string
	for _, p := range inbox.Protocols() {
		if e.At[p] != "" {
			at = append(at, p+" "+e.At[p])
		}
	}
	if len(at) == 0 {
		at = []string{"from folders"}
	}
	s.screen.Say("receiving until %s: %s", s.when(e.Until), strings.Join(at, ", "))
	for _, w := range e.Systems {
		from := ""
		for _, a := range w.From {
			from += ", from " + a.String()
		}
		s.screen.Say("\n%s %s: expected %s%s", s.screen.Paint(term.Bold, w.System), w.Item, term.Clean(w.Expect), from)
		if w.Folder != "" {
			s.screen.Say("put it into %s", term.Clean(w.Folder))
		}
		if len(w.Words) > 0 {
			s.screen.Say("type on it:")
		}
		for _, l := range w.Words {
			s.screen.Say("  %s", term.Clean(l))
		}
	}
	s.screen.Say("")
}
