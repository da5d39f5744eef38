package seal

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
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
	require.NoError(t, File(t.Context(), plain, plain+Ending, func(n int64) { told += n }, r))
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
	require.NoError(t, File(t.Context(), plain, plain+Ending, nil, p))
	scrypt, err := age.NewScryptIdentity("tallow pier at dawn")
	require.NoError(t, err)
	got, err = open(scrypt)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))

	require.Error(t, File(t.Context(), plain+"x", plain+"y", nil, r))
	require.Error(t, File(t.Context(), plain, filepath.Join(plain, "x"), nil, r))
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

// What we sign, ssh-keygen takes; what ssh-keygen signs, we take. Whatever is changed, neither does.
func TestSignatures(t *testing.T) {
	dir := t.TempDir()
	message := []byte(`{"case": "26031407"}` + "\n")
	file := filepath.Join(dir, "manifest.json")
	require.NoError(t, os.WriteFile(file, message, 0o600))
	_, lacks := exec.LookPath("ssh-keygen")
	for name, key := range map[string]any{"ed25519": newEd25519(t), "ecdsa": newECDSA(t), "rsa": newRSA(t)} {
		signer, err := ssh.NewSignerFromKey(key)
		require.NoError(t, err)
		text, err := Sign(signer, message)
		require.NoError(t, err)
		by, err := CheckSignature(text, message)
		require.NoError(t, err, name)
		require.Equal(t, Signer(signer.PublicKey()), by)
		if name == "ed25519" {
			again, err := Sign(signer, message)
			require.NoError(t, err)
			require.Equal(t, text, again, "the same bytes each time")
		}
		_, err = CheckSignature(text, append(bytes.Clone(message), 'x'))
		require.ErrorContains(t, err, "does not belong to this text")
		for _, bad := range []string{"", text[:200], strings.Replace(text, "BEGIN", "BEGAN", 1), signatureBegin + "\n!\n" + signatureEnd, signatureBegin + signatureEnd} {
			_, err = CheckSignature(bad, message)
			require.Error(t, err)
		}
		if lacks != nil {
			t.Log("SKIPPED: no ssh-keygen here")
			continue
		}
		allowed := filepath.Join(dir, "allowed")
		require.NoError(t, os.WriteFile(allowed, append([]byte("svc@merrowick.example "), ssh.MarshalAuthorizedKey(signer.PublicKey())...), 0o600))
		require.NoError(t, os.WriteFile(file+".sig", []byte(text), 0o600))
		verify := func() ([]byte, error) {
			cmd := exec.Command("ssh-keygen", "-Y", "verify", "-f", allowed, "-I", "svc@merrowick.example", "-n", Namespace, "-s", file+".sig")
			in, err := os.Open(file)
			require.NoError(t, err)
			defer in.Close()
			cmd.Stdin = in
			return cmd.CombinedOutput()
		}
		out, err := verify()
		require.NoError(t, err, "%s: %s", name, out)

		block, err := ssh.MarshalPrivateKey(key.(crypto.PrivateKey), "")
		require.NoError(t, err)
		private := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(private, pem.EncodeToMemory(block), 0o600))
		require.NoError(t, os.Remove(file+".sig"))
		out, err = exec.Command("ssh-keygen", "-q", "-Y", "sign", "-f", private, "-n", Namespace, file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		theirs, err := os.ReadFile(file + ".sig")
		require.NoError(t, err)
		by, err = CheckSignature(string(theirs), message)
		require.NoError(t, err, name)
		require.Equal(t, Signer(signer.PublicKey()), by)
		require.NoError(t, os.Remove(file+".sig"))
		out, err = exec.Command("ssh-keygen", "-q", "-Y", "sign", "-f", private, "-n", "file", file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		theirs, err = os.ReadFile(file + ".sig")
		require.NoError(t, err)
		_, err = CheckSignature(string(theirs), message)
		require.ErrorContains(t, err, "one for something else")
	}
}

func newEd25519(t *testing.T) ed25519.PrivateKey {
	_, k, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return k
}

func newECDSA(t *testing.T) *ecdsa.PrivateKey {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return k
}

func newRSA(t *testing.T) *rsa.PrivateKey {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return k
}

func FuzzCheckSignature(f *testing.F) {
	f.Add(signatureBegin + "\nU1NIU0lHAAAAAQ==\n" + signatureEnd)
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := CheckSignature(text, []byte("x")); err == nil {
			t.Fatal("nobody signed this")
		}
	})
}
