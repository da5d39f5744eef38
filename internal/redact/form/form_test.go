package form

import (
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
)

func TestTimestampResolutions(t *testing.T) {
	for value, want := range map[byte]float64{6: 1e6, 9: 1e9, 0x80 | 10: 1 << 10, 0x80 | 32: 1 << 32, 0: 1, 127: 1e18, 255: 1 << 60} {
		i, kept := ngOptions(binary.LittleEndian, []byte{1, 0, 0, 0, 0, 0, 0, 0, 9, 0, 1, 0, value, 0, 0, 0, 0, 0, 0, 0})
		require.Equal(t, want, i.units, "%#x", value)
		require.Len(t, kept, 12)
	}
}

type endless struct{}

func (endless) Read(b []byte) (int, error) { return len(b), nil }

// What grows beyond measure is stopped.
func TestGrowthIsBounded(t *testing.T) {
	_, err := io.Copy(io.Discard, &boundReader{r: endless{}, growth: &growth{packed: &countReader{n: 1}}})
	require.ErrorIs(t, err, ErrBomb)
}

// marker puts a word into the place of another, and nothing else.
type marker struct{ searches, unread bool }

func (m *marker) Text(w io.Writer, r io.Reader, _ string) (Counts, error) {
	b, err := io.ReadAll(r)
	if err == nil && w != nil {
		_, err = io.WriteString(w, strings.ReplaceAll(string(b), "kelp", "gone"))
	}
	return Counts{"kelp": strings.Count(string(b), "kelp")}, err
}
func (m *marker) Short(s string) (string, Counts) {
	return strings.ReplaceAll(s, "kelp", "gone"), Counts{"kelp": strings.Count(s, "kelp")}
}
func (m *marker) Secret(string, string) (string, bool)                { return "gone", true }
func (m *marker) Identity(alias.Class, string, string) (string, bool) { return "", false }
func (m *marker) Searches() bool                                      { return m.searches }
func (m *marker) Unread(r io.Reader) error {
	m.unread = true
	_, err := io.Copy(io.Discard, r)
	return err
}

// Whatever the form, a worker gets the text of it and what it gives comes back in the same form; what fails on the way is said.
func TestWorkersGetTheText(t *testing.T) {
	for kind, c := range Compressions {
		var in, out, text strings.Builder
		w, err := c.Close(&in)
		require.NoError(t, err)
		_, err = io.WriteString(w, "lane kelp 2\n")
		require.NoError(t, errors.Join(err, w.Close()))
		res, err := NewOpener(&marker{}, "").File(&out, strings.NewReader(in.String()), Source{Name: "a" + c.ending})
		require.NoError(t, err)
		require.Equal(t, kind, res.Form)
		require.Equal(t, Plain, res.Inner)
		require.Equal(t, 1, res.Counts.Total())
		r, done, err := c.Open(strings.NewReader(out.String()))
		require.NoError(t, err)
		_, err = io.Copy(&text, r)
		done()
		require.NoError(t, err)
		require.Equal(t, "lane gone 2\n", text.String(), kind)
	}
	_, err := NewOpener(&marker{}, "").File(io.Discard, io.MultiReader(strings.NewReader("lane"), failing{}), Source{})
	require.ErrorIs(t, err, io.ErrClosedPipe)
	m := &marker{searches: true}
	_, err = NewOpener(m, "").File(nil, strings.NewReader("\x7fELF\x02\x01"), Source{})
	require.NoError(t, err)
	require.True(t, m.unread, "what cannot be read is searched as it is")
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }

func TestOrientationIsReadAgain(t *testing.T) {
	for way := 1; way <= 8; way++ {
		require.Equal(t, way, exifOrientation(orientationOnly(way)))
	}
}
