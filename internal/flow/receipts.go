package flow

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"
	"golang.org/x/crypto/ssh"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/seal"
	"envask/internal/submit"
)

// A receipt that comes from elsewhere is a file like any other: it is held against the archive that was packed here and against the ask,
// and what it says of a proof is a person's word, unless a key of the engineer's has signed it.

// SignersFile is its name in the home: public SSH keys, one a line, whose receipts count as our own.
const SignersFile = "signers"

// receiptSignature is the signature of a receipt, beside it.
func receiptSignature(file string) string { return file + ".sig" }

// AddReceipt takes a receipt into the case, of an archive that was packed here and sent from elsewhere. added is false when
// the case has it already.
func (a *App) AddReceipt(c *casefile.Case, file string) (rec *submit.Receipt, added bool, err error) {
	refuse := func(why, hint string) (*submit.Receipt, bool, error) {
		return nil, false, fault.New(fault.Usage, "add", file, why, hint)
	}
	data, err := readSmall(file)
	if err != nil {
		return nil, false, fault.Wrap("add", file, err)
	}
	rec = &submit.Receipt{}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(rec); err != nil || rec.Route == "" || rec.SHA256 == "" || rec.Finished.IsZero() {
		return refuse("this is not an Envask receipt", "a receipt is named ARCHIVE.receipt-ROUTE.json")
	}
	if rec.Case != c.Number {
		return refuse(fmt.Sprintf("it is of case %q, not of %s", rec.Case, c.Number), "choose the case with --case")
	}
	k, err := a.approvedAsk(c)
	if err != nil {
		return nil, false, err
	}
	if why := a.impossible(k, rec); why != "" {
		return refuse(why, "bring the receipt as envask submit wrote it")
	}
	w, err := a.write(c)
	if err != nil {
		return nil, false, err
	}
	defer w.Close()
	why, err := contradiction(c, rec)
	if err != nil {
		return nil, false, fault.Wrap("read the ledger", c.Name, err)
	}
	if why != "" {
		return refuse(why, "")
	}
	had, err := receiptsOf(c)
	if err != nil {
		return nil, false, fault.Wrap("read the ledger", c.Name, err)
	}
	for _, h := range had {
		if h.Route == rec.Route && h.SHA256 == rec.SHA256 && h.Finished.Equal(rec.Finished) {
			return rec, false, nil
		}
	}
	if err := a.judge(file, data, rec); err != nil {
		return nil, false, err
	}
	rec.Brought = a.Who + ", " + a.Now().UTC().Format(time.RFC3339)
	return rec, true, fault.Wrap("add", file, a.keepReceipt(w, rec))
}

// LooksLikeReceipt reports whether a file is a receipt, as far as its content tells.
func LooksLikeReceipt(file string) bool {
	data, err := readSmall(file)
	if err != nil {
		return false
	}
	var rec submit.Receipt
	return json.Unmarshal(data, &rec) == nil && rec.Route != "" && rec.SHA256 != "" && !rec.Finished.IsZero()
}

// AsksPersons reports whether the ask of a case wants something that persons bring.
func (a *App) AsksPersons(c *casefile.Case) bool {
	k, err := LoadAsk(c.Ask)
	return err == nil && len(k.Persons()) > 0
}

// maxReceiptText bounds each text of a receipt, in bytes.
const maxReceiptText = 2000

// clockSlack is by how much the clocks of two of our machines may differ.
const clockSlack = 15 * time.Minute

// impossible says what no receipt of ours says; "" is nothing.
func (a *App) impossible(k *ask.Ask, rec *submit.Receipt) string {
	route, err := chooseRoute(k, rec.Route)
	switch {
	case err != nil || casefile.CheckName(rec.Route) != nil:
		return fmt.Sprintf("the ask has no route %s", clipped(rec.Route))
	case route.To != rec.To:
		return fmt.Sprintf("the route %s leads elsewhere in the ask", rec.Route)
	case rec.ByHand != "": // it would free evidence by its word
		return "a person's word is written down where that person works (envask submit --by-hand)"
	case len(rec.Parts) > archive.MaxParts+1:
		return "it has more parts than an archive can have"
	}
	for i, r := range append([]submit.Receipt{*rec}, rec.Parts...) {
		names, sums := []string{r.Name}, []string{r.SHA256}
		if r.Of != "" || r.OfSHA256 != "" {
			names, sums = append(names, r.Of), append(sums, r.OfSHA256)
		}
		if err := plainFacts(names, sums, []int64{r.Size, r.Resumed, int64(r.Tries)}); err != nil {
			return err.Error()
		}
		if i > 0 && (len(r.Parts) > 0 || r.ByHand != "") {
			return "a part of it has parts, or is a person's word"
		}
		for _, text := range []string{r.Path, r.Server, r.Cover, r.Answer, r.Proof, r.By, r.Brought, r.Ask, r.Ledger, r.Word, r.Ticket} {
			if len(text) > maxReceiptText {
				return fmt.Sprintf("one of its texts has %d bytes", len(text))
			}
		}
		if r.Finished.Before(r.Started) || r.Finished.After(a.Now().Add(clockSlack)) {
			return fmt.Sprintf("it says that it was sent at %s", r.Finished.Format(time.RFC3339))
		}
	}
	return ""
}

