package casefile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// head is the number and hash of the last record of a ledger, kept in a file beside it: the chain alone does not show that its
// last line was changed or is gone. It is written after the record, so that a crash between the two leaves a head that is one
// record behind. The file has one size, and is overwritten in place: on a full disk, too.
type head struct {
	seq  int // 0 is none
	hash string
}

const headForm = "%020d %64s\n"

func headFile(ledger string) string { return filepath.Join(filepath.Dir(ledger), "ledger.head") }

// readHead reads the head of a ledger; one that is not there, as in cases of earlier versions, says nothing.
func readHead(ledger string) (head, error) {
	f, err := os.Open(headFile(ledger))
	if errors.Is(err, fs.ErrNotExist) {
		return head{}, nil
	}
	if err != nil {
		return head{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() == 0 { // made, and nothing written yet
		return head{}, err
	}
	var h head
	if _, err := fmt.Fscanf(f, headForm, &h.seq, &h.hash); err != nil || h.seq < 1 || len(h.hash) != len(noHash) {
		return head{}, &ChainError{headFile(ledger), 1, "does not name the last record"}
	}
	return h, nil
}

// check says whether a chain goes at least as far as its head.
func (h head) check(ledger string, c chain) error {
	if c.seq < h.seq {
		return &ChainError{ledger, c.seq + 1, fmt.Sprintf("is not there; %d records were written", h.seq)}
	}
	return nil
}

func openHead(ledger string) (*os.File, error) {
	return os.OpenFile(headFile(ledger), os.O_CREATE|os.O_RDWR, 0o600)
}

func (h head) write(f *os.File) error {
	if _, err := f.WriteAt(fmt.Appendf(nil, headForm, h.seq, h.hash), 0); err != nil {
		return fmt.Errorf("write the ledger's head: %w", err)
	}
	if err := f.Sync(); err != nil {
		return fmt.Errorf("flush the ledger's head: %w", err)
	}
	return nil
}
