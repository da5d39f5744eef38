package flow

import (
	"bufio"
	"context"
	"io"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/redact"
)

// Reveal writes a text with the aliases of a case turned back into the originals, and gives how many there were.
func (a *App) Reveal(ctx context.Context, c *casefile.Case, w io.Writer, r io.Reader) (int, error) {
	table, err := redact.LoadTable(c.AliasFile())
	if err != nil {
		return 0, fault.Wrap("read the aliases", c.Name, err)
	}
	n, err := redact.Reveal(table, bufio.NewWriter(w), durable.Until(ctx, r))
	return n, fault.Wrap("reveal", c.Name, err)
}
