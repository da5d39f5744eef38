package flow

import (
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/undo"
)

// Repair lets a case go on whose ledger was damaged; nil means that it is intact. What was made on systems and not undone is taken
// on from behind the break, so that tidy knows of it.
func (a *App) Repair(c *casefile.Case) (*casefile.Repaired, error) {
	rep, err := c.Repair(a.Command, a.Who, []string{undo.KindMade})
	return rep, fault.Wrap("repair the ledger of case", c.Name, err)
}
