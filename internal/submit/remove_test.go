package submit

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What an interrupted submit left goes, on every route that can take it away, and nothing else does.
func TestRemoveTakesAwayWhatWasLeft(t *testing.T) {
	all, _ := routes(t, &changeLog{}, nil)
	for _, o := range all {
		_, part := o.route.Place("26031407.tar.gz")
		require.NoError(t, os.WriteFile(filepath.Join(o.folder, "other"), []byte("of somebody else"), 0o600))
		require.NoError(t, o.route.Put(context.Background(), part, strings.NewReader("half of it"), 0))
		require.NoError(t, o.route.Remove(part), o.name)
		_, err := o.route.Size(part)
		require.ErrorIs(t, err, fs.ErrNotExist, o.name)
		require.ErrorIs(t, o.route.Remove(part), fs.ErrNotExist, o.name)
		require.FileExists(t, filepath.Join(o.folder, "other"), o.name)
	}
}

// Over the web: a file that a PUT left is deleted at its own address only, and an upload of tus is ended.
func TestRemoveOverTheWeb(t *testing.T) {
	d, dir, m := webDesk(t)
	r, err := Open(context.Background(), "web", "https://"+d.Address()+"/put/", m)
	require.NoError(t, err)
	defer r.Close()
	file := filepath.Join(dir, "26031407.tar.gz")
	require.NoError(t, os.WriteFile(file, []byte("half"), 0o600))
	remover := r.(Remover)
	require.ErrorIs(t, remover.Remove("https://"+d.Address()+"/elsewhere/26031407.tar.gz"), ErrStays)
	require.FileExists(t, file)
	err = remover.Remove("https://" + d.Address() + "/put/26031407.tar.gz")
	if err != nil { // a server that deletes nothing says so
		require.ErrorIs(t, err, ErrStays)
	} else {
		require.NoFileExists(t, file)
	}

	r, err = Open(context.Background(), "web", "tus+https://"+d.Address()+"/tus/", m)
	require.NoError(t, err)
	defer r.Close()
	require.ErrorIs(t, r.(Remover).Remove("https://"+d.Address()+"/tus/none-of-that-name"), fs.ErrNotExist)
}
