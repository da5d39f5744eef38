package flow

import (
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/redact"
)

// aliases gives every identity its alias and writes the table down, before anything can be sent that uses it.
func (p *packing) aliases() error {
	table, err := p.loaded()
	if err != nil {
		return err
	}
	p.table = table
	var beside errgroup.Group
	var made []redact.Value
	var missed []string
	beside.Go(func() (err error) {
		made, missed, err = p.prover.Learn(p.options())
		return err
	})
	for _, v := range p.learned.Values() {
		if _, stays := p.keep[v.Text]; !stays {
			p.known = append(p.known, v)
		}
	}
	if err := beside.Wait(); err != nil {
		return err
	}
	beside.Go(func() error { table.Give(p.known); return nil })
	p.matcher = redact.NewMatcher(slices.Concat(p.known, made))
	_ = beside.Wait()
	o := p.options()
	o.Aliases, o.Matcher = p.table, p.matcher
	if p.proof, err = p.prover.Check(o, missed); err != nil {
		return err
	}
	if len(p.proof.Missed) > 0 {
		return fault.New(fault.Refused, "prove the redaction", "", "test secrets were not removed: "+strings.Join(p.proof.Missed, "; "),
			"the archive was not written; a rule of redaction.yaml may be in the way")
	}
	return saveTable(table, p.c.AliasFile())
}

func saveTable(t *redact.Table, file string) error {
	if !t.Changed() {
		return nil
	}
	data, err := t.Marshal()
	if err != nil {
		return err
	}
	return durable.WriteFile(file, data, 0o600)
}
