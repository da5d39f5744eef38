package flow

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
)

// What an ask says counts only as it was approved. A case keeps a copy of every version that was approved in it, named by its
// SHA-256, and its ledger says which: whoever changes the ask file changes nothing before the engineer has seen it.

func askCopy(c *casefile.Case, digest string) string {
	return filepath.Join(c.Dir, "asks", digest+".yaml")
}

// keepApproved keeps the copy of an approved ask in the case, and writes down that the case works by it.
func (a *App) keepApproved(w *casefile.Writer, k *ask.Ask) error {
	last, err := lastApproved(w.Case)
	if err != nil {
		return err
	}
	if sum, err := durable.FileSum(context.Background(), askCopy(w.Case, k.Digest)); err != nil || sum != k.Digest {
		if err := durable.WriteFile(askCopy(w.Case, k.Digest), k.Data, 0o600); err != nil {
			return fault.Wrap("keep the ask in the case", w.Name, err)
		}
	}
	if last == k.Digest {
		return nil
	}
	return w.Ledger.Append(kindAskApproved, askApproved{k.Digest, a.Who})
}

// lastApproved gives the SHA-256 of the ask that a case works by, or "".
func lastApproved(c *casefile.Case) (digest string, err error) {
	err = c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindAskApproved {
			return nil
		}
		var rec askApproved
		if err := json.Unmarshal(r.Data, &rec); err != nil {
			return err
		}
		digest = rec.Ask
		return nil
	})
	return digest, err
}

// approvedAsk gives the ask of a case for a command that runs nothing and sends nothing: the file, if it is approved, else the
// version that was approved in the case, from the copy that the case keeps. Without either it is refused.
func (a *App) approvedAsk(c *casefile.Case) (*ask.Ask, error) {
	k, fileErr := LoadAsk(c.Ask)
	if fileErr == nil {
		if _, ok, err := (ask.Approvals{Dir: a.Home.ApprovalsDir()}).Get(k); err != nil {
			return nil, fault.Wrap("read the approvals", "", err)
		} else if ok {
			return k, nil
		}
	}
	digest, err := lastApproved(c)
	if err != nil {
		return nil, fault.Wrap("read the ledger", c.Name, err)
	}
	if digest == "" {
		if fileErr != nil {
			return nil, fileErr
		}
		return nil, a.unapproved(k, Sheet{Ask: k})
	}
	kept, err := readCopy(c, digest)
	if err != nil {
		return nil, err
	}
	if fileErr != nil {
		a.note("the ask %s cannot be used; the version that was approved in this case counts (SHA-256 %s…)", c.Ask, digest[:ask.MinDigest])
	} else {
		a.note("the ask %s was changed and is not approved; the version that was approved in this case counts (SHA-256 %s…). Approve "+
			"the new one with: envask ask approve %s", c.Ask, digest[:ask.MinDigest], c.Ask)
	}
	return kept, nil
}

// readCopy reads the copy of an approved ask.
func readCopy(c *casefile.Case, digest string) (*ask.Ask, error) {
	data, err := readSmall(askCopy(c, digest))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Refused, "read the ask", c.Ask,
			"it is not approved, and the copy of the approved one is gone from the case", "envask ask approve "+c.Ask)
	}
	if err != nil {
		return nil, fault.Wrap("read the ask", "", err)
	}
	k, err := ask.Parse(c.Ask, data)
	if err != nil {
		return nil, inputFile("ask", c.Ask, err)
	}
	if k.Digest != digest {
		return nil, fault.New(fault.Refused, "read the ask", askCopy(c, digest), "it is not the version that was approved",
			"envask ask approve "+c.Ask)
	}
	return k, nil
}
