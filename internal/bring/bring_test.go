package bring

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/window"
)

// recording makes a HAR text of requests: status, milliseconds, body.
func recording(requests ...string) string {
	return `{"log":{"version":"1.2","creator":{"name":"made up"},"entries":[` + strings.Join(requests, ",") + `]}}`
}

func request(at string, status, ms int, body string) string {
	text := ""
	if body != "" {
		text = fmt.Sprintf(`,"text":%q`, body)
	}
	return fmt.Sprintf(`{"startedDateTime":%q,"time":%d,"request":{"method":"GET","url":"https://gates.example/api/lane?token=x","headers":[]},`+
		`"response":{"status":%d,"content":{"size":%d,"mimeType":"text/plain"%s}}}`, at, ms, status, len(body), text)
}

func picture(t testing.TB, form string) []byte {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, 40, 20))
	for i := range m.Pix {
		m.Pix[i] = 0xff
	}
	m.Set(0, 0, color.NRGBA{R: 255, A: 255})
	var b bytes.Buffer
	if form == "png" {
		require.NoError(t, png.Encode(&b, m))
	} else {
		require.NoError(t, jpeg.Encode(&b, m, nil))
	}
	return b.Bytes()
}

// exif puts a segment with a time and an orientation behind the start of a JPEG picture.
func exif(jpg []byte, way byte, at string) []byte {
	at += "\x00"
	tiff := []byte("MM\x00*\x00\x00\x00\x08\x00\x02" + // two entries
		"\x01\x12\x00\x03\x00\x00\x00\x01\x00" + string(way) + "\x00\x00" + // Orientation
		"\x01\x32\x00\x02\x00\x00\x00" + string(rune(len(at))) + "\x00\x00\x00\x26" + // DateTime, at 38
		"\x00\x00\x00\x00" + at)
	body := append([]byte("Exif\x00\x00"), tiff...)
	seg := append([]byte{0xff, 0xe1, 0, byte(len(body) + 2)}, body...)
	return append(append(append([]byte{}, jpg[:2]...), seg...), jpg[2:]...)
}

func TestWhatIsBroughtIsToldByItsContent(t *testing.T) {
	pdf := "%PDF-1.7\n1 0 obj\n<<>>\nendobj\ntrailer <<>>\n%%EOF\n"
	good := recording(request("2026-03-14T06:20:00Z", 500, 12, "broken"), request("2026-03-14T06:21:00+01:00", 200, 5, "fine"))
	w, err := window.New([]window.Span{{From: time.Date(2026, 3, 14, 5, 0, 0, 0, time.UTC),
		To: time.Date(2026, 3, 14, 7, 0, 0, 0, time.UTC)}}, time.UTC)
	require.NoError(t, err)
	for _, c := range []struct {
		name, text string
		expect     ask.Expect
		kind       string
		fails      []string
		remarks    []string
	}{
		{name: "good.har", text: good, expect: ask.Expect{Types: []string{"har"}, Window: true}, kind: "har"},
		{name: "bom.har", text: "\xef\xbb\xbf" + good, expect: ask.Expect{Types: []string{"har"}}, kind: "har"},
		{name: "cut.har", text: good[:len(good)-20], expect: ask.Expect{Types: []string{"har"}}, kind: "text",
			fails: []string{"it is a JSON text (it is cut off after"}},
		{name: "page.har", text: "<!doctype html><html><body>Sign in</body></html>",
			expect: ask.Expect{Types: []string{"har"}}, kind: "text",
			fails: []string{"it is a page (HTML), not a recording of a browser (HAR 1.2)"}},
		{name: "other.har", text: `{"a":1}`, expect: ask.Expect{Types: []string{"har"}}, kind: "text",
			fails: []string{"no recording (no log.entries)"}},
		{name: "empty.har", text: recording(), expect: ask.Expect{Types: []string{"har"}}, kind: "har",
			remarks: []string{"there is no request in it"}},
		{name: "bare.har", text: recording(request("2026-03-14T06:20:00Z", 200, 5, "")),
			expect: ask.Expect{Types: []string{"har"}}, kind: "har",
			remarks: []string{"no answer has its body", "no request failed or was slow"}},
		{name: "old.har", text: recording(request("2026-03-10T06:20:00Z", 0, 5, "x")), expect: ask.Expect{Window: true}, kind: "har",
			remarks: []string{"its requests are at 2026-03-10 06:20 UTC, outside of the window"}},
		{name: "picture.txt", text: string(picture(t, "png")), expect: ask.Expect{Types: []string{"png", "jpeg"}}, kind: "png"},
		{name: "half.png", text: string(picture(t, "png")[:20]), expect: ask.Expect{Types: []string{"png"}}, kind: "png",
			fails: []string{"it is no whole picture"}},
		{name: "p.jpg", text: string(picture(t, "jpeg")), expect: ask.Expect{Types: []string{"png"}}, kind: "jpeg",
			fails: []string{"not a PNG picture"}},
		{name: "taken.jpg", text: string(exif(picture(t, "jpeg"), 1, "2026:03:14 09:00:00")),
			expect: ask.Expect{Window: true}, kind: "jpeg",
			remarks: []string{"it was taken at 2026-03-14 09:00 UTC, outside of the window"}},
		{name: "doc.pdf", text: pdf, expect: ask.Expect{Types: []string{"pdf"}}, kind: "pdf"},
		{name: "cut.pdf", text: pdf[:30], expect: ask.Expect{Types: []string{"pdf"}}, kind: "pdf",
			fails: []string{"the document is cut off"}},
		{name: "cut.zip", text: "PK\x03\x04nothing more", expect: ask.Expect{Types: []string{"zip"}}, kind: "zip",
			fails: []string{"no whole zip archive"}},
		{name: "a.pcapng", text: "\x0a\x0d\x0d\x0a\x00\x00", expect: ask.Expect{Types: []string{"capture"}}, kind: "capture"},
		{name: "core", text: "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x04\x00",
			expect: ask.Expect{Types: []string{"dump"}}, kind: "dump"},
		{name: "agent", text: "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00",
			expect: ask.Expect{Types: []string{"dump"}}, kind: "",
			fails: []string{"not a dump of memory"}},
		{name: "none", text: "", expect: ask.Expect{}, kind: "", fails: []string{"it is empty"}},
		{name: "notes.txt", text: "lane 4 stuck\n", expect: ask.Expect{Names: []string{"*.log"}, Least: 1 << 10,
			Holds: regexp.MustCompile("lane 5")},
			kind: "text", fails: []string{"its name is not like *.log", "at least 1.0 KiB", "nothing in it is like lane 5"}},
		{name: "notes.txt", text: "lane 4 stuck\n", expect: ask.Expect{Most: 5, Holds: regexp.MustCompile("lane [0-9]")}, kind: "text",
			fails: []string{"at most 5 B"}},
		{name: "gate.log", text: "2026-03-11T06:12:00Z a\n2026-03-12T06:12:00Z b\n", expect: ask.Expect{Window: true}, kind: "text",
			remarks: []string{"its lines are of"}},
	} {
		path := filepath.Join(t.TempDir(), "file")
		require.NoError(t, os.WriteFile(path, []byte(c.text), 0o600))
		f, err := Look(context.Background(), path, c.name, time.UTC)
		require.NoError(t, err, c.name)
		require.Equal(t, c.kind, f.Kind, c.name)
		v, err := f.Against(context.Background(), c.expect, w, path)
		require.NoError(t, err, c.name)
		require.Len(t, v.Fails, len(c.fails), "%s: %v", c.name, v.Fails)
		for i, want := range c.fails {
			require.Contains(t, v.Fails[i], want, c.name)
		}
		require.Len(t, v.Remarks, len(c.remarks), "%s: %v", c.name, v.Remarks)
		for i, want := range c.remarks {
			require.Contains(t, v.Remarks[i], want, c.name)
		}
	}
}

