package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/submit"
)

// briefNews says what is new in a case since an archive of it was sent: the fields of the write-up that were changed, and the rounds
// that were begun. "" is nothing, or that nothing was sent yet. It is computed from the ledger, so it is the same each time.
func briefNews(c *casefile.Case) (string, error) {
	var sent *submit.Receipt
	var fields, rounds []string
	err := c.ReadLedger(func(r casefile.Record) error {
		switch r.Kind {
		case kindSubmitted:
			rec := new(submit.Receipt)
			if err := json.Unmarshal(r.Data, rec); err != nil {
				return err
			}
			if !rec.Handed {
				sent, fields, rounds = rec, nil, nil
			}
		case kindBrief:
			var rec briefRecord
			if err := json.Unmarshal(r.Data, &rec); err != nil {
				return err
			}
			for _, f := range strings.Split(rec.Fields, ", ") {
				if !slices.Contains(fields, f) {
					fields = append(fields, f)
				}
			}
		case collect.KindRoundBegun:
			var rec struct{ Round string }
			if err := json.Unmarshal(r.Data, &rec); err != nil {
				return err
			}
			rounds = append(rounds, rec.Round)
		}
		return nil
	})
	if err != nil || sent == nil || len(fields)+len(rounds) == 0 {
		return "", err
	}
	zone := c.Window.Zone
	if zone == nil {
		zone = time.UTC
	}
	text := fmt.Sprintf("New since %s was sent (%s): ", sent.Name, sent.Finished.In(zone).Format("2006-01-02 15:04"))
	var news []string
	if len(rounds) > 0 {
		news = append(news, "the evidence of round "+strings.Join(rounds, ", "))
	}
	if len(fields) > 0 {
		news = append(news, "in the write-up "+strings.Join(fields, ", "))
	}
	return text + strings.Join(news, "; "), nil
}
