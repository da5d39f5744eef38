package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A builder of hostile archives: it makes a good one of two files, and each row changes one thing. To add an attack, add a row.
type built struct {
	files    []packed
	manifest func(m *Manifest)
	text     func(manifest string) string  // of the manifest
	sums     func(sums string) string      // of the list of checksums
	order    func(files []packed) []packed // of all members
	header   func(h *tar.Header)           // of each member of a tar file
	inTar    func(tw *tar.Writer)          // before the end mark
	behind   []byte                        // in the tar stream, behind its end mark
	last     []byte                        // behind all
	first    []byte                        // before all
	inZip    func(zw *zip.Writer)          // before its list
	change   func(all []byte) []byte       // of the whole
}

type packed struct{ name, text string }

func good() *built {
	return &built{files: []packed{{"systems/gate-1/files/a.log", "a\n"}, {"systems/gate-1/files/b.log", "b\n"}}}
}

func sumText(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// members gives all files with the lists that go with them.
func (b *built) members() []packed {
	m := &Manifest{Format: ManifestFormat, Case: "26031407", Complete: true, Lacking: []string{}}
	for _, f := range b.files {
		m.Files = append(m.Files, File{Path: f.name, Size: int64(len(f.text)), SHA256: sumText(f.text)})
	}
	if b.manifest != nil {
		b.manifest(m)
	}
	data, err := json.Marshal(m)
	if err != nil {
		panic(err)
	}
	text := string(data)
	if b.text != nil {
		text = b.text(text)
	}
	all := append([]packed{}, b.files...)
	all = append(all, packed{BriefName, "brief\n"}, packed{ManifestName, text})
	var sums strings.Builder
	for _, f := range all {
		fmt.Fprintf(&sums, "%s  %s\n", sumText(f.text), f.name)
	}
	list := sums.String()
	if b.sums != nil {
		list = b.sums(list)
	}
	all = append(all, packed{SumsName, list})
	if b.order != nil {
		all = b.order(all)
	}
	return all
}

func (b *built) tarGz() []byte {
	var out bytes.Buffer
	out.Write(b.first)
	zw := gzip.NewWriter(&out)
	tw := tar.NewWriter(zw)
	for _, f := range b.members() {
		h := &tar.Header{Typeflag: tar.TypeReg, Name: "t/" + f.name, Size: int64(len(f.text)), Mode: 0o644}
		if b.header != nil {
			b.header(h)
		}
		_ = tw.WriteHeader(h)
		_, _ = io.WriteString(tw, f.text)
	}
	if b.inTar != nil {
		b.inTar(tw)
	}
	_ = tw.Close()
	_, _ = zw.Write(b.behind)
	_ = zw.Close()
	out.Write(b.last)
	if b.change != nil {
		return b.change(out.Bytes())
	}
	return out.Bytes()
}

func (b *built) zipped() []byte {
	var out bytes.Buffer
	out.Write(b.first)
	zw := zip.NewWriter(&out)
	for _, f := range b.members() {
		w, err := zw.CreateHeader(&zip.FileHeader{Name: "t/" + f.name, Method: zip.Deflate})
		if err != nil {
			panic(err)
		}
		_, _ = io.WriteString(w, f.text)
	}
	if b.inZip != nil {
		b.inZip(zw)
	}
	_ = zw.Close()
	out.Write(b.last)
	if b.change != nil {
		return b.change(out.Bytes())
	}
	return out.Bytes()
}

// verified verifies bytes, with the memory that it took over what was there before, in MiB.
func verified(t *testing.T, data []byte) (*Report, uint64) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "a")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	r, err := VerifyFile(context.Background(), file, nil)
	require.NoError(t, err)
	runtime.ReadMemStats(&after)
	return r, (after.HeapSys - min(after.HeapSys, before.HeapSys)) >> 20
}

func TestGoodArchivesAreGood(t *testing.T) {
	for name, data := range map[string][]byte{"tar.gz": good().tarGz(), "zip": good().zipped()} {
		r, _ := verified(t, data)
		require.Empty(t, r.Differences, name)
		require.Equal(t, "26031407", r.Manifest.Case)
	}
	// Somebody packed it anew, with folders and in another order.
	b := good()
	b.order = func(all []packed) []packed {
		return append([]packed{all[len(all)-1], all[len(all)-2]}, all[:len(all)-2]...)
	}
	folder := &tar.Header{Typeflag: tar.TypeDir, Name: "t/systems/gate-1/", Mode: 0o755}
	b.inTar = func(tw *tar.Writer) { _ = tw.WriteHeader(folder) }
	r, _ := verified(t, b.tarGz())
	require.Empty(t, r.Differences)
	b.inTar = nil
	r, _ = verified(t, b.zipped())
	require.Empty(t, r.Differences)
	for i := range 3000 { // more than can be listed as different
		b.files = append(b.files, packed{fmt.Sprintf("systems/gate-1/files/%d.log", i), fmt.Sprint(i)})
	}
	r, _ = verified(t, b.tarGz())
	require.Empty(t, r.Differences)
}