func TestFailedAndSlowRequestsAreListed(t *testing.T) {
	var all []string
	for i := range MaxFailed + 5 {
		all = append(all, request("2026-03-14T06:20:00Z", 404, i, "x"))
	}
	all = append(all, request("2026-03-14T06:25:00Z", 200, 4000, "slow"), request("2026-03-14T06:26:00Z", 304, 1, ""))
	rec, err := ReadHAR(strings.NewReader(recording(all...)))
	require.NoError(t, err)
	require.Equal(t, MaxFailed+7, rec.Entries)
	require.Len(t, rec.Failed, MaxFailed)
	require.Equal(t, 6, rec.More)
	require.Equal(t, "/api/lane", rec.Failed[0].Path(), "what was sent with the address stays out")
	require.Equal(t, MaxFailed+6, rec.Bodies)
}

// Boxes are measured in the picture as viewers show it: the red pixel of the file's corner stands elsewhere in a turned picture.
func TestBoxesAreBlackForGood(t *testing.T) {
	for _, form := range []string{"png", "jpeg"} {
		var out bytes.Buffer
		require.NoError(t, Blacken(&out, bytes.NewReader(picture(t, form)), []image.Rectangle{image.Rect(0, 0, 10, 10)}))
		m, got, err := image.Decode(bytes.NewReader(out.Bytes()))
		require.NoError(t, err)
		require.Equal(t, form, got)
		r, g, b, _ := m.At(2, 2).RGBA()
		require.Less(t, r+g+b, uint32(0x1000))
		r, _, _, _ = m.At(30, 15).RGBA()
		require.Greater(t, r, uint32(0xf000))
	}
	for way, want := range map[byte]image.Point{1: {0, 0}, 2: {39, 0}, 3: {39, 19}, 4: {0, 19}, 5: {0, 0}, 6: {19, 0},
		7: {19, 39}, 8: {0, 39}} {
		m := upright(mustDecode(t, picture(t, "png")), int(way))
		r, g, _, _ := m.At(want.X, want.Y).RGBA()
		require.True(t, r > 0xf000 && g < 0x1000, "way %d", way)
		p, err := ReadPicture(bytes.NewReader(exif(picture(t, "jpeg"), way, "2026:03:14 07:12:00")), time.UTC)
		require.NoError(t, err)
		require.Equal(t, int(way), p.Way)
		require.Equal(t, "2026-03-14T07:12:00Z", p.Taken.Format(time.RFC3339))
	}
	var out bytes.Buffer
	require.ErrorContains(t, Blacken(&out, bytes.NewReader(picture(t, "png")), []image.Rectangle{image.Rect(30, 0, 50, 10)}), "reaches out")
	require.ErrorContains(t, Blacken(&out, strings.NewReader("text"), nil), "only PNG and JPEG")
	for _, bad := range []string{"", "1,2,3", "1,2,3,0", "a,b,c,d", "-1,2,3,4", "1,2,3,4,5"} {
		_, err := ParseBox(bad)
		require.Error(t, err, bad)
	}
}

