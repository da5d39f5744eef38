package redact

import (
	"bytes"
	"encoding/base64"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/stretchr/testify/require"
)

// wordPacked gives a text as gzip or zlib in base64.
func wordPacked(t testing.TB, kind byte, text string) string {
	var b bytes.Buffer
	var w io.WriteCloser = gzip.NewWriter(&b)
	if kind == 'z' {
		w = zlib.NewWriter(&b)
	}
	_, err := io.WriteString(w, text)
	require.NoError(t, errors.Join(err, w.Close()))
	return base64.StdEncoding.EncodeToString(b.Bytes())
}

// What is compressed and written in base64 within a text is opened, and can be opened afterwards: twice packed, too.
func TestPackedInBase64(t *testing.T) {
	const plain = "kind: release\npassword: brass-Kelp-71!\nuser=m.quintela from 192.0.2.61\nlane 7\n"
	const want = "kind: release\npassword: [redacted:keyed-secret]\nuser=user-2a from 240.0.0.1\nlane 7\n"
	pack := func(kind byte, text string) string { return wordPacked(t, kind, text) }
	open := func(kind byte, word string) string {
		data, err := base64.StdEncoding.DecodeString(word)
		require.NoError(t, err, word)
		var r io.Reader
		if r, err = gzip.NewReader(bytes.NewReader(data)); kind == 'z' {
			r, err = zlib.NewReader(bytes.NewReader(data))
		}
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		return string(text)
	}
	for _, kind := range []byte("gz") {
		for _, form := range []string{"release: %s\nlane: 7\n", `{"data":{"release":"%s"},"lane":7}` + "\n", "got %s back\n"} {
			before, after, _ := strings.Cut(form, "%s")
			out, _ := redactFile(t, []byte(before+pack(kind, plain)+after), Source{})
			word := strings.TrimSuffix(strings.TrimPrefix(string(out), before), after)
			require.Equal(t, want, open(kind, word), "%c in %s", kind, form)
		}
		out, _ := redactFile(t, []byte("state "+pack(kind, "outer "+pack(kind, plain)+"\n")+"\n"), Source{})
		inner := strings.Fields(open(kind, strings.Fields(string(out))[1]))[1]
		require.Equal(t, want, open(kind, inner))
		// What holds nothing, is no text or grows beyond measure stays as it is.
		for _, text := range []string{"lane 7 is open\n", "\x00\x01\x02\x03 password=brass-Kelp-71!\n", strings.Repeat("password=brass-Kelp-71!\n", 400_000)} {
			in := "state " + pack(kind, text) + "\n"
			out, _ := redactFile(t, []byte(in), Source{})
			require.Equal(t, in, string(out))
		}
	}
	// What is learned there is known elsewhere.
	out, _ := redactFile(t, []byte("release: "+pack('g', plain)+"\nlater brass-Kelp-71! again\n"), Source{})
	require.Contains(t, string(out), "later [redacted:keyed-secret] again")
}

// What is found in a packed text counts once, is told and shown as it reads there and not as a word of base64, and teaches as it would in
// plain text: one weak find alone teaches nothing.
func TestPackedTextsAreToldAsTheyRead(t *testing.T) {
	word := wordPacked(t, 'g', "kind: release\npassword: brass-Kelp-71!\nuser=m.quintela from 192.0.2.61\nlane 7\n")
	long := strings.Repeat("lane 7 is open\n", maxBlock/15-10)
	in := long + "release: " + word + " " + strings.Repeat("x", 2*keepBack+1000) // the block ends in a line: it is looked at twice
	var told []string
	var samples []Sample
	learned := NewLearned()
	var out bytes.Buffer
	res, err := NewEngine(Options{Learned: learned}).File(&out, strings.NewReader(in), Source{
		Tally: func(v Told) {
			require.EqualValues(t, -1, v.Offset)
			told = append(told, v.Rule+" "+v.Text)
		},
		Sampler: func(s Sample) { samples = append(samples, s) }})
	require.NoError(t, err)
	require.Equal(t, Counts{"keyed-secret": 1, "user": 1, "ipv4": 1}, res.Counts)
	require.Equal(t, []string{"keyed-secret brass-Kelp-71!", "user m.quintela", "ipv4 192.0.2.61"}, told)
	require.Len(t, samples, 3)
	require.Equal(t, Sample{Rule: "keyed-secret", Class: Secret, Form: "gzip", Offset: -1, Length: 14, Left: "password: ",
		Put: "[redacted:keyed-secret]"}, samples[0])
	require.NotContains(t, out.String(), word)
}

// A short line that grows beyond measure when it is opened is left: nothing keeps the program busy for hours.
func TestPackedTextsGrowByABound(t *testing.T) {
	line := strings.Repeat("lane 7 is open ", 8)
	for lines, opened := range map[int]bool{10: true, 20_000: false} {
		word := wordPacked(t, 'z', "password: brass-Kelp-71!\n"+strings.Repeat(line+"\n", lines))
		require.Equal(t, opened, redactText(t, "state "+word+"\n") != "state "+word+"\n", lines)
	}
}

// Whatever stands in it: what was packed can be opened again, and redacting it once more changes nothing.
func FuzzPacked(f *testing.F) {
	f.Add("password: brass-Kelp-71!\nlane 7\n", "release: ", "\n")
	f.Add("user=m.quintela", `{"a":"`, `"}`)
	f.Fuzz(func(t *testing.T, text, before, after string) {
		in := before + base64.StdEncoding.EncodeToString(gz(t, text)) + after
		out := redactText(t, in)
		require.Equal(t, out, redactText(t, out))
		if word := strings.TrimSuffix(strings.TrimPrefix(out, before), after); strings.HasPrefix(word, "H4sI") {
			data, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(word, "="))
			if err != nil {
				return // it was no word by itself
			}
			r, err := gzip.NewReader(bytes.NewReader(data))
			require.NoError(t, err)
			_, err = io.ReadAll(r)
			require.NoError(t, err)
		}
	})
}
