package flow

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"envask/internal/ask"
	"envask/internal/bring"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/submit"
)

// join finds the round that takes what is brought: the newest one, unless it was sent. Then a new one is begun.
func (b *bringing) join(ctx context.Context, cell cellKey) error {
	if b.round == nil {
		r, err := b.app.openRound(b.c)
		if err != nil {
			return err
		}
		if r == nil {
			if r, err = b.begin(ctx, cell[1]); err != nil {
				return err
			}
			b.out.New = true
		}
		b.round, b.out.Round = r, r.ID
		if b.list, err = r.Brought(); err != nil {
			return fault.Wrap("read the round", r.ID, err)
		}
		b.sweep()
	}
	item := b.ask.Item(cell[1])
	if !slices.ContainsFunc(b.round.Coverage, func(c round.Cell) bool { return c.System == cell[0] && c.Item == cell[1] }) &&
		b.round.Finished() {
		b.round.Coverage = append(b.round.Coverage, round.ToBring(round.Cell{System: cell[0], Item: cell[1], Required: item.Required}))
	}
	return nil
}

// openRound gives the newest round that can still take something, or nil.
func (a *App) openRound(c *casefile.Case) (*round.Round, error) {
	v, err := a.ShowCase(c)
	if err != nil {
		return nil, err
	}
	rounds, err := round.List(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	if len(rounds) == 0 {
		return nil, nil
	}
	r := rounds[len(rounds)-1]
	if r.Baseline || !r.Discarded.IsZero() || !r.Thinned.IsZero() || v.routesOf(r.ID) != "" {
		return nil, nil
	}
	return r, nil
}

// begin makes a round of what persons bring alone.
func (b *bringing) begin(ctx context.Context, item string) (*round.Round, error) {
	col, d, err := b.app.prepare(b.c, CollectRequest{Items: []string{item}, Depth: max(ask.Standard, b.ask.Item(item).Depth)})
	if err != nil {
		return nil, err
	}
	defer d.Close()
	col.Report = func(collect.Event) {}
	return col.Run(ctx, b.w, "what a person brought", b.app.Who)
}

// choices gives the cells that a person can bring something for.
func (b *bringing) choices() (out []cellKey) {
	for _, it := range b.ask.Persons() {
		if b.q.Item != "" && it.ID != b.q.Item {
			continue
		}
		if it.OfCase {
			if b.q.System == "" {
				out = append(out, cellKey{site.Case, it.ID})
			}
			continue
		}
		for i := range b.site.Systems {
			s := &b.site.Systems[i]
			if it.Wanted(s.Roles) && (b.q.System == "" || b.q.System == s.Name) &&
				(!b.site.Hop(s) || slices.Contains(it.Of, site.RoleHop)) {
				out = append(out, cellKey{s.Name, it.ID})
			}
		}
	}
	return out
}

// checkNamed makes sure that what the engineer named is there.
func (b *bringing) checkNamed() error {
	if b.q.Item != "" {
		it := b.ask.Item(b.q.Item)
		if it == nil || !it.Brought() {
			why := "the ask has no item " + b.q.Item
			if it != nil {
				why = "envask collect takes the item " + b.q.Item + "; no person brings it"
			}
			return fault.New(fault.Usage, "--item", b.q.Item, why, "a person brings: "+strings.Join(personIDs(b.ask), ", "))
		}
		if it.OfCase && b.q.System != "" {
			return fault.New(fault.Usage, "--system", b.q.System, "the item "+it.ID+
				" is of the case, not of a system", "leave --system out")
		}
	}
	if b.q.System != "" && b.site.System(b.q.System) == nil {
		return fault.New(fault.Usage, "--system", b.q.System, "there is no such system in "+b.site.File, "")
	}
	if len(b.choices()) == 0 {
		return fault.New(fault.Usage, "add", "", "nobody is asked to bring that from there", "envask show --todo lists what is wanted")
	}
	return nil
}

func personIDs(k *ask.Ask) (ids []string) {
	for _, it := range k.Persons() {
		ids = append(ids, it.ID)
	}
	return ids
}

// belongs decides which item on which system a file is for: the one that was named, or those whose expectations it meets.
func (b *bringing) belongs(ctx context.Context, f *bring.File, path string) (cellKey, error) {
	if err := b.checkNamed(); err != nil {
		return cellKey{}, err
	}
	all := b.choices()
	if b.q.Item != "" {
		return b.oneOf(all, f.Name)
	}
	var fit []cellKey
	var why []string
	for _, id := range personIDs(b.ask) {
		verdict, err := f.Against(ctx, b.ask.Item(id).Spec.(ask.Person).Expect, b.c.Window, path)
		if err != nil {
			return cellKey{}, fault.Wrap("add", f.Name, err)
		}
		if len(verdict.Fails) > 0 {
			why = append(why, id+": "+verdict.Fails[0])
			continue
		}
		for _, c := range all {
			if c[1] == id {
				fit = append(fit, c)
			}
		}
	}
	if len(fit) == 0 {
		return cellKey{}, fault.New(fault.Usage, "add", f.Name, "it is not what an item expects ("+strings.Join(why, "; ")+")",
			"to bring it all the same, name the item: --item ID")
	}
	return b.oneOf(fit, f.Name)
}

// named gives the cell of something whose content is not here.
func (b *bringing) named() (cellKey, error) {
	if err := b.checkNamed(); err != nil {
		return cellKey{}, err
	}
	return b.oneOf(b.choices(), b.q.Link)
}

// oneOf takes the only cell, or asks which one is meant.
func (b *bringing) oneOf(all []cellKey, what string) (cellKey, error) {
	if len(all) == 1 {
		return all[0], nil
	}
	var names, flags []string
	for _, c := range all {
		if c[0] == site.Case {
			names = append(names, c[1])
			flags = append(flags, "--item "+c[1])
			continue
		}
		names = append(names, c[1]+" of "+c[0])
		flags = append(flags, "--item "+c[1]+" --system "+c[0])
	}
	if b.q.Choose != nil {
		n, err := b.q.Choose(fmt.Sprintf("What is %s?", what), names)
		if err != nil {
			return cellKey{}, err
		}
		if n >= 0 && n < len(all) {
			return all[n], nil
		}
	}
	const most = 6
	if len(flags) > most {
		flags = append(flags[:most], "…")
	}
	return cellKey{}, fault.New(fault.Usage, "add", what, "it may be "+strings.Join(names[:min(len(names), most)], ", or "),
		"say which: "+strings.Join(flags, "; "))
}

// sentEvidence gives the files that archives hold which were sent.
func (a *App) sentEvidence(c *casefile.Case) (map[place]bool, error) {
	v, err := a.ShowCase(c)
	if err != nil {
		return nil, err
	}
	sent, err := arrivedEvidence(c, v, func(r *submit.Receipt) bool { return !r.Handed })
	return sent, fault.Wrap("read what was sent", c.Name, err)
}

// TakeBack removes something that was brought from the case, as long as it was not sent.
func (a *App) TakeBack(c *casefile.Case, name string) (*Brought, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, err
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	b := &bringing{app: a, c: c, w: w, ask: k, site: s, out: &Brought{Files: []BroughtFile{}}, items: map[string]bool{}}
	rounds, err := round.List(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	sent, err := a.sentEvidence(c)
	if err != nil {
		return nil, err
	}
	for _, r := range slices.Backward(rounds) {
		if b.list, err = r.Brought(); err != nil {
			return nil, fault.Wrap("read the round", r.ID, err)
		}
		var found []int
		for i := range b.list {
			if e := &b.list[i]; e.Name == name || e.Brought.Name == name && e.Name != "" || e.Brought.Link == name {
				found = append(found, i)
			}
		}
		if len(found) == 0 {
			continue
		}
		if len(found) > 1 {
			var names []string
			for _, i := range found {
				names = append(names, b.list[i].Name)
			}
			return nil, fault.New(fault.Usage, "add --drop", name, "there are several: "+strings.Join(names, ", "), "name one of them")
		}
		if e := &b.list[found[0]]; sent[placeOf(e.System, e.Name, e.SHA256)] {
			return nil, fault.New(fault.Refused, "add --drop", name, "it was sent with round "+r.ID,
				"what was sent cannot be taken back; tell the vendor")
		}
		b.round = r
		return b.out, b.drop(found[0])
	}
	return nil, fault.New(fault.Usage, "add --drop", name, "nobody brought something of that name",
		"envask show --todo lists what was brought")
}

// drop removes an entry and its files. Of several versions the newest that is left counts.
func (b *bringing) drop(i int) error {
	e := b.list[i]
	b.list = slices.Delete(b.list, i, i+1)
	b.items[e.Item] = true
	if !e.Brought.Older && e.Name != "" {
		b.restore(&e)
	}
	b.out.Files = append(b.out.Files, BroughtFile{Entry: e})
	if err := b.save(b.round, b.list, &e, true); err != nil {
		return err
	}
	for _, name := range []string{e.Name, e.Brought.Original} {
		if name == "" {
			continue
		}
		if err := os.Remove(filepath.Join(b.round.RawDir(), e.System, filepath.FromSlash(name))); err != nil && !os.IsNotExist(err) {
			return fault.Wrap("add --drop", name, err)
		}
	}
	return nil
}

// restore lets the newest older version of what was taken back count again.
func (b *bringing) restore(gone *round.Entry) {
	newest := -1
	for i := range b.list {
		x := &b.list[i]
		if x.System == gone.System && x.Item == gone.Item && x.Brought.Older && strings.EqualFold(x.Brought.Name, gone.Brought.Name) &&
			(newest < 0 || !x.Brought.At.Before(b.list[newest].Brought.At)) {
			newest = i
		}
	}
	if newest >= 0 {
		b.list[newest].Brought.Older = false
	}
}
