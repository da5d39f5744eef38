package flow

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/submit"
	"envask/internal/undo"
)

// Deed is one thing that was done in a case, as the ledger has it.
type Deed struct {
	Record int       `json:"record"`
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"`
	Who    string    `json:"who,omitempty"`
	What   string    `json:"what"`
	Proof  string    `json:"proof,omitempty"` // what vouches for it: checksums, a receipt
	Prev   string    `json:"prev_sha256"`     // of the record before it
}

// History is the story of a case: who had which bytes when.
type History struct {
	Case    string        `json:"case"`
	Title   string        `json:"title"`
	Deeds   []Deed        `json:"deeds"`
	Records int           `json:"records"`          // of which the chain holds
	Damage  *LedgerDamage `json:"damage,omitempty"` // what follows it is not told
}

// ledgerData is what a record tells: it is read as it is, since records of older versions may lack what newer ones have.
type ledgerData map[string]any

func (r ledgerData) text(key string) string {
	switch v := r[key].(type) {
	case string:
		return v
	case float64:
		return fmt.Sprint(int64(v))
	}
	return ""
}

func (r ledgerData) number(key string) int64 {
	v, _ := r[key].(float64) // none is 0
	return int64(v)
}

func (r ledgerData) has(key string) bool { return r.text(key) != "" }

// short is enough of a checksum to compare it.
func (r ledgerData) short(key string) string {
	s := r.text(key)
	if s == "" {
		return ""
	}
	return "SHA-256 " + s[:min(len(s), 16)] + "…"
}

// stories is the table of what each kind of record tells: what was done, and what vouches for it.
var stories = map[string]func(r ledgerData) (what, proof string){
	"case-begun": func(r ledgerData) (string, string) {
		return "opened the case " + r.text("name") + ", window " + r.text("window"), "ask " + r.short("ask_sha256")
	},
	"case-changed": func(r ledgerData) (string, string) {
		return "changed the case, window " + r.text("window"), "ask " + r.short("ask_sha256")
	},
	kindAskApproved:        func(r ledgerData) (string, string) { return "approved the ask", r.short("ask_sha256") },
	collect.KindRoundBegun: roundBegun("began to collect round "),
	"round-resumed":        roundBegun("resumed round "),
	collect.KindRoundFinished: func(r ledgerData) (string, string) {
		what := fmt.Sprintf("finished round %s: %d files, %s", r.text("round"), r.number("files"), sizeText(r.number("bytes")))
		if n := r.number("lacking"); n > 0 {
			what += fmt.Sprintf(", %d required %s lacking", n, plural(int(n), "item", "items"))
		}
		return what, "log of the evidence " + r.short("entries_sha256")
	},
	undo.KindMade: func(r ledgerData) (string, string) {
		if r.text("kind") == undo.KindCommand {
			return "changed " + r.text("where") + " for " + r.text("path"), "change " + r.text("id")
		}
		return "made " + r.text("kind") + " " + r.text("path") + " on " + r.text("where"), "change " + r.text("id")
	},
	undo.KindUndone: func(r ledgerData) (string, string) {
		if about, ok := strings.CutPrefix(r.text("of"), undo.KindCommand+" "); ok {
			return r.text("how") + ": " + about, "change " + r.text("id")
		}
		return "undid " + r.text("of") + ": " + r.text("how"), "change " + r.text("id")
	},
	kindBrought: func(r ledgerData) (string, string) {
		switch {
		case r["dropped"] == true:
			return "took back " + r.text("name") + " for " + r.text("item"), ""
		case r.has("link"):
			return "ledgerData where " + r.text("item") + " lies: " + r.text("link"), r.short("sha256")
		}
		return fmt.Sprintf("added %s for %s, %s (%s)", r.text("name"), r.text("item"), sizeText(r.number("size")), r.text("state")),
			r.short("sha256")
	},
	kindPacked: func(r ledgerData) (string, string) {
		return fmt.Sprintf("packed %s of %s: %d files, %s", r.text("archive"), r.text("round"), r.number("files"),
				sizeText(r.number("size"))),
			r.short("sha256")
	},
	kindSealed: func(r ledgerData) (string, string) {
		return "encrypted " + r.text("archive") + " as " + r.text("sealed"), r.short("sha256")
	},
	kindSplit: func(r ledgerData) (string, string) { return "cut " + r.text("name") + " into parts", r.short("sha256") },
	kindDecided: func(r ledgerData) (string, string) {
		return fmt.Sprintf("decided in a review: %d values go, %d stay", r.number("removed"), r.number("left")), ""
	},
	kindLooked: func(r ledgerData) (string, string) {
		return "looked at the picture " + r.text("file"), r.short("sha256")
	},
	kindApproved: func(r ledgerData) (string, string) {
		return "approved the archive " + r.text("archive"), r.short("sha256")
	},
	kindReply: func(r ledgerData) (string, string) {
		return "kept what the vendor sent back: " + r.text("name"), r.short("sha256")
	},
	kindExported: func(r ledgerData) (string, string) {
		return "exported the case for another machine" + withoutRawText(r), ""
	},
	kindImported: func(r ledgerData) (string, string) {
		return "imported the case, which " + r.text("from") + " exported on " + r.text("exported_at") + withoutRawText(r), ""
	},
	kindMarked: func(r ledgerData) (string, string) {
		if r["marked"] == true {
			return "said that the error is marked in " + r.text("name"), r.short("sha256")
		}
		return "said that the error is not marked in " + r.text("name"), r.short("sha256")
	},
	kindBrief: func(r ledgerData) (string, string) { return "wrote in the write-up: " + r.text("fields"), "" },
	kindDiscarded: func(r ledgerData) (string, string) {
		return fmt.Sprintf("removed %s %s: %d files, %s (%s)", r.text("what"), orElse(r.text("name"), r.text("round")), r.number("files"),
			sizeText(r.number("bytes")), r.text("why")), ""
	},
	casefile.KindRepaired: func(ledgerData) (string, string) {
		return "repaired the ledger; what came before the damage counts", ""
	},
}