// contradiction says where a receipt is not of what was packed in the case; "" is nowhere.
func contradiction(c *casefile.Case, rec *submit.Receipt) (why string, err error) {
	name, sum := rec.Plain()
	var packed *packedRecord
	var at time.Time
	var sealed *sealedRecord
	err = c.ReadLedger(func(r casefile.Record) error {
		var p packedRecord
		var s sealedRecord
		switch r.Kind {
		case kindPacked:
			if err := json.Unmarshal(r.Data, &p); err != nil {
				return err
			}
			if p.SHA256 == sum && packed == nil {
				packed, at = &p, r.At
			}
		case kindSealed:
			if err := json.Unmarshal(r.Data, &s); err != nil {
				return err
			}
			if s.SHA256 == rec.SHA256 {
				sealed = &s
			}
		}
		return nil
	})
	switch {
	case err != nil:
		return "", err
	case packed == nil:
		return "no archive with the SHA-256 " + sum[:12] + "… was packed in this case", nil
	case packed.Archive != name:
		return fmt.Sprintf("the archive with that SHA-256 is called %s here", packed.Archive), nil
	case rec.Finished.Before(at.Add(-clockSlack)):
		return "it says that the archive was sent before it was packed", nil
	case rec.Of == "" && rec.Size != packed.Size:
		return fmt.Sprintf("it says %d bytes, and the archive has %d", rec.Size, packed.Size), nil
	case rec.Of != "" && (sealed == nil || sealed.Size != rec.Size || sealed.Sealed != rec.Name || sealed.OfSHA256 != sum):
		return "this case did not encrypt what it is of", nil
	case (len(packed.Encrypt) > 0 || packed.Passphrase) && rec.Of == "":
		return "it says that the archive was sent without its encryption", nil
	}
	return partsContradict(c, rec)
}

// partsContradict holds the parts of a receipt against how the archive was split.
func partsContradict(c *casefile.Case, rec *submit.Receipt) (string, error) {
	if len(rec.Parts) == 0 {
		return "", nil
	}
	split, err := splitOf(c, rec.SHA256)
	if err != nil {
		return "", err
	}
	if split == nil {
		return "the archive was not split here", nil
	}
	for _, p := range split.Parts {
		if !slices.ContainsFunc(rec.Parts, func(r submit.Receipt) bool {
			return r.Name == p.Name &&
				r.Size == p.Size && r.SHA256 == p.SHA256
		}) {
			return fmt.Sprintf("the part %s is not in it, or is another", p.Name), nil
		}
	}
	return "", nil
}

// judge decides what the receipt's word on its proof is worth.
func (a *App) judge(file string, data []byte, rec *submit.Receipt) error {
	signer, err := a.signerOf(file, data)
	if err != nil {
		return fault.Wrap("add", file, err)
	}
	rec.Word = ""
	if signer != "" {
		rec.Word = "signed by " + signer
		return nil
	}
	if rec.Proved {
		rec.Word = "the receipt says that the checksum agreed; nobody signed it, so this is its word only. envask submit --confirm asks " +
			"the other side"
	}
	rec.Proved = false
	for i := range rec.Parts {
		rec.Parts[i].Proved = false
	}
	return nil
}

// signerOf gives the key of the engineer's that signed a receipt, or "". A signature that does not hold is an error: somebody changed
// the one or the other.
func (a *App) signerOf(file string, data []byte) (string, error) {
	text, err := readSmall(receiptSignature(file))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	by, err := seal.CheckSignature(string(text), data)
	if err != nil {
		return "", fmt.Errorf("%s: %w", filepath.Base(receiptSignature(file)), err)
	}
	list, err := os.ReadFile(filepath.Join(a.Home.Dir, SignersFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	for lines := bufio.NewScanner(bytes.NewReader(list)); lines.Scan(); {
		key, _, _, _, err := ssh.ParseAuthorizedKey(lines.Bytes())
		if err == nil && seal.Signer(key) == by {
			print, _, _ := strings.Cut(by, " ")
			return print, nil
		}
	}
	a.note("the receipt is signed by %s, which is not among your keys in %s", by, filepath.Join(a.Home.Dir, SignersFile))
	return "", nil
}
