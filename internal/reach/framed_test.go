package reach

import (
	"bytes"
	"fmt"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

// Whatever a command prints, in whatever pieces it comes: it is passed on unchanged, and nothing of what is before and behind it.
func FuzzFramed(f *testing.F) {
	f.Add([]byte("hello\n"), []byte("Welcome\n"), uint8(0), uint8(1), false)
	f.Add([]byte("envask-0123456789abcde"), []byte("envask-0123456789abcdef"), uint8(127), uint8(3), true)
	f.Add([]byte("\x00\xff\r\n"), []byte(""), uint8(3), uint8(200), false)
	const mark = "envask-0123456789abcdef"
	f.Fuzz(func(t *testing.T, payload, banner []byte, exit, chunk uint8, merged bool) {
		if bytes.Contains(payload, []byte(mark)) || bytes.Contains(banner, []byte(mark+"\n")) || bytes.HasSuffix(banner, []byte(mark)) {
			return // a mark is random, so that nothing prints it by chance
		}
		for n := 1; n < len(mark); n++ {
			if bytes.HasSuffix(payload, []byte(mark[:n])) {
				return // the shell's own mark follows: both together may look like one that begins earlier
			}
		}
		text := append(bytes.Clone(banner), mark+"\n"...)
		if merged {
			text = append(text, mark+"\n"...)
		}
		text = append(append(text, payload...), fmt.Sprintf("%s %d\nrest", mark, exit)...)
		var r io.Reader = bytes.NewReader(text)
		if chunk == 1 {
			r = iotest.OneByteReader(r)
		} else if chunk%2 == 1 {
			r = iotest.HalfReader(r)
		}
		var out bytes.Buffer
		frame := &framed{mark: mark, to: &out}
		require.NoError(t, frame.readAll(r))
		require.Equal(t, payload, append([]byte{}, out.Bytes()...))
		require.Equal(t, int(exit), frame.exit)
		require.Equal(t, merged, frame.merged)
		// Cut anywhere, it is an error, and never an exit code.
		cut := len(banner) + int(exit)%max(1, len(text)-len(banner)-len("\nrest"))
		require.Error(t, (&framed{mark: mark, to: io.Discard}).readAll(bytes.NewReader(text[:cut])))
	})
}