func withoutRawText(r ledgerData) string {
	if r["raw"] == false {
		return ", without the evidence as taken"
	}
	return ""
}

func roundBegun(what string) func(ledgerData) (string, string) {
	return func(r ledgerData) (string, string) {
		text := what + r.text("round")
		if r.has("note") {
			text += " (" + r.text("note") + ")"
		}
		return text, "ask " + r.short("ask_sha256")
	}
}

// History tells the story of a case from its ledger, whose chain is checked on the way.
func (a *App) History(c *casefile.Case) (*History, error) {
	made := map[string]string{} // changes on systems, by id
	h := &History{Case: c.Name, Title: c.Title, Deeds: []Deed{}}
	err := c.ReadLedger(func(r casefile.Record) error {
		h.Records++
		d := Deed{Record: r.Seq, At: r.At, Kind: r.Kind, Prev: r.Prev}
		if r.Kind == kindSubmitted {
			var rec submit.Receipt
			if err := json.Unmarshal(r.Data, &rec); err != nil {
				return err
			}
			d.Who, d.What, d.Proof = rec.By, sentText(&rec), rec.Proof
		} else {
			data := ledgerData{}
			if len(r.Data) > 0 {
				if err := json.Unmarshal(r.Data, &data); err != nil {
					return err
				}
			}
			d.Who = data.text("by")
			switch r.Kind {
			case undo.KindMade:
				made[data.text("id")] = data.text("kind") + " " + data.text("path") + " on " + data.text("where")
			case undo.KindUndone:
				data["of"] = made[data.text("id")]
			}
			if tell := stories[r.Kind]; tell != nil {
				d.What, d.Proof = tell(data)
			} else {
				d.What = r.Kind
			}
			d.Proof = strings.TrimSuffix(d.Proof, "ask ")
		}
		h.Deeds = append(h.Deeds, d)
		return nil
	})
	var chain *casefile.ChainError
	if errors.As(err, &chain) {
		h.Damage, err = &LedgerDamage{chain.Line, chain.Why}, nil
	}
	return h, fault.Wrap("read the ledger", c.Name, err)
}

func sentText(r *submit.Receipt) string {
	what := "sent "
	switch {
	case r.ByHand != "":
		what = "handed over by hand (" + r.ByHand + ") "
	case r.Handed:
		what = "prepared for a person to hand over "
	}
	what += fmt.Sprintf("%s, %s, over %s to %s", r.Name, sizeText(r.Size), r.Route, r.To)
	if r.Ticket != "" {
		what += ", ticket " + r.Ticket
	}
	return what
}
