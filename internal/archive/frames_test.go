package archive

import (
	"bytes"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// What waits for its turn is the same in memory and on the disk, whatever the sizes of its pieces.
func TestFramesWaitInMemoryOrOnTheDisk(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, c := range []struct {
		pieces []int
		disk   bool
	}{
		{nil, false}, {[]int{1, 2, 3}, false}, {[]int{keptFrames}, false}, {[]int{keptFrames + 1}, true},
		{[]int{keptFrames - 5, 5}, false}, {[]int{keptFrames - 5, 6}, true}, {[]int{100, keptFrames, 100}, true},
	} {
		dir := t.TempDir()
		f := &frames{tmpDir: dir}
		var want []byte
		for _, n := range c.pieces {
			piece := make([]byte, n)
			for i := range piece {
				piece[i] = byte(r.Uint32())
			}
			got, err := f.Write(piece)
			require.NoError(t, err)
			require.Equal(t, n, got)
			want = append(want, piece...)
		}
		require.Equal(t, int64(len(want)), f.size)
		require.Equal(t, c.disk, f.file != nil, c.pieces)
		for range 2 {
			var out bytes.Buffer
			n, err := f.WriteTo(&out)
			require.NoError(t, err)
			require.Equal(t, int64(len(want)), n)
			require.True(t, bytes.Equal(want, out.Bytes()))
		}
		require.NoError(t, f.discard())
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Empty(t, left)
	}
	f := &frames{tmpDir: t.TempDir() + "/none"}
	_, err := f.Write(make([]byte, keptFrames+1))
	require.Error(t, err)
}
