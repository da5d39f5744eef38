package reach_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/site"
	"envask/internal/standin"
)

// However a server asks for a password: one that it refuses is tried once, and is a refused login, which nothing heals.
func TestARefusedPasswordIsTriedOnce(t *testing.T) {
	for _, asks := range []standin.Asking{"", standin.AsksQuestions, standin.AsksBoth, standin.AsksAgain, standin.AsksNothing} {
		server, d, s := standIn(t, func(s *standin.Server) { s.Asks = asks })
		if asks != standin.AsksNothing {
			open(t, d, s).Close()
		}
		wrong := *s
		wrong.SSH.Password = "env:wrong"
		for range 3 {
			_, err := d.Open(context.Background(), &wrong)
			require.ErrorIs(t, err, reach.ErrLogin, "%q", asks)
			require.False(t, reach.MayHeal(err), "%q", asks)
			require.NotContains(t, err.Error(), "unexpected message", asks)
		}
		_, refused := server.Logins()
		require.Equal(t, map[bool]int{true: 0, false: 1}[asks == standin.AsksNothing], refused, "%q", asks)
	}
}

// A person is asked for the passphrase of a key three times, and no fourth.
func TestAPassphraseIsAskedForThreeTimes(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("open sesame"))
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	for wrong := range 4 {
		_, d, s := standIn(t, func(s *standin.Server) { s.Key, s.Password = signer.PublicKey(), "" })
		s.SSH.Password, s.SSH.Key = "", filepath.Join(t.TempDir(), "key")
		require.NoError(t, os.WriteFile(s.SSH.Key, pem.EncodeToMemory(block), 0o600))
		asked := 0
		d.Passphrase = func(string) ([]byte, error) {
			if asked++; asked > wrong {
				return []byte("open sesame"), nil
			}
			return []byte("mistyped"), nil
		}
		system, err := d.Open(context.Background(), s)
		require.Equal(t, min(wrong+1, 3), asked)
		if wrong < 3 {
			require.NoError(t, err)
			system.Close()
		} else {
			require.ErrorContains(t, err, "no passphrase of 3 opens the key")
		}
	}
}

// Where nothing else is there to log in with, a person is asked for the password, once for an account.
func TestAPasswordIsAskedFor(t *testing.T) {
	server, d, s := standIn(t, nil)
	s.SSH.Password = ""
	var asked []string
	answer := server.Password
	d.Password = func(system, account string) ([]byte, error) {
		asked = append(asked, system+" "+account)
		return []byte(answer), nil
	}
	for range 3 {
		open(t, d, s).Close()
	}
	require.Equal(t, []string{fmt.Sprintf("%s %s@127.0.0.1:%d", s.Name, server.User, server.Port())}, asked)

	_, d, s = standIn(t, nil)
	s.SSH.Password, answer, asked = "", "mistyped", nil
	d.Password = func(system, account string) ([]byte, error) {
		asked = append(asked, system)
		return []byte(answer), nil
	}
	for range 3 {
		_, err := d.Open(context.Background(), s)
		require.ErrorIs(t, err, reach.ErrLogin)
	}
	require.Len(t, asked, 1)
	_, d, s = standIn(t, nil)
	s.SSH.Password = ""
	d.Password = func(string, string) ([]byte, error) { return nil, nil }
	_, err := d.Open(context.Background(), s)
	require.ErrorContains(t, err, "none was typed in")
}

// One host key is one question in a run, also of a jump host that many systems are reached through, whatever the answer.
func TestAHostKeyIsAskedAboutOnce(t *testing.T) {
	for _, yes := range []bool{true, false} {
		jump, d, hop := standIn(t, func(s *standin.Server) { s.Forward = true })
		gate, _, far := standIn(t, nil)
		hop.Name, far.Name, far.Via = "jump", "gate", "jump"
		far.SSH.Password = hop.SSH.Password
		d.Site = &site.Site{Systems: []site.System{*hop, *far}}
		d.HostKeys = &reach.HostKeys{Own: filepath.Join(t.TempDir(), "own"), Accept: map[string]string{reach.AcceptAll: reach.AskPerson}}
		var mu sync.Mutex
		asked := map[string]int{}
		d.HostKeys.Confirm = func(_, address, _, fingerprint string) (bool, error) {
			mu.Lock()
			defer mu.Unlock()
			asked[fingerprint]++
			return yes, nil
		}
		var g sync.WaitGroup
		for i := range 12 {
			one := *far
			one.Name = fmt.Sprintf("gate-%d", i)
			g.Go(func() {
				for range 2 {
					system, err := d.Open(context.Background(), &one)
					if yes {
						require.NoError(t, err)
						system.Close()
					} else {
						require.ErrorIs(t, err, reach.ErrHostKey)
					}
				}
			})
		}
		g.Wait()
		require.Equal(t, 1, asked[jump.Fingerprint()])
		require.LessOrEqual(t, asked[gate.Fingerprint()], 1)
		if yes {
			lines, err := os.ReadFile(d.HostKeys.Own)
			require.NoError(t, err)
			require.Equal(t, 2, len(splitLines(string(lines))), "%s", lines)
		}
	}
}

func splitLines(s string) (out []string) {
	for len(s) > 0 {
		i := 0
		for i < len(s) && s[i] != '\n' {
			i++
		}
		out = append(out, s[:i])
		s = s[min(i+1, len(s)):]
	}
	return out
}

// What answers on a port that is no SSH server's is said, with host and port, and is not tried again.
func TestWhatAnswersOnAWrongPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = c.Write([]byte("220 mail.merrowick.example ESMTP\r\n"))
			c.Close()
		}
	}()
	_, d, s := standIn(t, nil)
	s.SSH.Port = l.Addr().(*net.TCPAddr).Port
	_, err = d.Open(context.Background(), s)
	require.ErrorIs(t, err, reach.ErrNotSSH)
	require.ErrorContains(t, err, fmt.Sprintf("127.0.0.1:%d: this is no SSH server: it answers \"220 mail.merrowick.example ESMTP\"", s.SSH.Port))
	require.Contains(t, fault.HintOf(err), "check the port")
	require.False(t, reach.MayHeal(err))
}
