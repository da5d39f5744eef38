package round

import "envask/internal/reach"

// Place is by which way a system was reached in a round.
type Place struct {
	System string `json:"system"`
	reach.Served
}
