package collect

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"

	"golang.org/x/sync/errgroup"
)

// mostMembers bounds how many fellows an answer may name.
const mostMembers = 4096

// memberWord is what a name of a fellow looks like: it is put into commands.
var memberWord = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9._:/-]{0,63}$`)

// members are what the systems of a run said about their fellows.
type members struct {
	mu   sync.Mutex
	list []round.Members
}

func (m *members) get(system, id string) *round.Members {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range m.list {
		if m.list[i].System == system && m.list[i].ID == id {
			return &m.list[i]
		}
	}
	return nil
}

func (m *members) put(x round.Members) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.list = append(m.list, x)
}

// sorted gives them in the order of the systems file.
func (m *members) sorted(s *site.Site) []round.Members {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []round.Members
	for i := range s.Systems {
		for _, x := range m.list {
			if x.System == s.Systems[i].Name {
				out = append(out, x)
			}
		}
	}
	return out
}

// Members gives what the systems said about their fellows.
func (c *Collector) Members() []round.Members { return c.members.sorted(c.Site) }

// memberTimeout bounds asking for fellows.
const memberTimeout = time.Minute

// fellows asks a system for its fellows, once, and holds them against the systems file.
func (c *Collector) fellows(ctx context.Context, s *site.System, target reach.System, spec *ask.Members) *round.Members {
	if had := c.members.get(s.Name, spec.ID); had != nil {
		return had
	}
	ctx, cancel := context.WithTimeout(ctx, memberTimeout)
	defer cancel()
	x := round.Members{System: s.Name, ID: spec.ID}
	text, err := perform(ctx, target, device.Step{Type: spec.Type}, nil)
	if err != nil {
		x.Reason = transfer.Plain(err)
	}
	seen := map[string]bool{}
	for _, m := range spec.Like.FindAllStringSubmatch(text, mostMembers) {
		f := round.Fellow{Name: strings.TrimSpace(m[spec.Like.SubexpIndex("name")])}
		if i := spec.Like.SubexpIndex("address"); i >= 0 {
			f.Address = strings.TrimSpace(m[i])
		}
		if seen[f.Name] || f.Name == "" {
			continue
		}
		seen[f.Name] = true
		f.Listed = c.listed(s, f)
		x.Fellows = append(x.Fellows, f)
	}
	if x.Reason == "" && len(x.Fellows) == 0 {
		x.Reason = "the answer names no member"
	}
	for _, want := range c.expected(s, spec) {
		if x.Reason == "" && !slices.ContainsFunc(x.Fellows, func(f round.Fellow) bool { return c.same(want, f) }) {
			x.Absent = append(x.Absent, want)
		}
	}
	c.members.put(x)
	return c.members.get(s.Name, spec.ID)
}

// listed reports whether the systems file knows a fellow: as a member of the system, or as a system by its name or address.
func (c *Collector) listed(s *site.System, f round.Fellow) bool {
	if slices.ContainsFunc(s.Members, func(n string) bool { return strings.EqualFold(n, f.Name) }) {
		return true
	}
	return slices.ContainsFunc(c.Site.Systems, func(x site.System) bool { return c.same(x.Name, f) })
}

// same reports whether a name of the systems file is a fellow.
func (c *Collector) same(name string, f round.Fellow) bool {
	if strings.EqualFold(name, f.Name) {
		return true
	}
	s := c.Site.System(name)
	return s != nil && f.Address != "" && slices.Contains(s.Hosts(), f.Address)
}

// expected gives the fellows that the systems file says there are: the members of the system, else all systems that play its role.
func (c *Collector) expected(s *site.System, spec *ask.Members) []string {
	if len(s.Members) > 0 {
		return s.Members
	}
	var out []string
	for i := range c.Site.Systems {
		if x := &c.Site.Systems[i]; spec.Wanted(x.Roles) {
			out = append(out, x.Name)
		}
	}
	if len(out) == 1 {
		return nil // it stands alone in the systems file: nobody is expected
	}
	return out
}

// memberNames gives the fellows for which the item is taken: those that the systems file lists, and those that the engineer named.
func (w *work) memberNames(ctx context.Context) ([]string, error) {
	spec := w.req.Ask.MembersOf(w.item.EachMember)
	if spec == nil {
		return nil, fmt.Errorf("there is no list of members %q", w.item.EachMember)
	}
	x := w.fellows(ctx, spec)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if x.Reason != "" {
		return nil, fmt.Errorf("its members are not known: %s", x.Reason)
	}
	var names []string
	for _, f := range x.Fellows {
		switch {
		case !memberWord().MatchString(f.Name):
			w.add(round.Entry{Source: "member " + SafePath(f.Name), State: round.Refused, Special: true,
				Reason: "its name is not a word that is put into commands"})
		case f.Listed || w.req.takesMember(f.Name):
			names = append(names, f.Name)
		default:
			w.add(round.Entry{Source: "member " + f.Name, State: round.Skipped, Special: true,
				Reason: "the systems file does not list it; --members " + f.Name + " takes it"})
		}
	}
	return names, nil
}

// takesMember reports whether the engineer named a fellow that the systems file does not list.
func (r *Request) takesMember(name string) bool {
	return slices.ContainsFunc(r.Members, func(n string) bool { return strings.EqualFold(n, name) })
}

// askFellows asks a system for all fellows that the ask wants to know.
func (c *Collector) askFellows(ctx context.Context, r *round.Round, s *site.System, target reach.System) error {
	for i := range c.Ask.Members {
		spec := &c.Ask.Members[i]
		if !spec.Wanted(s.Roles) || ctx.Err() != nil {
			continue
		}
		had := c.members.get(s.Name, spec.ID) != nil
		x := c.fellows(ctx, s, target, spec)
		if had || r == nil || ctx.Err() != nil {
			continue
		}
		if _, err := r.Record(round.Line{Members: x}); err != nil {
			return &transfer.LocalError{Err: err}
		}
	}
	return nil
}

// FindMembers asks the systems of the plan for their fellows, before anything is taken.
func (c *Collector) FindMembers(ctx context.Context) []round.Members {
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(max(1, c.Jobs))
	for i := range c.Site.Systems {
		s := &c.Site.Systems[i]
		if !c.chosen(s) || !slices.ContainsFunc(c.Ask.Members, func(m ask.Members) bool { return m.Wanted(s.Roles) }) {
			continue
		}
		g.Go(func() error {
			target, err := c.Open(inner, s)
			if err != nil {
				return nil // the collection says why
			}
			defer target.Close()
			return fault.Safely(func() error { return c.askFellows(inner, nil, s, target) })
		})
	}
	_ = g.Wait() // what one system does wrong is said when it is visited
	return c.Members()
}

// AddMember takes a member that the systems file does not list. One with an address that no system has becomes a system, which is reached
// as the one that names it.
func (c *Collector) AddMember(by string, f round.Fellow) {
	c.Request.Members = append(c.Request.Members, f.Name)
	s := c.Site.System(by)
	if s == nil || !plainAddress().MatchString(f.Address) || !systemWord().MatchString(f.Name) || slices.Contains(s.Hosts(), f.Address) ||
		c.Site.System(f.Name) != nil {
		return
	}
	next := *s
	next.Name, next.Members = f.Name, nil
	next.SSH.Host = f.Address
	if s.Console != nil {
		console := *s.Console
		console.SSH.Host = f.Address
		if _, port, err := net.SplitHostPort(console.Address); err == nil {
			console.Address = net.JoinHostPort(f.Address, port)
		}
		next.Console = &console
	}
	next.Ways = slices.DeleteFunc(slices.Clone(s.Ways), func(w string) bool { return w != "ssh" && w != "console" })
	if len(next.Ways) > 0 {
		all := *c.Site
		all.Systems = append(slices.Clone(c.Site.Systems), next)
		c.Site = &all
	}
}

var (
	plainAddress = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9.:-]{0,252}$`)
	systemWord   = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,63}$`)
)
