package seal

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"
)

func TestFile(t *testing.T) {
	dir := t.TempDir()
	plain := filepath.Join(dir, "a.tar.gz")
	data := bytes.Repeat([]byte("evidence "), 100_000)
	require.NoError(t, os.WriteFile(plain, data, 0o600))
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	r, err := Recipient(" " + id.Recipient().String() + "\n")
	require.NoError(t, err)
	told := int64(0)
	require.NoError(t, File(plain, plain+Ending, func(n int64) { told += n }, r))
	require.Equal(t, int64(len(data)), told)
	open := func(i age.Identity) ([]byte, error) {
		f, err := os.Open(plain + Ending)
		require.NoError(t, err)
		defer f.Close()
		out, err := age.Decrypt(f, i)
		if err != nil {
			return nil, err
		}
		return io.ReadAll(out)
	}
	got, err := open(id)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
	_, err = open(other)
	require.Error(t, err, "nobody else opens it")

	p, err := Passphrase("tallow pier at dawn")
	require.NoError(t, err)
	require.NoError(t, File(plain, plain+Ending, nil, p))
	scrypt, err := age.NewScryptIdentity("tallow pier at dawn")
	require.NoError(t, err)
	got, err = open(scrypt)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))

	require.Error(t, File(plain+"x", plain+"y", nil, r))
	require.Error(t, File(plain, filepath.Join(dir, "none", "x"), nil, r))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 2, "nothing half-made stays")
}

func TestRecipients(t *testing.T) {
	_, err := Recipient("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIlEe8SjXhRtMFTqeeDPIvWUynT7ZIzOZKhNyl3DCvsr desk")
	require.NoError(t, err)
	for text, want := range map[string]string{"": "is no public key", "age1nonsense": "no usable public key", "ssh-rsa AAAA": "no usable public key", "AGE-SECRET-KEY-1QQQ": "this is a private key"} {
		_, err := Recipient(text)
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), "SECRET-KEY-1")
	}
	_, err = Passphrase("short")
	require.ErrorContains(t, err, "fewer than 12")
	_, err = Recipient(strings.Repeat("x", 1000))
	require.Less(t, len(err.Error()), 200)
}
