package round

import (
	"time"

	"github.com/go-json-experiment/json/v1"
)

// Durations are in seconds in JSON, and their keys say so. What versions before wrote, in nanoseconds under keys without a unit, is read,
// too.

// seconds is a duration in JSON.
type seconds time.Duration

// MarshalJSON writes seconds with their fraction.
func (s seconds) MarshalJSON() ([]byte, error) { return json.Marshal(time.Duration(s).Seconds()) }

// UnmarshalJSON reads them.
func (s *seconds) UnmarshalJSON(b []byte) error {
	var f float64
	if err := json.Unmarshal(b, &f); err != nil {
		return err
	}
	*s = seconds(time.Duration(f * float64(time.Second)).Round(time.Microsecond))
	return nil
}

// either gives the duration that is there: in seconds, or as it was written before.
func either(s *seconds, old *int64) time.Duration {
	switch {
	case s != nil:
		return time.Duration(*s)
	case old != nil:
		return time.Duration(*old)
	}
	return 0
}

type plainClock Clock

type clockJSON struct {
	*plainClock
	Offset         *seconds `json:"offset_seconds"`
	Uncertainty    *seconds `json:"uncertainty_seconds"`
	OldOffset      *int64   `json:"offset,omitempty"`
	OldUncertainty *int64   `json:"uncertainty,omitempty"`
}

// MarshalJSON writes a clock.
func (c Clock) MarshalJSON() ([]byte, error) {
	return json.Marshal(clockJSON{plainClock: (*plainClock)(&c), Offset: (*seconds)(&c.Offset), Uncertainty: (*seconds)(&c.Uncertainty)})
}

// UnmarshalJSON reads one.
func (c *Clock) UnmarshalJSON(b []byte) error {
	j := clockJSON{plainClock: (*plainClock)(c)}
	err := json.Unmarshal(b, &j)
	c.Offset, c.Uncertainty = either(j.Offset, j.OldOffset), either(j.Uncertainty, j.OldUncertainty)
	return err
}

type plainCell Cell

type cellJSON struct {
	*plainCell
	Took *seconds `json:"took_seconds,omitempty"`
	Old  *int64   `json:"took,omitempty"`
}

// MarshalJSON writes a cell.
func (c Cell) MarshalJSON() ([]byte, error) {
	j := cellJSON{plainCell: (*plainCell)(&c)}
	if c.Took != 0 {
		j.Took = (*seconds)(&c.Took)
	}
	return json.Marshal(j)
}

// UnmarshalJSON reads one.
func (c *Cell) UnmarshalJSON(b []byte) error {
	j := cellJSON{plainCell: (*plainCell)(c)}
	err := json.Unmarshal(b, &j)
	c.Took = either(j.Took, j.Old)
	return err
}

type plainRan Ran

type ranJSON struct {
	*plainRan
	Took *seconds `json:"took_seconds"`
	Old  *int64   `json:"took,omitempty"`
}

// MarshalJSON writes how a command went.
func (r Ran) MarshalJSON() ([]byte, error) {
	return json.Marshal(ranJSON{plainRan: (*plainRan)(&r), Took: (*seconds)(&r.Took)})
}

// UnmarshalJSON reads it.
func (r *Ran) UnmarshalJSON(b []byte) error {
	j := ranJSON{plainRan: (*plainRan)(r)}
	err := json.Unmarshal(b, &j)
	r.Took = either(j.Took, j.Old)
	return err
}

type plainRound Round

type roundJSON struct {
	*plainRound
	Context *seconds `json:"context_seconds,omitempty"`
	Old     *int64   `json:"context,omitempty"`
}

// MarshalJSON writes a round.
func (r *Round) MarshalJSON() ([]byte, error) {
	j := roundJSON{plainRound: (*plainRound)(r)}
	if r.Context != 0 {
		j.Context = (*seconds)(&r.Context)
	}
	return json.Marshal(j)
}

// UnmarshalJSON reads one.
func (r *Round) UnmarshalJSON(b []byte) error {
	j := roundJSON{plainRound: (*plainRound)(r)}
	err := json.Unmarshal(b, &j)
	r.Context = either(j.Context, j.Old)
	return err
}