func TestHostileArchives(t *testing.T) {
	extra := packed{"systems/gate-1/files/hidden.log", "hidden\n"}
	inTar := func(h *tar.Header, text string) func(*tar.Writer) {
		return func(tw *tar.Writer) {
			h.Size, h.Mode = int64(len(text)), 0o644
			_ = tw.WriteHeader(h)
			_, _ = io.WriteString(tw, text)
		}
	}
	secondTar := func() []byte {
		var b bytes.Buffer
		tw := tar.NewWriter(&b)
		inTar(&tar.Header{Typeflag: tar.TypeReg, Name: "t/" + extra.name}, extra.text)(tw)
		_ = tw.Close()
		return b.Bytes()
	}
	for _, c := range []struct {
		name   string
		change func(b *built)
		zip    bool
		want   string // in the text of the differences
	}{
		{"a file in no list", func(b *built) {
			b.inTar = inTar(&tar.Header{Typeflag: tar.TypeReg, Name: "t/" + extra.name}, extra.text)
		}, false, "hidden.log extra does not stand in SHA256SUMS"},
		{"a file in the list of checksums only", func(b *built) {
			b.files = append(b.files, extra)
			b.manifest = func(m *Manifest) { m.Files = m.Files[:2] }
		}, false, "hidden.log extra does not stand in manifest.json"},
		{"a file in the lists only", func(b *built) { b.order = func(all []packed) []packed { return all[1:] } }, false, "a.log missing stands in SHA256SUMS"},
		{"a file twice", func(b *built) {
			b.inTar = inTar(&tar.Header{Typeflag: tar.TypeReg, Name: "t/" + b.files[0].name}, "other\n")
		}, false, "a.log extra is there twice"},
		{"another size in the manifest", func(b *built) { b.manifest = func(m *Manifest) { m.Files[0].Size = 7 } }, false, "a.log changed its checksum or size"},
		{"a file twice in the manifest", func(b *built) { b.manifest = func(m *Manifest) { m.Files = append(m.Files, m.Files[0]) } }, false, "a.log changed stands in manifest.json twice"},
		{"a file twice in the checksums", func(b *built) { b.sums = func(s string) string { return s + strings.SplitAfter(s, "\n")[0] } }, false, "a.log changed stands in SHA256SUMS twice"},
		{"our own file as evidence", func(b *built) {
			b.manifest = func(m *Manifest) {
				m.Files = append(m.Files, File{Path: BriefName, SHA256: sumText("brief\n"), Size: 6})
			}
		}, false, "brief.md changed stands in manifest.json and is no evidence"},
		{"entries behind the end mark", func(b *built) { b.behind = secondTar() }, false, "behind the end mark"},
		{"a megabyte of zeros behind the end mark", func(b *built) { b.behind = make([]byte, 1<<20) }, false, "behind the end mark"},
		{"bytes behind the end", func(b *built) { b.last = []byte("hidden") }, false, "end is damaged"},
		{"a second archive behind the end", func(b *built) { b.last = good().tarGz() }, false, "behind the end mark"},
		{"a folder outside", func(b *built) { b.inTar = inTar(&tar.Header{Typeflag: tar.TypeDir, Name: "t/../../x/"}, "") }, false, "unsafe lies outside"},
		{"a folder above", func(b *built) { b.inTar = inTar(&tar.Header{Typeflag: tar.TypeDir, Name: "../"}, "") }, false, "unsafe lies outside"},
		{"a folder beside", func(b *built) { b.inTar = inTar(&tar.Header{Typeflag: tar.TypeDir, Name: "other/"}, "") }, false, "extra lies outside the top folder"},
		{"a folder without a file", func(b *built) { b.inTar = inTar(&tar.Header{Typeflag: tar.TypeDir, Name: "t/password-is-brass/"}, "") }, false, "extra is a folder without a file"},
		{"a link", func(b *built) {
			b.inTar = inTar(&tar.Header{Typeflag: tar.TypeSymlink, Name: "t/systems/x", Linkname: "/etc/passwd"}, "")
		}, false, "unsafe is not a regular file"},
		{"a hard link", func(b *built) {
			b.inTar = inTar(&tar.Header{Typeflag: tar.TypeLink, Name: "t/systems/x", Linkname: "t/brief.md"}, "")
		}, false, "unsafe is not a regular file"},
		{"a device", func(b *built) { b.inTar = inTar(&tar.Header{Typeflag: tar.TypeChar, Name: "t/systems/x"}, "") }, false, "unsafe is not a regular file"},
		{"a header with a comment", func(b *built) {
			b.header = func(h *tar.Header) { h.PAXRecords = map[string]string{"comment": "hidden"} }
		}, false, "extra its header holds more"},
		{"a header with attributes", func(b *built) {
			b.header = func(h *tar.Header) { h.PAXRecords = map[string]string{"SCHILY.xattr.user.x": "hidden"} }
		}, false, "extra its header holds more"},
		{"a name of Windows", func(b *built) { b.inTar = inTar(&tar.Header{Typeflag: tar.TypeReg, Name: `t/..\..\x`}, "x") }, false, "unsafe lies outside"},
		{"no manifest", func(b *built) {
			b.order = func(all []packed) []packed { return append(all[:3:3], all[4]) }
		}, false, "manifest.json missing"},
		{"a manifest of other things", func(b *built) { b.text = func(string) string { return `[1, 2]` } }, false, "manifest.json changed cannot be read"},
		{"a manifest with something behind", func(b *built) { b.text = func(s string) string { return s + `{"files":[]}` } }, false, "manifest.json changed cannot be read"},
		{"a manifest nested for ever", func(b *built) { b.text = func(string) string { return `{"x":` + strings.Repeat("[", 5_000_000) } }, false, "manifest.json changed cannot be read"},
		{"a manifest of one endless word", func(b *built) {
			b.text = func(string) string { return `{"case":"` + strings.Repeat("x", 100<<20) + `"}` }
		}, false, "manifest.json changed cannot be read"},
		{"a manifest with an endless entry", func(b *built) {
			b.text = func(string) string { return `{"files":[{"path":"` + strings.Repeat("x", 100<<20) + `"}]}` }
		}, false, "manifest.json changed cannot be read"},
		{"a manifest of 300 MB", func(b *built) {
			b.text = func(string) string {
				return `{"files":[` + strings.Repeat(`{"path":"systems/gate-1/files/var/log/boarding/gate.log","sha256":"x","system":"gate-1","item":"gate-log"},`, 3_000_000) + `{}]}`
			}
		}, false, "manifest.json changed cannot be read: it names more files than there are"},
		{"checksums of 100 MB", func(b *built) { b.sums = func(s string) string { return strings.Repeat(s, 300_000) } }, false, "the list is longer"},
		{"checksums of one endless line", func(b *built) { b.sums = func(s string) string { return s + strings.Repeat("x", 100<<20) } }, false, "the list is longer"},

		{"zip: a folder with content", func(b *built) {
			b.inZip = func(zw *zip.Writer) {
				w, _ := zw.CreateRaw(&zip.FileHeader{Name: "t/systems/gate-1/", Method: zip.Store, CompressedSize64: 6, UncompressedSize64: 6, CRC32: 0x1})
				_, _ = io.WriteString(w, "hidden")
			}
		}, true, "folder with content"},
		{"zip: a folder that leads out", func(b *built) { b.inZip = func(zw *zip.Writer) { _, _ = zw.Create("t/../../x/") } }, true, "unsafe lies outside"},
		{"zip: a comment", func(b *built) { b.inZip = func(zw *zip.Writer) { _ = zw.SetComment("hidden") } }, true, "behind the end mark"},
		{"zip: a comment of a file", func(b *built) {
			b.inZip = func(zw *zip.Writer) { _, _ = zw.CreateHeader(&zip.FileHeader{Name: "t/systems/x", Comment: "hidden"}) }
		}, true, "extra holds more"},
		{"zip: bytes behind", func(b *built) { b.last = []byte("hidden") }, true, "behind the end mark"},
		{"zip: a file that is not in its list", func(b *built) {
			b.change = func(all []byte) []byte { // the list of a smaller archive behind the files of this one
				small := good()
				list := bytes.Index(small.zipped(), []byte(zipListMagic))
				data := small.zipped()
				at := bytes.Index(all, []byte(zipListMagic))
				return append(append(append([]byte{}, data[:list]...), all[:at]...), data[list:]...)
			}
		}, true, "stands something that is in no list"},
		{"zip: bytes before", func(b *built) {
			b.change = func(all []byte) []byte { return append([]byte("PK\x03\x04 hidden"), all...) }
		}, true, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := good()
			c.change(b)
			data := b.tarGz
			if c.zip {
				data = b.zipped
			}
			r, grew := verified(t, data())
			require.False(t, r.Good(), "it is not what it should be")
			var text strings.Builder
			for _, d := range r.Differences {
				fmt.Fprintf(&text, "%s %s %s\n", d.Path, d.What, d.Why)
				require.Less(t, len(d.Why)+len(d.Path), 2000)
			}
			require.Contains(t, text.String(), c.want)
			require.Less(t, grew, uint64(200), "MiB more than before, the test's own included")
		})
	}
}

func FuzzManifest(f *testing.F) {
	all := good().members()
	f.Add(all[len(all)-2].text, all[len(all)-1].text)
	f.Add(`{"files":null,"left_out":[{}],"case":1}`, "x")
	f.Add(`{"files":[{"path":"\u0000"}]} `, "")
	f.Fuzz(func(t *testing.T, manifest, sums string) {
		b := good()
		b.text = func(string) string { return manifest }
		b.sums = func(string) string { return sums }
		data := b.tarGz()
		_, err := verifySource(t.Context(), bytes.NewReader(data), int64(len(data)), "a", Look{})
		require.NoError(t, err)
	})
}
