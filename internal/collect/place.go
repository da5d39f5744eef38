package collect

import (
	"sync"

	"envask/internal/collect/transfer"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// places are the ways by which the systems were reached so far.
type places struct {
	mu     sync.Mutex
	byName map[string]round.Place
}

// placeOf notes by which way a system is reached; the latest counts.
func (c *Collector) placeOf(r *round.Round, s *site.System, target reach.System, had state) error {
	v, ok := target.(reach.Serving)
	if !ok {
		return nil
	}
	p := round.Place{System: s.Name, Served: v.Served()}
	c.places.mu.Lock()
	if c.places.byName == nil {
		c.places.byName = map[string]round.Place{}
		for name, old := range had.places {
			c.places.byName[name] = old
		}
	}
	same := c.places.byName[s.Name] == p
	c.places.byName[s.Name] = p
	c.places.mu.Unlock()
	if same || r == nil {
		return nil
	}
	if _, err := r.Record(round.Line{Place: &p}); err != nil {
		return &transfer.LocalError{Err: err}
	}
	return nil
}

// list gives the places in the order of the systems file.
func (p *places) list(s *site.Site) []round.Place {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []round.Place
	for i := range s.Systems {
		if k, ok := p.byName[s.Systems[i].Name]; ok {
			out = append(out, k)
		}
	}
	return out
}

// budget bounds how many bytes are taken from one system.
type budget struct {
	mu    sync.Mutex
	whole int64 // 0 is no limit
	left  int64
}

func newBudget(whole int64) *budget { return &budget{whole: whole, left: whole} }

// reserve takes so many bytes out of the budget, when there are so many; spend corrects it later.
func (b *budget) reserve(n int64) bool {
	if b == nil || b.whole == 0 {
		return true
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.left <= 0 || n > b.left {
		return false
	}
	b.left -= n
	return true
}

func (b *budget) spend(n int64) {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.left -= n
}

// why says that the budget is used up.
func (b *budget) why() string {
	return "beyond the system's budget of " + bytesText(b.whole) + " (bytes: in the systems file)"
}
