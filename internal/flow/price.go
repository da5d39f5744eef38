package flow

import (
	"sort"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/logset"
	"envask/internal/round"
)

// Price is what a window costs.
type Price struct {
	Items    []ItemPrice   `json:"items"` // the dearest first
	Bytes    int64         `json:"bytes"`
	HourMore int64         `json:"hour_more"` // bytes that a window which begins an hour earlier would add
	Took     time.Duration `json:"-"`         // about how long it would take, about_seconds in JSON; 0 when nothing was measured
	Loses    *Loss         `json:"soonest_lost,omitempty"`
}

// ItemPrice is the share of one item, over all systems.
type ItemPrice struct {
	Item     string        `json:"item"`
	Bytes    int64         `json:"bytes"`
	HourMore int64         `json:"hour_more"`
	Took     time.Duration `json:"-"` // about_seconds in JSON
}

// Loss is the log that will lose its oldest lines soonest.
type Loss struct {
	System string    `json:"system"`
	Set    string    `json:"set"`
	Oldest time.Time `json:"oldest"` // line that it still has
	At     time.Time `json:"at"`     // about when it is lost
}

// priceOf adds up the entries of a dry run. rates are bytes a second by system, as measured while looking.
func priceOf(entries []round.Entry, rates map[string]float64, now time.Time) Price {
	p := Price{Items: []ItemPrice{}}
	at := map[string]int{}
	bySystem := map[string]float64{}
	for _, e := range entries {
		if e.Price == nil {
			continue
		}
		i, ok := at[e.Item]
		if !ok {
			i = len(p.Items)
			at[e.Item] = i
			p.Items = append(p.Items, ItemPrice{Item: e.Item})
		}
		x := &p.Items[i]
		x.Bytes += e.Price.Bytes
		x.HourMore += e.Price.HourMore
		p.Bytes += e.Price.Bytes
		p.HourMore += e.Price.HourMore
		if rate := rates[e.System]; rate > 0 {
			sec := float64(e.Price.Bytes) / rate
			bySystem[e.System] += sec
			x.Took += time.Duration(sec * float64(time.Second))
		}
	}
	for _, sec := range bySystem { // systems are taken side by side
		p.Took = max(p.Took, time.Duration(sec*float64(time.Second)))
	}
	sort.SliceStable(p.Items, func(i, j int) bool { return p.Items[i].Bytes > p.Items[j].Bytes })
	p.Loses = soonestLost(entries, now)
	return p
}

// soonestLost finds the rotated set that will lose its oldest member next: by the distance of its rotations so far, and
// the time since the last.
func soonestLost(entries []round.Entry, now time.Time) *Loss {
	type member struct {
		first   time.Time
		current bool
	}
	sets := map[[2]string][]member{}
	for _, e := range entries {
		if e.First.IsZero() || e.Command != nil {
			continue
		}
		place := logset.PlaceOf(e.Source)
		k := [2]string{e.System, place.Set}
		sets[k] = append(sets[k], member{e.First, place.Current})
	}
	var best *Loss
	for k, members := range sets {
		if len(members) < 2 {
			continue
		}
		sort.Slice(members, func(i, j int) bool { return members[i].first.Before(members[j].first) })
		oldest, newest := members[0].first, members[len(members)-1]
		if !newest.current {
			continue
		}
		every := newest.first.Sub(oldest) / time.Duration(len(members)-1)
		next := newest.first.Add(every)
		if next.Before(now.Add(-every)) {
			continue // it has stood still for long
		}
		if next.Before(now) {
			next = now
		}
		if l := (Loss{System: k[0], Set: k[1], Oldest: oldest, At: next}); best == nil || l.At.Before(best.At) ||
			l.At.Equal(best.At) && l.System+l.Set < best.System+best.Set {
			best = &l
		}
	}
	return best
}

// MarshalJSON writes a price with its time in seconds.
func (p Price) MarshalJSON() ([]byte, error) {
	type plain Price
	return json.Marshal(struct {
		plain
		About float64 `json:"about_seconds"`
	}{plain(p), p.Took.Seconds()})
}

// MarshalJSON writes the share of an item with its time in seconds.
func (p ItemPrice) MarshalJSON() ([]byte, error) {
	type plain ItemPrice
	return json.Marshal(struct {
		plain
		About float64 `json:"about_seconds"`
	}{plain(p), p.Took.Seconds()})
}