func mustDecode(t *testing.T, data []byte) image.Image {
	m, _, err := image.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	return m
}

func TestDraggedPaths(t *testing.T) {
	dir := t.TempDir()
	odd := filepath.Join(dir, "gate 4's picture (1).png")
	require.NoError(t, os.WriteFile(odd, nil, 0o600))
	for _, text := range []string{
		odd, "'" + strings.ReplaceAll(odd, "'", `'\''`) + "'", `"` + odd + `"`,
		strings.NewReplacer(" ", `\ `, "'", `\'`, "(", `\(`, ")", `\)`).Replace(odd), " " + odd + " ",
		"file://" + strings.ReplaceAll(odd, " ", "%20"), "file://localhost" + strings.ReplaceAll(odd, " ", "%20"),
	} {
		require.Equal(t, odd, Dragged(text), text)
	}
	require.Equal(t, "-", Dragged("-"))
	require.Equal(t, "nowhere", Dragged("nowhere"))
	require.Equal(t, "file://elsewhere.example/x", Dragged("file://elsewhere.example/x"))
}

// littleExif is a block as most cameras write it: little endian, its times in a second directory, texts behind both.
func littleExif(taken, zone string) []byte {
	b := []byte("II*\x00\x08\x00\x00\x00")
	entry := func(tag, kind uint16, count, value uint32) {
		b = binary.LittleEndian.AppendUint16(b, tag)
		b = binary.LittleEndian.AppendUint16(b, kind)
		b = binary.LittleEndian.AppendUint32(b, count)
		b = binary.LittleEndian.AppendUint32(b, value)
	}
	b = binary.LittleEndian.AppendUint16(b, 1)
	entry(tagExifDirectory, typeLong, 1, 26)
	b = append(b, 0, 0, 0, 0) // no further directory
	b = binary.LittleEndian.AppendUint16(b, 2)
	entry(tagTaken, typeText, 20, 52)
	entry(tagZoneTaken, typeText, 7, 72)
	return append(b, taken+"\x00"+zone+"\x00"...)
}

func TestPictureTimesOfPNG(t *testing.T) {
	whole := picture(t, "png")
	block := littleExif("2026:03:14 07:12:00", "+01:00")
	chunk := binary.BigEndian.AppendUint32(nil, uint32(len(block)))
	chunk = append(append(chunk, "eXIf"...), block...)
	chunk = binary.BigEndian.AppendUint32(chunk, crc32.ChecksumIEEE(chunk[4:]))
	const afterHead = 8 + 25 // the signature, and the chunk IHDR
	png := slices.Concat(whole[:afterHead], chunk, whole[afterHead:])
	p, err := ReadPicture(bytes.NewReader(png), time.UTC)
	require.NoError(t, err)
	require.True(t, p.Zoned)
	require.Equal(t, "2026-03-14T06:12:00Z", p.Taken.UTC().Format(time.RFC3339))

	// Whatever is wrong in it, there is an answer.
	for i := range block {
		for _, bad := range []byte{0, 0x7f, 0xff} {
			broken := slices.Clone(png)
			broken[afterHead+8+i] = bad
			if x, err := readExif(bytes.NewReader(broken), "png"); err == nil {
				x.takenAt(time.UTC)
			} else {
				require.ErrorIs(t, err, errNoExif)
			}
		}
	}
}

func FuzzReadHAR(f *testing.F) {
	good := recording(request("2026-03-14T06:20:00Z", 500, 12, "broken"))
	for _, s := range []string{good, good[:60], "{", `{"log":[]}`, `{"log":{"entries":{}}}`, `{"log":{"entries":[1]}}`, "",
		`{"log":{"entries":[{"time":"x"}]}}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		rec, err := ReadHAR(bytes.NewReader(data))
		var none *NoRecordingError
		require.True(t, err == nil || errors.As(err, &none), "%v", err)
		require.LessOrEqual(t, len(rec.Failed), MaxFailed)
	})
}

func FuzzPicture(f *testing.F) {
	f.Add(exif(picture(f, "jpeg"), 6, "2026:03:14 07:12:00"))
	f.Add(picture(f, "png"))
	f.Fuzz(func(_ *testing.T, data []byte) {
		_, _ = ReadPicture(bytes.NewReader(data), nil)
		_, _, _ = Kind(bytes.NewReader(data))
	})
}
