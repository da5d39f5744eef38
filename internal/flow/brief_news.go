package flow

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/round"
	"envask/internal/submit"
)

// answerSums gives a checksum of each answer of a case's write-up: what an archive said, without saying it in the ledger.
func answerSums(c *casefile.Case) map[string]string {
	sums := map[string]string{}
	add := func(id, text string) {
		if text != "" {
			sum := sha256.Sum256([]byte(text))
			sums[id] = hex.EncodeToString(sum[:8])
		}
	}
	add(brief.Title, c.Title)
	for id, text := range c.Brief {
		add(id, text)
	}
	return sums
}

// briefNews says what an archive of some rounds tells that the archive which was sent last did not: its rounds that were in none that was
// sent, and the answers that are other ones. "" is nothing, or that nothing was sent yet. An archive that was sent and is just the same as
// this one is passed over, so that packing again gives the same bytes.
func briefNews(c *casefile.Case, rounds []*round.Round) (string, error) {
	var ids []string
	for _, r := range rounds {
		ids = append(ids, r.ID)
	}
	packed := map[string]packedRecord{} // by SHA-256
	var sent []submit.Receipt
	err := c.ReadLedger(func(r casefile.Record) error {
		switch r.Kind {
		case kindPacked:
			var rec packedRecord
			err := json.Unmarshal(r.Data, &rec)
			packed[rec.SHA256] = rec
			return err
		case kindSubmitted:
			var rec submit.Receipt
			err := json.Unmarshal(r.Data, &rec)
			if !rec.Handed {
				sent = append(sent, rec)
			}
			return err
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	now := answerSums(c)
	var last *submit.Receipt
	var before packedRecord
	had := map[string]bool{}
	for i := range sent {
		_, sum := sent[i].Plain()
		rec, known := packed[sum]
		its := strings.Split(rec.Round, ",")
		if !known || slices.Equal(its, ids) && maps.Equal(rec.Answers, now) {
			continue
		}
		last, before = &sent[i], rec
		for _, r := range its {
			had[r] = true
		}
	}
	if last == nil {
		return "", nil
	}
	return news(c, last, before, now, slices.DeleteFunc(ids, func(id string) bool { return had[id] })), nil
}

func news(c *casefile.Case, last *submit.Receipt, before packedRecord, now map[string]string, rounds []string) string {
	var said, fields []string
	if len(rounds) > 0 {
		said = append(said, "the evidence of round "+strings.Join(rounds, ", "))
	}
	if before.Answers != nil { // older versions did not keep them
		for _, id := range slices.Sorted(maps.Keys(now)) {
			if now[id] != before.Answers[id] {
				fields = append(fields, id)
			}
		}
	}
	if len(fields) > 0 {
		said = append(said, "in the write-up "+strings.Join(fields, ", "))
	}
	if len(said) == 0 {
		return ""
	}
	zone := c.Window.Zone
	if zone == nil {
		zone = time.UTC
	}
	return fmt.Sprintf("New since %s was sent (%s): %s", last.Name, last.Finished.In(zone).Format("2006-01-02 15:04"),
		strings.Join(said, "; "))
}
