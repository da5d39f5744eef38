package flow

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/submit"
	"envask/internal/undo"
)

// CaseView is one case in detail.
type CaseView struct {
	Name     string           `json:"name"`
	Number   string           `json:"number,omitempty"`
	Title    string           `json:"title,omitempty"`
	Vendor   string           `json:"vendor"`
	Site     string           `json:"site"`
	Window   string           `json:"window"`
	Opened   time.Time        `json:"opened"`
	State    State            `json:"state"`
	Bytes    int64            `json:"bytes"` // of all rounds, as taken
	Folder   string           `json:"folder"`
	Ask      string           `json:"ask"`
	Systems  string           `json:"systems"`
	Rounds   []RoundView      `json:"rounds"`
	Archives []ArchiveView    `json:"archives"`
	Receipts []submit.Receipt `json:"receipts"`
	// what the ask requires and no round has, as "item on system: state (reason)"
	Lacking  []string      `json:"lacking"`
	Pending  []undo.Change `json:"pending"`                   // made on systems and not undone yet
	Records  int           `json:"ledger_records"`            // that can be trusted
	Damage   *LedgerDamage `json:"ledger_damage,omitempty"`   // of the ledger; what stands here is of the records before it
	Repaired int           `json:"ledger_repaired,omitempty"` // how often a damaged ledger was gone on with
}

// LedgerDamage says from where on a ledger cannot be trusted.
type LedgerDamage struct {
	Record int    `json:"record"` // the first one, from 1
	Why    string `json:"why"`
}

// RoundView is one round in a line.
type RoundView struct {
	ID       string    `json:"id"`
	Note     string    `json:"note,omitempty"`
	Started  time.Time `json:"started"`
	Ended    time.Time `json:"ended,omitzero"`
	Depth    string    `json:"depth"`
	Window   string    `json:"window"`
	Files    int       `json:"files"`
	Bytes    int64     `json:"bytes"`
	Lacking  int       `json:"lacking"`
	Finished bool      `json:"finished"`
	Open     bool      `json:"open,omitempty"` // left open for further passes
	Baseline bool      `json:"baseline,omitempty"`
	Sent     string    `json:"sent,omitempty"` // over which routes its archives went
	Tidied   time.Time `json:"raw_removed,omitzero"`
	Thinned  time.Time `json:"sent_raw_removed,omitzero"` // when the part of it that was sent was removed
}

// ArchiveView is one archive in a line.
type ArchiveView struct {
	Name    string    `json:"name"`
	Round   string    `json:"round"` // or rounds: r1,r2
	Since   string    `json:"new_since,omitempty"`
	Size    int64     `json:"size"`
	SHA256  string    `json:"sha256"`
	Files   int       `json:"files"`
	Lacking int       `json:"lacking"`
	Packed  time.Time `json:"packed"`
}

