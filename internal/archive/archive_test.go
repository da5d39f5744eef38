package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/require"
)

var epoch = time.Date(2026, 3, 14, 6, 12, 0, 0, time.UTC)

func source(name string, data []byte) Source {
	return Source{Name: name, ModTime: epoch, Write: func(w io.Writer) error {
		for len(data) > 0 { // in odd pieces
			n := min(len(data), 70_001)
			if _, err := w.Write(data[:n]); err != nil {
				return err
			}
			data = data[n:]
		}
		return nil
	}}
}

func build(t testing.TB, files map[string][]byte, order []string) []byte {
	t.Helper()
	return buildAs(t, files, order, &Formats[0], Balanced)
}

func buildAs(t testing.TB, files map[string][]byte, order []string, format *Format, level Level) []byte {
	t.Helper()
	var out memory
	w := NewWriter(&out, "26031407", t.TempDir(), format, level, nil)
	var sources []Source
	for _, name := range order {
		sources = append(sources, source(name, files[name]))
	}
	require.NoError(t, w.Add(context.Background(), Sources(sources...)))
	m := Manifest{Format: ManifestFormat, Complete: true}
	require.NoError(t, w.ReadBack(context.Background(), func(f *Written) error {
		m.Files = append(m.Files, File{Path: f.Name, SHA256: f.SHA256, Size: f.Size})
		return nil
	}))
	manifest, err := json.Marshal(m)
	require.NoError(t, err)
	require.NoError(t, w.Add(context.Background(), Sources(source(ManifestName, manifest))))
	require.NoError(t, w.Close(context.Background(), epoch))
	size, sum := w.Sum()
	require.Equal(t, int64(len(out.data)), size)
	require.Equal(t, sha256.Sum256(out.data), sum)
	return out.data
}

// memory is a Storage.
type memory struct {
	data []byte
	lie  func(b []byte, at int64) // changes what is read
}

func (m *memory) Write(b []byte) (int, error) {
	m.data = append(m.data, b...)
	return len(b), nil
}

func (m *memory) ReadAt(b []byte, at int64) (int, error) {
	n, err := bytes.NewReader(m.data).ReadAt(b, at)
	if m.lie != nil {
		m.lie(b[:n], at)
	}
	return n, err
}

func content(n int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	piece := make([]byte, min(n, 50_000))
	for i := range piece {
		piece[i] = "abcdefghij \n"[r.IntN(12)]
	}
	return bytes.Repeat(piece, n/max(1, len(piece))+1)[:n]
}

// sizes around every border of the writer.
func sampleFiles() (map[string][]byte, []string) {
	files := map[string][]byte{}
	var order []string
	for i, n := range []int{0, 1, 511, 512, 513, smallFile - 1, smallFile, smallFile + 1, pieceSize - 1, pieceSize, pieceSize + 1, 2*pieceSize + 7, 12} {
		name := fmt.Sprintf("systems/gate-1/files/var/log/%02d-%d.log", i, n)
		files[name] = content(n, uint64(i))
		order = append(order, name)
	}
	return files, order
}

func verify(t testing.TB, data []byte) *Report {
	t.Helper()
	name := filepath.Join(t.TempDir(), "a.tar.gz")
	require.NoError(t, os.WriteFile(name, data, 0o600))
	r, err := VerifyFile(t.Context(), name, nil)
	require.NoError(t, err)
	return r
}

func TestWhatIsWrittenIsReadBySomebodyElse(t *testing.T) {
	files, order := sampleFiles()
	data := build(t, files, order)
	require.Equal(t, data, build(t, files, order), "the same content gives the same bytes")
	zr, err := gzip.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	tr := tar.NewReader(zr)
	for i := 0; ; i++ {
		h, err := tr.Next()
		if err == io.EOF {
			require.Equal(t, len(order)+2, i)
			break
		}
		require.NoError(t, err)
		got, err := io.ReadAll(tr)
		require.NoError(t, err)
		if i < len(order) {
			require.Equal(t, "26031407/"+order[i], h.Name)
			require.True(t, bytes.Equal(files[order[i]], got), h.Name)
			require.True(t, h.ModTime.Equal(epoch))
			require.Zero(t, h.Uid)
		} else {
			require.Contains(t, []string{"26031407/" + SumsName, "26031407/" + ManifestName}, h.Name)
		}
	}
	r := verify(t, data)
	require.Empty(t, r.Differences)
	require.Equal(t, len(order)+2, r.Files)
	require.True(t, r.Complete)
	require.Equal(t, int64(len(data)), r.Size)
}

