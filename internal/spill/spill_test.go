package spill_test

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/spill"
)

type record struct {
	Name string
	N    int
}

func byName(a, b *record) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.N, b.N)) }

// A list gives back what was added, in order and as often as wanted, whether it fits in memory or not, and leaves nothing.
func TestListKeepsOrder(t *testing.T) {
	for _, n := range []int{0, 1, 100, 60_000} {
		dir := t.TempDir()
		l := spill.NewList[record](dir)
		for i := range n {
			require.NoError(t, l.Add(&record{fmt.Sprintf("gate-%d/log/%d", i%7, i), i}))
		}
		require.Equal(t, n, l.Len())
		for range 2 {
			i := 0
			require.NoError(t, l.Each(func(r *record) error {
				require.Equal(t, i, r.N)
				i++
				return nil
			}))
			require.Equal(t, n, i)
		}
		a, err := l.Reader()
		require.NoError(t, err)
		b, err := l.Reader()
		require.NoError(t, err)
		for range min(n, 3) { // two of them do not disturb each other
			x, err := a.Next()
			require.NoError(t, err)
			y, err := b.Next()
			require.NoError(t, err)
			require.Equal(t, x, y)
		}
		require.Error(t, l.Add(&record{}), "nothing is added behind what was read")
		files, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Len(t, files, min(1, n/60_000))
		require.NoError(t, l.Close())
		files, err = os.ReadDir(dir)
		require.NoError(t, err)
		require.Empty(t, files)
	}
}

// An error of who reads ends the reading; a list that was cut off on the disk is an error, no end.
func TestListErrors(t *testing.T) {
	dir := t.TempDir()
	l := spill.NewList[record](dir)
	for i := range 60_000 {
		require.NoError(t, l.Add(&record{fmt.Sprintf("gate-%d/log/%d", i%7, i), i}))
	}
	require.ErrorIs(t, l.Each(func(*record) error { return os.ErrClosed }), os.ErrClosed)
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(dir+"/"+files[0].Name(), 1<<20))
	require.ErrorIs(t, l.Each(func(*record) error { return nil }), io.ErrUnexpectedEOF)
	require.Error(t, spill.NewList[record](dir+"/nowhere").Add(&record{Name: string(make([]byte, 2<<20))}))
}

// Records come back sorted, whether they fit in memory or not.
func TestSorterSorts(t *testing.T) {
	for _, n := range []int{0, 1, 1000, 30_000} {
		dir := t.TempDir()
		s := spill.NewSorter(context.Background(), dir, byName)
		for _, i := range rand.Perm(n) {
			require.NoError(t, s.Add(record{fmt.Sprintf("%05d", i), i}))
		}
		i := 0
		require.NoError(t, s.Each(func(r *record) error {
			require.Equal(t, i, r.N)
			i++
			return nil
		}))
		require.Equal(t, n, i)
		files, err := os.ReadDir(dir)
		require.NoError(t, err)
		require.Empty(t, files)
	}
}

// Sorting ends with an error, and does not hang, when there is no room, when it is interrupted, and when who reads has enough.
func TestSorterEnds(t *testing.T) {
	fill := func(s *spill.Sorter[record]) (err error) {
		for i := 0; i < 200_000 && err == nil; i++ {
			err = s.Add(record{fmt.Sprint(i), i})
		}
		return err
	}
	file := t.TempDir() + "/file"
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.Error(t, fill(spill.NewSorter(context.Background(), file+"/below", byName)))

	ctx, cancel := context.WithCancel(context.Background())
	s := spill.NewSorter(ctx, t.TempDir(), byName)
	cancel()
	require.ErrorIs(t, fill(s), context.Canceled)

	s = spill.NewSorter(context.Background(), t.TempDir(), byName)
	require.NoError(t, fill(s))
	require.ErrorIs(t, s.Each(func(*record) error { return io.ErrShortWrite }), io.ErrShortWrite)

	s = spill.NewSorter(context.Background(), t.TempDir(), byName)
	require.NoError(t, s.Add(record{}))
	s.Close()
}

// The set knows what was put into it, and nothing else, while it grows.
func TestHashes(t *testing.T) {
	h := spill.NewHashes()
	require.False(t, h.Has(nil))
	for i := range 50_000 {
		name := fmt.Appendf(nil, "gate-%d/log/%d", i%7, i)
		require.False(t, h.Has(name), i)
		require.False(t, h.Put(name), i)
		require.True(t, h.Put(name), i)
	}
	require.Equal(t, 50_000, h.Len())
	for i := range 50_000 {
		require.True(t, h.Has(fmt.Appendf(nil, "gate-%d/log/%d", i%7, i)), i)
		require.False(t, h.Has(fmt.Appendf(nil, "gate-%d/log/%d", i%7, i+50_000)), i)
	}
}

func TestNumbers(t *testing.T) {
	n := spill.NewNumbers()
	const many = 20_000
	for i := range many {
		n.Set(strconv.Itoa(i), int64(i))
	}
	for i := range many {
		n.Set(strconv.Itoa(i), int64(2*i))
	}
	require.Equal(t, many, n.Len())
	for i := range many {
		got, there := n.Get(strconv.Itoa(i))
		require.True(t, there)
		require.Equal(t, int64(2*i), got)
	}
	_, there := n.Get("none of them")
	require.False(t, there)
}
