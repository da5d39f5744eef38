package cli

import (
	"errors"
	"time"

	"github.com/spf13/cobra"

	"envask/internal/ask"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/keyfile"
	"envask/internal/reach"
	"envask/internal/window"
)

// addWindow adds the flags with which a window is given.
func addWindow(c *cobra.Command, g *window.Given, zone *string) {
	f := c.Flags()
	f.StringArrayVar(&g.From, "from", nil,
		`begin of the window: 2026-03-14T06:12:00Z, "2026-03-14 06:12", 06:12 (today), "yesterday 22:00"; repeat for several spans`)
	f.StringArrayVar(&g.To, "to", nil, "end of the window (default: now)")
	f.StringVar(&g.Last, "last", "", "window covering the last DURATION, such as 2h, such as 2h")
	f.StringArrayVar(&g.Around, "around", nil, "moment in the middle of the window; repeat for several spans")
	f.StringVar(&g.Margin, "margin", "", "with --around: time on each side (default 30m)")
	f.StringVar(zone, "zone", "", "zone of times without offset (default: the site's, else the local one)")
}

// choice holds the flags that choose what is collected.
type choice struct {
	systems, roles, items, allow, accept []string
	sets, again, members                 []string
	depth, note, context, within, budget string
	missing, leaveOpen, baseline         bool
	listen                               string
	ports                                []string
	jobs                                 int
}

func addChoice(c *cobra.Command, x *choice) {
	f := c.Flags()
	f.StringSliceVar(&x.systems, "system", nil, "only these systems")
	f.StringSliceVar(&x.roles, "role", nil, "only systems that play one of these roles")
	f.StringSliceVar(&x.items, "item", nil, "only these items of the ask")
	f.StringVar(&x.depth, "depth", "standard", "how much to take: light, standard or deep")
	f.IntVar(&x.jobs, "jobs", 16, "systems at a time")
	f.StringVar(&x.context, "context", "", contextHelp)
	f.StringSliceVar(&x.sets, "set", nil, "only the items of these sets of the ask")
	f.StringVar(&x.within, "within", "", "stop after DURATION, such as 15m; volatile and required items first")
	f.StringVar(&x.budget, "budget", "", "estimate first, and ask when it is more than this, such as 10GiB")
	f.StringVar(&x.note, "note", "", "remark to keep with the round")
	f.StringArrayVar(&x.allow, "allow-path", nil, "take this path or pattern even if it is protected or reached through a symlink")
	addAccept(c, &x.accept)
}

func addAccept(c *cobra.Command, to *[]string) {
	c.Flags().StringArrayVar(to, "accept-key", nil,
		"trust a host key: NAME=SHA256:FINGERPRINT, with the name of the system or route; NAME (or all) shows the key and asks")
}

func (x *choice) request() (flow.CollectRequest, error) {
	depth, err := ask.ParseDepth(x.depth)
	if err != nil {
		return flow.CollectRequest{}, &fault.Error{Class: fault.Usage, Op: "--depth", Err: err}
	}
	accept, err := reach.ParseAccept(x.accept)
	if err != nil {
		return flow.CollectRequest{}, err
	}
	extra, err := contextTime(x.context)
	if err != nil {
		return flow.CollectRequest{}, err
	}
	var within time.Duration
	if x.within != "" {
		if within, err = window.ParseDuration(x.within); err != nil || within <= 0 {
			return flow.CollectRequest{}, fault.New(fault.Usage, "--within", "", "give a length of time, such as 15m", "")
		}
	}
	var budget int64
	if x.budget != "" {
		if budget, err = keyfile.ParseSize(x.budget); err != nil {
			return flow.CollectRequest{}, &fault.Error{Class: fault.Usage, Op: "--budget", Err: err}
		}
	}
	if x.missing && len(x.again) > 0 {
		return flow.CollectRequest{}, fault.New(fault.Usage, "collect", "", "--missing and --again do not go together", "")
	}
	if x.jobs < 1 || x.jobs > 1000 {
		return flow.CollectRequest{}, fault.New(fault.Usage, "--jobs", "", "give a number from 1 to 1000", "")
	}
	return flow.CollectRequest{Systems: x.systems, Roles: x.roles, Items: x.items, Depth: depth, AllowPaths: x.allow, Jobs: x.jobs,
		Note: x.note, Context: extra, Accept: accept, Sets: x.sets, Again: x.again, Members: x.members,
		Missing: x.missing, LeaveOpen: x.leaveOpen,
		Baseline: x.baseline, Within: within, Budget: budget}, nil
}

const contextHelp = "extra time on both sides of the window for logs that are cut to it, such as 10m"

// contextTime reads --context.
func contextTime(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	d, err := window.ParseDuration(text)
	if err == nil && d < 0 {
		err = errors.New("give a length of time, such as 10m")
	}
	if err != nil {
		return 0, &fault.Error{Class: fault.Usage, Op: "--context", Err: err}
	}
	return d, nil
}