func TestManifestIsWrittenAsItWouldBeAtOnce(t *testing.T) {
	m := &Manifest{Format: 1, Title: "\n  \"files\": []", Lacking: []string{}, Files: []File{}, LeftOut: []LeftOut{}}
	for range 3 {
		var got, want bytes.Buffer
		require.NoError(t, m.Write(&got))
		enc := json.NewEncoder(&want)
		enc.SetIndent("", "  ")
		require.NoError(t, enc.Encode(m))
		require.Equal(t, want.String(), got.String())
		m.Files = append(m.Files, File{Path: "systems/<a>&b", Source: "\u2028", Size: 7, Modified: epoch})
		m.LeftOut = append(m.LeftOut, LeftOut{System: "gate-1", Reason: "old"})
	}
}

func TestTwoFilesOfOneNameAreRefused(t *testing.T) {
	for _, f := range Formats {
		var out memory
		w := NewWriter(&out, "top", t.TempDir(), &f, Balanced, nil)
		require.NoError(t, w.Add(context.Background(), Sources(source("a", nil), source("b", nil), source("a", []byte("1")))))
		require.ErrorContains(t, w.Close(context.Background(), epoch), "a: two files of this name")
		w.Discard()
	}
}

func TestFailingSources(t *testing.T) {
	var out memory
	dir := t.TempDir()
	w := NewWriter(&out, "top", dir, &Formats[0], Balanced, nil)
	require.NoError(t, w.Add(context.Background(), Sources(source("a", []byte("1")), source("c", content(pieceSize, 1)))))
	var written []string
	require.NoError(t, w.ReadBack(context.Background(), func(d *Written) error { written = append(written, d.Name); return nil }))
	require.Equal(t, []string{"a", "c"}, written)
	broken := errors.New("broken")
	err := w.Add(context.Background(), Sources(Source{Name: "d", Write: func(io.Writer) error { return broken }}, source("e", nil)))
	require.ErrorIs(t, err, broken)
	require.ErrorContains(t, err, "d: broken")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, w.Add(ctx, Sources(source("z", content(pieceSize, 1)))), context.Canceled)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "no piece is left behind")
}

// tarball makes an archive by hand, to have one that the writer would never make.
func tarball(t *testing.T, headers []tar.Header, bodies []string) []byte {
	t.Helper()
	var b bytes.Buffer
	zw := gzip.NewWriter(&b)
	tw := tar.NewWriter(zw)
	for i, h := range headers {
		h.Size, h.Mode = int64(len(bodies[i])), 0o644
		require.NoError(t, tw.WriteHeader(&h))
		_, err := tw.Write([]byte(bodies[i]))
		require.NoError(t, err)
	}
	require.NoError(t, tw.Close())
	require.NoError(t, zw.Close())
	return b.Bytes()
}

func TestEveryDifferenceIsNamed(t *testing.T) {
	sumOfA := "ca978112ca1bbdcafac231b39a23dc4da786eff8147c4e72b9807785afee48bb" // of "a"
	file := func(name string) tar.Header { return tar.Header{Name: name, Typeflag: tar.TypeReg} }
	for _, c := range []struct {
		name    string
		headers []tar.Header
		bodies  []string
		want    Difference
	}{
		{"missing", []tar.Header{file("t/SHA256SUMS")}, []string{sumOfA + "  x/a\n"}, Difference{"x/a", "missing", "stands in SHA256SUMS and is missing"}},
		{"extra", []tar.Header{file("t/a"), file("t/b"), file("t/SHA256SUMS")}, []string{"a", "b", sumOfA + "  a\n"}, Difference{"b", "extra", "does not stand in SHA256SUMS"}},
		{"changed", []tar.Header{file("t/a"), file("t/SHA256SUMS")}, []string{"b", sumOfA + "  a\n"}, Difference{"a", "changed", "SHA-256 is not ca978112ca1bbdca…, as SHA256SUMS says"}},
		{"twice", []tar.Header{file("t/a"), file("t/a"), file("t/SHA256SUMS")}, []string{"a", "a", sumOfA + "  a\n"}, Difference{"a", "extra", "is there twice"}},
		{"no sums", []tar.Header{file("t/a")}, []string{"a"}, Difference{SumsName, "missing", "without it nothing can be checked"}},
		{"bad sums", []tar.Header{file("t/SHA256SUMS")}, []string{"what\n"}, Difference{SumsName, "changed", "line 1 is not a checksum and a name"}},
		{"climbs", []tar.Header{file("t/../../etc/x"), file("t/SHA256SUMS")}, []string{"a", ""}, Difference{"t/../../etc/x", "unsafe", "lies outside the top folder"}},
		{"absolute", []tar.Header{file("/etc/x"), file("t/SHA256SUMS")}, []string{"a", ""}, Difference{"/etc/x", "unsafe", "lies outside the top folder"}},
		{"elsewhere", []tar.Header{file("t/SHA256SUMS"), file("u/x")}, []string{"", "a"}, Difference{"u/x", "extra", "lies outside the top folder t"}},
		{"link", []tar.Header{{Name: "t/l", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}, file("t/SHA256SUMS")}, []string{"", ""}, Difference{"t/l", "unsafe", "is not a regular file"}},
		{"manifest only", []tar.Header{file("t/manifest.json"), file("t/SHA256SUMS")},
			[]string{`{"files":[{"path":"systems/x","sha256":"00"}]}`, "43fddf6ed1d7ecb0fe2e9bb5c9b4d1b0a8e9c1f0a2a6f6ed06bfa6d8bb4b7b2e  manifest.json\n"},
			Difference{"systems/x", "missing", "stands in manifest.json and is missing"}},
	} {
		require.Contains(t, verify(t, tarball(t, c.headers, c.bodies)).Differences, c.want, c.name)
	}
}

