package flow

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/v1"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"envask/internal/casefile"
	"envask/internal/fault"
)

// forge writes a moved case anew with some of its files changed, and with a digest that fits.
func forge(t *testing.T, from, to string, change func(h *tar.Header, data []byte) []byte) {
	t.Helper()
	f, err := os.Open(from)
	require.NoError(t, err)
	defer f.Close()
	z, err := zstd.NewReader(f)
	require.NoError(t, err)
	defer z.Close()
	var out bytes.Buffer
	zw, err := zstd.NewWriter(&out)
	require.NoError(t, err)
	tw, d := tar.NewWriter(zw), newDigest()
	for tr := tar.NewReader(z); ; {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		data, err := io.ReadAll(tr)
		require.NoError(t, err)
		if h.Name == movedEnd {
			data, err = json.Marshal(d.done())
			require.NoError(t, err)
		} else if data = change(h, data); data == nil {
			continue
		}
		h.Size = int64(len(data))
		require.NoError(t, tw.WriteHeader(h))
		_, err = tw.Write(data)
		require.NoError(t, err)
		if strings.HasPrefix(h.Name, movedFiles) || strings.Contains(h.Name, "..") {
			sum := sha256.Sum256(data)
			d.add(h.Name, h.Size, sum[:])
		}
	}
	require.NoError(t, tw.Close())
	require.NoError(t, zw.Close())
	require.NoError(t, os.WriteFile(to, out.Bytes(), 0o600))
}

// A moved case that was forged so that its digest fits is refused all the same, and nothing of it stays.
func TestAForgedCase(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	good := filepath.Join(d.dir, "good.case")
	_, err := d.app.Export(context.Background(), d.c, ExportRequest{File: good})
	require.NoError(t, err)
	for _, c := range []struct {
		name, wrong string
		class       fault.Class
		change      func(h *tar.Header, data []byte) []byte
	}{
		{"as it is", "", 0, func(_ *tar.Header, data []byte) []byte { return data }},
		{"a record of the ledger changed", "its ledger is not as it was written", fault.Refused, func(h *tar.Header, data []byte) []byte {
			if h.Name == movedFiles+"ledger.jsonl" {
				return bytes.Replace(data, []byte(`"round":"r1"`), []byte(`"round":"r7"`), 1)
			}
			return data
		}},
		{"a record dropped", "its ledger is not as it was written", fault.Refused, func(h *tar.Header, data []byte) []byte {
			if h.Name == movedFiles+"ledger.jsonl" {
				_, data, _ = bytes.Cut(data, []byte("\n"))
			}
			return data
		}},
		{"a path that leads out", "is no file of a case", fault.Failed, func(h *tar.Header, data []byte) []byte {
			if strings.HasSuffix(h.Name, "entries.jsonl") {
				h.Name = movedFiles + "../../evil"
			}
			return data
		}},
		{"a link", "is no regular file", fault.Failed, func(h *tar.Header, data []byte) []byte {
			if strings.HasSuffix(h.Name, "entries.jsonl") {
				h.Typeflag, h.Linkname = tar.TypeSymlink, "/etc/passwd"
				return []byte{}
			}
			return data
		}},
		{"no case file", "case.yaml", fault.Refused, func(h *tar.Header, data []byte) []byte {
			if h.Name == movedFiles+"case.yaml" {
				return nil
			}
			return data
		}},
		{"a name that is none", "cannot name a case", fault.Failed, func(h *tar.Header, data []byte) []byte {
			if h.Name == movedHead {
				return bytes.Replace(data, []byte(`"26031407"`), []byte(`"../up"`), 1)
			}
			return data
		}},
		{"a later format", "format 9", fault.Failed, func(h *tar.Header, data []byte) []byte {
			if h.Name == movedHead {
				return bytes.Replace(data, []byte(`"format":1`), []byte(`"format":9`), 1)
			}
			return data
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "forged.case")
			forge(t, good, file, c.change)
			there := newDesk(t).app
			there.Home = casefile.Home{Dir: t.TempDir()}
			got, err := there.Import(context.Background(), ImportRequest{File: file})
			if c.wrong == "" {
				require.NoError(t, err)
				require.Equal(t, "26031407", got.Case)
				return
			}
			require.ErrorContains(t, err, c.wrong)
			require.Equal(t, c.class, fault.ClassOf(err))
			require.False(t, there.Home.Exists("26031407"))
			require.NoDirExists(t, filepath.Join(there.Home.Dir, "arriving"))
		})
	}
}

// Every kind of record has its sentence, so that a history tells all of it.
func TestEveryRecordIsTold(t *testing.T) {
	for _, kind := range []string{"case-begun", "case-changed", kindAskApproved, kindPacked, kindSealed, kindSplit,
		kindApproved, kindDecided, kindBrought,
		kindReply, kindBrief, kindLooked, kindMarked, kindDiscarded, kindExported, kindImported, casefile.KindRepaired} {
		require.NotNil(t, stories[kind], kind)
		what, _ := stories[kind](ledgerData{})
		require.NotEmpty(t, what, kind)
	}
}

func FuzzMovedPath(f *testing.F) {
	for _, s := range []string{"files/case.yaml", "files/../x", "files//x", "files/rounds/r1/raw/a/.b",
		"files/.hidden", "files/lock", "x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, name string) {
		rel, err := movedPath(name)
		if err != nil {
			return
		}
		require.True(t, filepath.IsLocal(rel), "%q", rel)
		require.NotContains(t, rel, "\x00")
	})
}
