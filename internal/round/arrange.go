package round

import (
	"bufio"
	"cmp"
	"context"
	"envask/internal/durable"
	"envask/internal/spill"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/go-json-experiment/json/v1"
)

// placed is an entry and where it stands in the log.
type placed struct {
	System, Item, Source string
	At                   int64
}

func (p *placed) same(o *placed) bool {
	return p.System == o.System && p.Item == o.Item && p.Source == o.Source
}

func bySource(a, b *placed) int {
	return cmp.Or(strings.Compare(a.System, b.System), strings.Compare(a.Item, b.Item), strings.Compare(a.Source, b.Source),
		cmp.Compare(a.At, b.At))
}

// Arrange sorts the log of a round that is complete: what was measured and the cells first, then each entry once, as it was last. Who
// reads the round needs no memory for it then, and no other file beside it.
func (r *Round) Arrange(ctx context.Context) error {
	in, err := os.Open(r.LogFile())
	if err != nil {
		return err
	}
	defer in.Close()
	sorter := spill.NewSorter(ctx, r.PartDir(), bySource)
	defer sorter.Close()
	err = durable.Write(r.LogFile(), 0o600, func(w io.Writer) error {
		out := bufio.NewWriterSize(w, 256<<10)
		enc := json.NewEncoder(out)
		enc.SetEscapeHTML(true) // as record writes them
		_, err := readLines(in, func(l Line, at int64) error {
			if e := l.Entry; e != nil {
				return sorter.Add(placed{e.System, e.Item, e.Source, at})
			}
			return enc.Encode(l)
		})
		if err != nil {
			return err
		}
		var last *placed
		put := func() error {
			if last == nil {
				return nil
			}
			text, err := bufio.NewReaderSize(io.NewSectionReader(in, last.At, 1<<40), 4<<10).ReadBytes('\n')
			if err == nil {
				_, err = out.Write(text)
			}
			return err
		}
		err = sorter.Each(func(p *placed) error {
			if last != nil && !last.same(p) {
				if err := put(); err != nil {
					return err
				}
			}
			last = p
			return nil
		})
		// What is open cannot be replaced on Windows.
		return errors.Join(err, put(), out.Flush(), in.Close())
	})
	r.Sorted = err == nil
	return err
}