func TestCutAnywhereIsNoticed(t *testing.T) {
	files, order := sampleFiles()
	data := build(t, files, order)
	for _, n := range []int{1, 9, 100, 5000, len(data) / 2, len(data) - 20, len(data) - 3} {
		r := verify(t, data[:len(data)-n])
		require.False(t, r.Good(), "%d bytes cut off", n)
		require.Condition(t, func() bool {
			for _, d := range r.Differences {
				if d.What == "truncated" {
					return true
				}
			}
			return false
		}, "%d bytes cut off: %v", n, r.Differences)
	}
}

func TestAnyFlippedByteIsNoticed(t *testing.T) {
	data := build(t, map[string][]byte{"systems/a": content(3000, 1), "b": content(100, 2)}, []string{"systems/a", "b"})
	r := rand.New(rand.NewPCG(5, 6))
	harmless := 0
	for range 300 {
		bad := bytes.Clone(data)
		at := r.IntN(len(bad))
		bad[at] ^= byte(1 + r.IntN(255))
		if verify(t, bad).Good() {
			harmless++ // flags, time and system in the head of a gzip member say nothing about the content
			require.Less(t, at%len(data), len(data))
		}
	}
	require.Less(t, harmless, 30)
}

func TestInspectSeesEveryFile(t *testing.T) {
	files, order := sampleFiles()
	name := filepath.Join(t.TempDir(), "a.tar.gz")
	require.NoError(t, os.WriteFile(name, build(t, files, order), 0o600))
	seen := map[string]int{}
	_, err := VerifyFile(t.Context(), name, func(name string, r io.Reader) error {
		data, err := io.ReadAll(r)
		seen[name] = len(data)
		return err
	})
	require.NoError(t, err)
	for _, o := range order {
		require.Equal(t, len(files[o]), seen[o], o)
	}
	require.Contains(t, seen, SumsName)
	stop := errors.New("stop")
	_, err = VerifyFile(t.Context(), name, func(string, io.Reader) error { return stop })
	require.ErrorIs(t, err, stop)
}

func FuzzVerify(f *testing.F) {
	for i := range Formats {
		var b memory
		w := NewWriter(&b, "t", f.TempDir(), &Formats[i], Balanced, nil)
		require.NoError(f, w.Add(context.Background(), Sources(source("systems/a", []byte("x")), source(ManifestName, []byte("{}")))))
		require.NoError(f, w.Close(context.Background(), epoch))
		f.Add(b.data)
	}
	f.Add([]byte("\x1f\x8b"))
	f.Add([]byte(strings.Repeat("\x00", 1024)))
	f.Fuzz(func(t *testing.T, data []byte) {
		_, err := verifySource(t.Context(), bytes.NewReader(data), int64(len(data)), "a", Look{})
		require.NoError(t, err)
	})
}

// What it takes to write an archive, and to read it back.
func BenchmarkWriter(b *testing.B) {
	data := content(32<<20, 1)
	for _, and := range []string{"write", "write and read back"} {
		b.Run(and, func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				f, err := os.CreateTemp(b.TempDir(), "")
				require.NoError(b, err)
				w := NewWriter(f, "t", b.TempDir(), &Formats[0], Balanced, nil)
				require.NoError(b, w.Add(context.Background(), Sources(source("a", data[:16<<20]), source("b", data[16<<20:]))))
				if and != "write" {
					err := w.ReadBack(context.Background(), nil)
					require.NoError(b, err)
				}
				require.NoError(b, f.Close())
			}
		})
	}
}
