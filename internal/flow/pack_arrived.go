package flow

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/cespare/xxhash/v2"
	"github.com/go-json-experiment/json"

	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/spill"
)

// arrivedPiece is what of a piece matters for what was learned from it on arrival. A round can have a million of them, so that names
// are hashes with a random key.
type arrivedPiece struct {
	place uint64 // round, system and name
	sum   uint64 // of its SHA-256
	as    pieceAs

	learned bool
	check   uint64 // see arrived
}

type pieceAs uint8

const (
	goesAlong pieceAs = iota
	staysBehind
	staysAsIs
)

// arrivedPieces are the pieces of a run, sorted by place.
type arrivedPieces struct {
	seed maphash.Seed
	list []arrivedPiece
}

func (a *arrivedPieces) place(round, system, name string) uint64 {
	return maphash.String(a.seed, round+"\x00"+system+"\x00"+name)
}

func (a *arrivedPieces) at(place uint64) *arrivedPiece {
	i, ok := slices.BinarySearchFunc(a.list, place, func(x arrivedPiece, place uint64) int { return cmp.Compare(x.place, place) })
	if !ok {
		return nil
	}
	return &a.list[i]
}

func (a *arrivedPieces) of(x *piece) *arrivedPiece {
	return a.at(a.place(x.Round, x.Entry.System, x.Entry.Name))
}

// has reports whether a piece was learned from when it arrived.
func (a *arrivedPieces) has(x *piece) bool {
	got := a.of(x)
	return got != nil && got.learned
}

// take notes in a piece what is known of it from when it arrived, if that is so.
func (a *arrivedPieces) take(x *piece) bool {
	if !a.has(x) {
		return false
	}
	x.Learned, x.Form, x.Check = true, redact.Plain, fmt.Sprintf("%016x", a.of(x).check)
	return true
}

// fromArrival takes what was learned on arrival, as far as it still holds. A torn or foreign line is left out: that file is
// learned from again.
func (v *evidence) fromArrival(ctx context.Context) (*arrivedPieces, error) {
	a := &arrivedPieces{seed: maphash.MakeSeed(), list: make([]arrivedPiece, 0, v.pieces.Len()+v.behind.Len())}
	for _, list := range []*spill.List[piece]{v.pieces, v.behind} {
		err := list.Each(func(x *piece) error {
			got := arrivedPiece{place: a.place(x.Round, x.Entry.System, x.Entry.Name), sum: maphash.String(a.seed, x.Entry.SHA256)}
			switch {
			case x.AsIs:
				got.as = staysAsIs
			case list == v.behind:
				got.as = staysBehind
			}
			a.list = append(a.list, got)
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	slices.SortFunc(a.list, func(x, y arrivedPiece) int { return cmp.Compare(x.place, y.place) })
	for _, r := range v.sel.rounds {
		if err := v.fromArrivalOf(ctx, r, a); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// arrivedLine is one line of what was learned on arrival.
type arrivedLine struct {
	text  []byte
	place uint64
	check uint64
	holds bool
}

// fromArrivalOf goes through the lines of a round. A line says what no line before it says, so it holds only if all of those do.
func (v *evidence) fromArrivalOf(ctx context.Context, r *round.Round, a *arrivedPieces) error {
	lines, err := openArrived(r)
	if err != nil {
		return err
	}
	defer lines.Close()
	digest := v.rules.policy.Digest()
	next := func() (*arrivedLine, error) {
		text, err := lines.next()
		return &arrivedLine{text: text}, err
	}
	err = inOrder(ctx, next, func(_ context.Context, l *arrivedLine) error {
		got := &arrived{}
		if json.Unmarshal(l.text, got) != nil {
			return nil
		}
		l.place = a.place(r.ID, got.System, got.Name)
		x := a.at(l.place)
		if l.check, err = strconv.ParseUint(got.Check, 16, 64); err != nil || got.Rules != digest || got.Form != redact.Plain ||
			x != nil && (x.as == staysAsIs || x.sum != maphash.String(a.seed, got.SHA256)) {
			return nil
		}
		l.holds = takePlaces(r, got, x == nil || x.as == staysBehind, v.rules.learned)
		return nil
	}, func(l *arrivedLine) error {
		if !l.holds {
			return errNotHeld
		}
		if x := a.at(l.place); x != nil {
			x.check, x.learned = l.check, true
		}
		return nil
	})
	if errors.Is(err, errNotHeld) {
		return nil
	}
	return err
}

// errNotHeld ends going through lines: what comes behind one that does not hold is not known.
var errNotHeld = errors.New("a line does not hold")

// takePlaces learns the values at their places, if all of them are there. Where nobody reads the file any more that is to be the same
// still, that is made sure here.
func takePlaces(r *round.Round, got *arrived, mustBeSame bool, learned *redact.Learned) bool {
	name := filepath.FromSlash(got.System + "/" + got.Name)
	if !filepath.IsLocal(name) {
		return false
	}
	f, err := os.Open(filepath.Join(r.RawDir(), name))
	if err != nil {
		return false
	}
	defer f.Close()
	if mustBeSame {
		check := xxhash.New()
		if _, err := io.Copy(check, f); err != nil || hex.EncodeToString(check.Sum(nil)) != got.Check {
			return false
		}
	}
	values, err := got.values(f)
	if err != nil || slices.ContainsFunc(values, func(v redact.Value) bool { return !v.Possible() }) {
		return false // other bytes stand there than those that were learned from
	}
	learned.Add(values...)
	return true
}
