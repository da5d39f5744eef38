package flow

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/fault"
)

// Reply is something that the vendor sent back: a text, a corrected configuration, a tool. It is kept beside the evidence, and never
// packed.
type Reply struct {
	Name   string    `json:"name"` // in the folder replies of the case
	SHA256 string    `json:"sha256"`
	Size   int64     `json:"size"` // bytes
	Note   string    `json:"note,omitempty"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Known  bool      `json:"-"` // it was there already
	Path   string    `json:"-"`
}

func repliesDir(c *casefile.Case) string { return filepath.Join(c.Dir, "replies") }

// AddReply keeps a file of the vendor's answer under the case. The same content is kept once.
func (a *App) AddReply(ctx context.Context, c *casefile.Case, file, note string) (*Reply, error) {
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	info, err := os.Stat(file)
	if err != nil {
		return nil, fault.Wrap("add --reply", file, transfer.PlainPath(err))
	}
	if !info.Mode().IsRegular() {
		return nil, fault.New(fault.Usage, "add --reply", file, transfer.ErrSpecial(info.Mode()).Error(), "give a file")
	}
	had, err := Replies(c)
	if err != nil {
		return nil, err
	}
	tmp, err := w.Temp()
	if err != nil {
		return nil, fault.Wrap("add --reply", file, err)
	}
	part := filepath.Join(tmp, "reply")
	got, err := transfer.File{FS: onDisk(file), Name: filepath.Base(file), Part: part + ".part", Final: part,
		Count: func(int64) {}}.Take(ctx)
	if err != nil {
		return nil, fault.Wrap("add --reply", file, transfer.PlainPath(err))
	}
	for _, r := range had {
		if r.SHA256 == got.SHA256 {
			r.Known = true
			return &r, nil
		}
	}
	want := collect.SafePath(filepath.Base(file))
	name := want
	for n := 2; slices.ContainsFunc(had, func(r Reply) bool { return strings.EqualFold(r.Name, name) }); n++ {
		name = fmt.Sprintf("%s%%~%d", want, n)
	}
	r := Reply{Name: name, SHA256: got.SHA256, Size: got.Bytes, Note: note, At: a.Now().UTC().Truncate(time.Second), By: a.Who,
		Path: filepath.Join(repliesDir(c), name)}
	if err := transfer.Place(part, r.Path, got.Modified); err != nil {
		return nil, fault.Wrap("add --reply", file, err)
	}
	return &r, fault.Wrap("write the ledger", c.Name, w.Ledger.Append(kindReply, r))
}

// Replies lists what the vendor sent back, the oldest first.
func Replies(c *casefile.Case) (out []Reply, err error) {
	err = c.ReadLedger(func(rec casefile.Record) error {
		if rec.Kind != kindReply {
			return nil
		}
		var r Reply
		if err := json.Unmarshal(rec.Data, &r); err != nil {
			return err
		}
		if durable.PlainName(r.Name) != nil {
			return nil
		}
		r.Path = filepath.Join(repliesDir(c), r.Name)
		out = append(out, r)
		return nil
	})
	var chain *casefile.ChainError
	if errors.As(err, &chain) {
		err = nil
	}
	return out, fault.Wrap("read the ledger", c.Name, err)
}

// ReplyPath gives the path of a file that is named: as it stands, or as a reply of the case. A reply that is not as it came is an error.
func ReplyPath(ctx context.Context, c *casefile.Case, name string) (string, error) {
	if _, err := os.Lstat(name); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return name, nil
	}
	list, err := Replies(c)
	if err != nil {
		return "", err
	}
	for _, r := range list {
		if r.Name != name {
			continue
		}
		sum, err := durable.FileSum(ctx, r.Path)
		if err != nil {
			return "", fault.Wrap("read the reply", name, transfer.PlainPath(err))
		}
		if sum != r.SHA256 {
			return "", fault.New(fault.Refused, "read the reply", name, "it was changed since it was added",
				"add the vendor's file again: envask add --reply FILE")
		}
		return r.Path, nil
	}
	return name, nil
}
