package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
)

// writeAll writes two files, reads them back, writes one more and closes.
func writeAll(t *testing.T, out *memory, format *Format, inspect Inspect) error {
	t.Helper()
	w := NewWriter(out, "26031407", t.TempDir(), format, Balanced, inspect)
	ctx := context.Background()
	require.NoError(t, w.Add(ctx, Sources(source("systems/gate-1/a.log", content(smallFile+7, 1)), source("systems/gate-1/b.log", content(100, 2)))))
	if err := w.ReadBack(ctx, nil); err != nil {
		return err
	}
	require.NoError(t, w.Add(ctx, Sources(source(ManifestName, []byte("{}")))))
	return w.Close(ctx, epoch)
}

func TestEveryFileIsSeenOnce(t *testing.T) {
	for i := range Formats {
		t.Run(Formats[i].Name, func(t *testing.T) {
			var seen []string
			err := writeAll(t, &memory{}, &Formats[i], func(name string, r io.Reader) error {
				head := make([]byte, 1) // the rest is read for it
				_, err := io.ReadFull(r, head)
				seen = append(seen, name)
				return err
			})
			require.NoError(t, err)
			require.Equal(t, []string{"systems/gate-1/a.log", "systems/gate-1/b.log", ManifestName, SumsName}, seen)

			stop := errors.New("stop")
			require.ErrorIs(t, writeAll(t, &memory{}, &Formats[i], func(string, io.Reader) error { return stop }), stop)
		})
	}
}

// A disk that keeps other bytes than it was given is noticed, whichever byte it is: those of an archive's heads and lists, which say
// nothing of the content, may differ (their times, say), but then the checksum of the archive is of what lies there.
func TestADiskThatChangesBytesIsNoticed(t *testing.T) {
	for i := range Formats {
		t.Run(Formats[i].Name, func(t *testing.T) {
			good := &memory{}
			require.NoError(t, writeAll(t, good, &Formats[i], nil))
			unseen := 0
			for at := 0; at < len(good.data); at += 1 + len(good.data)/400 {
				err := writeAll(t, &memory{lie: func(b []byte, from int64) {
					if n := int64(at) - from; n >= 0 && n < int64(len(b)) {
						b[n] ^= 0x20
					}
				}}, &Formats[i], nil)
				if err == nil {
					unseen++
				} else {
					require.ErrorIs(t, err, errNotRead, fmt.Sprint("byte ", at))
				}
			}
			require.Less(t, unseen, 8, "only in heads")
		})
	}
}

func TestReadingBackEndsWithTheContext(t *testing.T) {
	for i := range Formats {
		ctx, cancel := context.WithCancel(context.Background())
		w := NewWriter(&memory{}, "t", t.TempDir(), &Formats[i], Balanced, func(string, io.Reader) error { cancel(); return nil })
		require.NoError(t, w.Add(ctx, Sources(source("a", content(2*pieceSize, 1)))))
		err := w.ReadBack(ctx, nil)
		require.ErrorIs(t, err, context.Canceled)
	}
}