// ShowCase gives a case in detail. Reading the ledger checks its chain; of a damaged one it gives what stands before the damage.
func (a *App) ShowCase(c *casefile.Case) (*CaseView, error) {
	v := &CaseView{Name: c.Name, Number: c.Number, Title: c.Title, Vendor: c.Vendor, Site: c.Site,
		Window: c.Window.String(), Opened: c.Opened,
		Folder: c.Dir, Ask: c.Ask, Systems: c.Systems, Rounds: []RoundView{}, Archives: []ArchiveView{}, Lacking: []string{},
		Receipts: []submit.Receipt{}, Pending: []undo.Change{}}
	rounds, err := round.List(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	for _, r := range rounds {
		v.Rounds = append(v.Rounds, NewRoundView(r))
	}
	err = c.ReadLedger(func(r casefile.Record) error {
		v.Records++
		return v.addRecord(r)
	})
	var chain *casefile.ChainError
	if errors.As(err, &chain) {
		v.Damage, err = &LedgerDamage{chain.Line, chain.Why}, nil
	}
	if err != nil {
		return nil, fault.Wrap("read the ledger", c.Name, err)
	}
	for i := range v.Rounds {
		r := &v.Rounds[i]
		v.Bytes += r.Bytes
		r.Sent = v.routesOf(r.ID)
	}
	v.State = v.state()
	if err := v.lacks(rounds); err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	pending, err := undo.Pending(c)
	if v.Damage != nil {
		err = nil
	}
	v.Pending = append(v.Pending, pending...)
	return v, fault.Wrap("read the ledger", c.Name, err)
}

// lacks finds what no round of the case has, of those that count.
func (v *CaseView) lacks(rounds []*round.Round) error {
	together := roundsTogether(v, rounds)
	table := newestCells(together)
	for _, cell := range table {
		if cell.Lacking() {
			v.Lacking = append(v.Lacking, lackingText(cell))
		}
	}
	k, err := LoadAsk(v.Ask)
	if err != nil || len(k.Groups) == 0 {
		return nil //nolint:nilerr // what an ask demands that cannot be read is not known
	}
	groups, err := caseGroups(k, together, table)
	for _, g := range groups {
		for _, l := range g.Lacking {
			v.Lacking = append(v.Lacking, fmt.Sprintf("group %s: %s", g.Name, l))
		}
	}
	return err
}

// newestCells gives of every cell that of the newest round that has it, or else of the newest that says why not.
func newestCells(rounds []*round.Round) (out round.Coverage) {
	at := map[cellKey]int{}
	for _, r := range rounds {
		for _, cell := range r.Coverage {
			out = newer(out, at, cell)
		}
	}
	return out
}

// newer puts a cell of a newer round into a table, if that knows more; at is where each stands.
func newer(table round.Coverage, at map[cellKey]int, cell round.Cell) round.Coverage {
	k := cellKey{cell.System, cell.Item}
	if i, known := at[k]; !known {
		at[k] = len(table)
		return append(table, cell)
	} else if provided(cell) || !provided(table[i]) && !cell.NotChosen() {
		table[i] = cell
	}
	return table
}

func lackingText(cell round.Cell) string {
	return fmt.Sprintf("%s on %s: %s (%s)", cell.Item, orElse(cell.System, "any system"), cell.State, cell.Reason)
}

// routesOf names the routes over which archives of a round went.
func (v *CaseView) routesOf(id string) string {
	var names []string
	for i := range v.Receipts {
		_, sum := v.Receipts[i].Plain()
		holds := slices.ContainsFunc(v.Archives, func(x ArchiveView) bool {
			return x.SHA256 == sum && slices.Contains(strings.Split(x.Round, ","), id)
		})
		if holds && !v.Receipts[i].Handed && !slices.Contains(names, v.Receipts[i].Route) {
			names = append(names, v.Receipts[i].Route)
		}
	}
	return strings.Join(names, ", ")
}

func (v *CaseView) addRecord(r casefile.Record) error {
	switch r.Kind {
	case kindPacked:
		var p packedRecord
		if err := json.Unmarshal(r.Data, &p); err != nil {
			return err
		}
		for i := range v.Archives {
			if v.Archives[i].Name == p.Archive { // packed again
				v.Archives = append(v.Archives[:i], v.Archives[i+1:]...)
				break
			}
		}
		v.Archives = append(v.Archives, ArchiveView{p.Archive, p.Round, p.Since, p.Size, p.SHA256, p.Files, p.Lacking, r.At})
	case kindSubmitted:
		var s submit.Receipt
		if err := json.Unmarshal(r.Data, &s); err != nil {
			return err
		}
		v.Receipts = slices.DeleteFunc(v.Receipts, func(o submit.Receipt) bool { // what became known of it since
			return o.Route == s.Route && o.SHA256 == s.SHA256 && o.Finished.Equal(s.Finished)
		})
		v.Receipts = append(v.Receipts, s)
	case casefile.KindRepaired:
		v.Repaired++
	}
	return nil
}

// NewRoundView makes a line of a round.
func NewRoundView(r *round.Round) RoundView {
	files, bytes := r.Coverage.Totals()
	return RoundView{ID: r.ID, Note: r.Note, Started: r.Started, Ended: r.Ended, Depth: r.Depth, Window: r.InZone().String(),
		Files: files, Bytes: bytes,
		Lacking: len(r.Coverage.Lacking()), Finished: r.Finished(), Open: r.Open, Baseline: r.Baseline,
		Tidied: r.Discarded, Thinned: r.Thinned}
}

// ShowRound gives one round; the entries are those of the chosen systems and items (all when none is chosen).
func (a *App) ShowRound(c *casefile.Case, id string) (*round.Round, error) {
	r, err := round.Load(c, id)
	if err != nil {
		return nil, fault.New(fault.Usage, "show", id, "there is no such round in case "+c.Name, "envask show lists them")
	}
	return r, nil
}
