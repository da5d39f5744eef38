package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"envask/internal/fault"
	"envask/internal/patience"
	"envask/internal/site"
)

// Dialer reaches systems. What it needs from the outside (secrets, agent, prompts) comes through these fields, so that the
// core reads no environment and asks nobody.
type Dialer struct {
	Site       *site.Site // to look up jump hosts; may be nil
	HostKeys   *HostKeys
	Secret     func(site.Secret) (string, error)
	Passphrase func(keyFile string) ([]byte, error) // nil when nobody can be asked
	Agent      agent.ExtendedAgent                  // nil when there is none
	User       string                               // login name when the systems file gives none
	HomeDir    string                               // what ~ stands for
	Getenv     func(name string) string             // our own environment, for what commands on this machine may see of it; may be nil
	// Password asks for the password of an account where nothing else is there to log in with; nil when nobody can be asked.
	Password func(system, account string) ([]byte, error)
	Patience *patience.Clock // stands still while a person is asked; nil never does
	Config   *ClientConfig   // the engineer's own client configuration; may be nil

	mu        sync.Mutex
	jumps     map[string]*jump
	passwords map[site.Secret]*credential
	signers   map[string]*keyResult
	hops      map[string]*site.System  // jump hosts that the client configuration names
	seats     map[string]chan struct{} // of jump hosts whose connections are limited
	answers   map[string]string        // passwords that a person typed in, by account
	shown     map[string]string        // fingerprints of host keys by system
}

// jump is the connection to a jump host, which all that go through it share.
type jump struct {
	mu     sync.Mutex
	client *ssh.Client
	gone   atomic.Bool // the connection was lost since
	fails  int
	err    error
}

// jumpTries is how often a jump host is tried in one run: 200 systems behind a dead one must not each wait for it.
const jumpTries = 3

// credential is one password and what became of it: it is tried on one system at a time until it has worked once, and
// never again after it was refused, so that a wrong password cannot lock an account by being tried everywhere.
type credential struct {
	mu        sync.Mutex
	good      bool
	refusedBy string
}

type keyResult struct {
	once   sync.Once
	signer ssh.Signer
	err    error
}

// Close closes the connections to jump hosts.
func (d *Dialer) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	var errs []error
	for _, j := range d.jumps {
		j.mu.Lock()
		if j.client != nil && !j.gone.Load() {
			errs = append(errs, j.client.Close())
		}
		j.mu.Unlock()
	}
	d.jumps = nil
	return errors.Join(errs...)
}

// DialSSH connects and logs in to a system, through its jump hosts.
func (d *Dialer) DialSSH(ctx context.Context, s *site.System) (*ssh.Client, error) {
	client, err := d.dialSSH(ctx, s)
	if d.HostKeys.accepted(s.Name) && err != nil && ctx.Err() == nil {
		return d.dialSSH(ctx, s) // the question took longer than the server waits
	}
	return client, err
}

func (d *Dialer) dialSSH(ctx context.Context, s *site.System) (*ssh.Client, error) {
	ctx, err := enter(ctx, s.Name)
	if err != nil {
		return nil, &fault.Error{Target: s.Name, Err: err}
	}
	r := d.route(s)
	addr := net.JoinHostPort(r.host, strconv.Itoa(r.port))
	keyAddr := addr // under which the host key is known
	if r.hostKeyAlias != "" {
		keyAddr = net.JoinHostPort(r.hostKeyAlias, "22")
	}
	files := r.knownHosts
	if d.Site != nil && len(d.Site.KnownHosts) > 0 {
		files = nil
		for _, f := range d.Site.KnownHosts {
			files = append(files, d.Path(f))
		}
	}
	callback, algorithms, err := d.HostKeys.check(s.Name, keyAddr, files)
	if err != nil {
		return nil, err
	}
	if s.SSH.Key != "" { // a passphrase is asked for before a server waits
		if _, err := d.Signer(d.Path(s.SSH.Key)); err != nil {
			return nil, &fault.Error{Target: s.Name, Err: err}
		}
	}
	// The way through jump hosts comes first: a login there may wait for the same password.
	conn, err := d.connect(ctx, s, r, addr)
	if err != nil {
		return nil, err
	}
	conn = throttle(conn, s.Limits)
	methods, done, err := d.methods(s, r)
	if err != nil {
		conn.Close()
		return nil, err
	}
	user := r.user
	remember := func(host string, remote net.Addr, key ssh.PublicKey) error {
		err := callback(host, remote, key)
		if err == nil {
			d.mu.Lock()
			defer d.mu.Unlock()
			if d.shown == nil {
				d.shown = map[string]string{}
			}
			d.shown[s.Name] = ssh.FingerprintSHA256(key)
		}
		return err
	}
	config := &ssh.ClientConfig{User: user, Auth: methods, HostKeyCallback: remember, HostKeyAlgorithms: algorithms,
		ClientVersion: "SSH-2.0-Envask"}
	if c := s.Console; c != nil && c.Legacy && len(s.Ways) == 1 && s.Ways[0] == "console" {
		allowOld(config)
	}
	client, err := d.handshake(ctx, conn, keyAddr, config)
	done(err)
	return client, d.explain(s, user, err)
}

// Fingerprint gives the fingerprint of the trusted host key that a system showed in this run.
func (d *Dialer) Fingerprint(system string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.shown[system]
}

// connect opens the TCP connection, directly or through the jump host.
func (d *Dialer) connect(ctx context.Context, s *site.System, r sshRoute, addr string) (net.Conn, error) {
	via := s.Via
	if via == "" && len(r.jumps) > 0 {
		name, err := d.through(r.jumps)
		if err != nil {
			return nil, &fault.Error{Target: s.Name, Err: err}
		}
		via = name
	}
	leave, err := d.seat(ctx, via)
	if err != nil {
		return nil, &fault.Error{Target: s.Name, Err: err}
	}
	conn, err := d.connectVia(ctx, s, via, r, addr)
	if err != nil {
		leave()
		return nil, err
	}
	return seated{conn, leave}, nil
}

const whenUnreachable = "check that the address is right, that the system is up and that nothing on the way blocks the port"

func (d *Dialer) connectVia(ctx context.Context, s *site.System, via string, r sshRoute, addr string) (net.Conn, error) {
	if via != "" {
		return d.connectThrough(ctx, s, via, addr)
	}
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
	defer cancel()
	if r.proxyCommand != "" {
		conn, err := runProxy(ctx, r.proxyCommand)
		if err != nil {
			return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w: the proxy command of the client configuration: %w", ErrConnection,
				err)}
		}
		return conn, nil
	}
	var nd net.Dialer
	conn, err := nd.DialContext(ctx, "tcp", addr)
	if err != nil {
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w to %s: %w", ErrConnection, addr, plainNetError(err)),
			Hint: whenUnreachable}
	}
	return conn, nil
}

// connectThrough opens the connection through a jump host, which is reached first: there a person may be asked something.
func (d *Dialer) connectThrough(ctx context.Context, s *site.System, via, addr string) (net.Conn, error) {
	j, err := d.jump(ctx, via)
	if err != nil {
		var why *fault.Error
		hint := fault.HintOf(err)
		if errors.As(err, &why) {
			err = why.Err // the jump host is named here already
		}
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w through %s: %w", ErrConnection, via, err), Hint: hint}
	}
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
	defer cancel()
	conn, err := j.DialContext(ctx, "tcp", addr)
	if err != nil {
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w to %s through %s: %w", ErrConnection, addr, via,
			plainChannelError(err)), Hint: whenUnreachable}
	}
	return conn, nil
}

func (d *Dialer) jump(ctx context.Context, name string) (*ssh.Client, error) {
	if _, err := enter(ctx, name); err != nil { // before it waits for itself
		return nil, err
	}
	d.mu.Lock()
	if d.jumps == nil {
		d.jumps = map[string]*jump{}
	}
	j := d.jumps[name]
	if j == nil {
		j = &jump{}
		d.jumps[name] = j
	}
	d.mu.Unlock()
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.client != nil && !j.gone.Load() {
		return j.client, nil
	}
	if j.fails >= jumpTries || j.err != nil && !MayHeal(j.err) {
		return nil, j.err
	}
	s := d.hop(name)
	if s == nil {
		return nil, fmt.Errorf("there is no system %q", name)
	}
	client, err := d.DialSSH(context.WithValue(ctx, asJump{}, true), s)
	if err != nil {
		if ctx.Err() == nil {
			j.fails++
			j.err = err
		}
		return nil, err
	}
	j.client = client
	j.gone.Store(false)
	go func() { _ = client.Wait(); j.gone.Store(true) }()
	return client, nil
}

// handshake logs in, within ConnectTimeout, in which the time that a person is asked does not count: a peer that says nothing does not hold
// us.
func (d *Dialer) handshake(ctx context.Context, conn net.Conn, addr string, config *ssh.ClientConfig) (*ssh.Client, error) {
	inTime, cancel := d.Patience.WithTimeout(ctx, ConnectTimeout, ErrSilent)
	defer cancel()
	stop := context.AfterFunc(inTime, func() { conn.Close() })
	defer stop()
	heard := &hearing{Conn: conn}
	c, chans, reqs, err := ssh.NewClientConn(heard, addr, config)
	stop()
	if err != nil {
		conn.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.Is(context.Cause(inTime), ErrSilent) {
			return nil, fmt.Errorf("%w within %s", ErrSilent, ConnectTimeout)
		}
		return nil, heard.explain(err)
	}
	return ssh.NewClient(c, chans, reqs), nil
}

// hearing keeps the first bytes that a server says: what is no SSH server shows it there.
type hearing struct {
	net.Conn
	first []byte
}

// heardMost is how much of it is kept, in bytes.
const heardMost = 60

func (h *hearing) Read(b []byte) (int, error) {
	n, err := h.Conn.Read(b)
	if left := heardMost - len(h.first); left > 0 {
		h.first = append(h.first, b[:min(n, left)]...)
	}
	return n, err
}

// explain says what answered where a handshake failed because that is no SSH server (RFC 4253, section 4.2).
func (h *hearing) explain(err error) error {
	if len(h.first) == 0 || bytes.HasPrefix(h.first, []byte("SSH-")) || bytes.Contains(h.first, []byte("\nSSH-")) || refusedLogin(err) {
		return err
	}
	line, _, _ := bytes.Cut(h.first, []byte("\n"))
	return fmt.Errorf("%w: it answers %q", ErrNotSSH, strings.TrimSpace(string(line)))
}

func (d *Dialer) explain(s *site.System, user string, err error) error {
	var f *fault.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &f): // from the host key check
		return f
	case errors.Is(err, context.Canceled):
		return err
	case refusedLogin(err):
		return &fault.Error{Target: s.Name, Err: fmt.Errorf("%w for %s at %s", ErrLogin, user, s.SSH.Host),
			Hint: "check the user name and the key or password in the systems file; a refused password is not tried again in this run"}
	}
	at := s.SSH.Host
	if s.SSH.Port > 0 {
		at = net.JoinHostPort(at, strconv.Itoa(s.SSH.Port))
	}
	hint := ""
	if errors.Is(err, ErrNotSSH) {
		hint = "check the port in the systems file"
	}
	return &fault.Error{Target: s.Name, Err: fmt.Errorf("%w to %s: %w", ErrConnection, at, err), Hint: hint}
}

// methods lists the ways to log in, key before agent before password, and a function that is told how it went.
func (d *Dialer) methods(s *site.System, r sshRoute) ([]ssh.AuthMethod, func(error), error) {
	var out []ssh.AuthMethod
	if s.SSH.Key != "" {
		signer, err := d.Signer(d.Path(s.SSH.Key))
		if err != nil {
			return nil, nil, &fault.Error{Target: s.Name, Err: err}
		}
		out = append(out, ssh.PublicKeys(signer))
	} else if signers, err := d.configKeys(r); err != nil {
		return nil, nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("the SSH agent: %w", err)}
	} else if len(signers) > 0 {
		out = append(out, ssh.PublicKeys(signers...))
	}
	done := func(error) {}
	password, read := s.SSH.Password, d.Secret
	if len(out) == 0 && password == "" && d.Password != nil { // nothing else is there: a person may know one
		account := r.user + "@" + net.JoinHostPort(r.host, strconv.Itoa(r.port))
		password = site.Secret("typed:" + account)
		read = func(site.Secret) (string, error) { return d.typed(s.Name, account) }
	}
	if password != "" {
		c := d.credential(password)
		c.mu.Lock()
		if c.refusedBy != "" {
			by := c.refusedBy
			c.mu.Unlock()
			return nil, nil, &fault.Error{Target: s.Name,
				Err: fmt.Errorf("%w: the password was refused by %s before and is not tried again", ErrLogin, by)}
		}
		text, err := read(password)
		if err != nil {
			c.mu.Unlock()
			return nil, nil, &fault.Error{Target: s.Name, Err: err}
		}
		tried := false
		once := func() (string, error) { // a server that asks again has refused it: no second try, which would lock the account
			if tried {
				return "", errAskedAgain
			}
			tried = true
			return text, nil
		}
		out = append(out, ssh.PasswordCallback(once), ssh.KeyboardInteractive(answerAll(once)))
		if c.good {
			c.mu.Unlock()
		} else {
			done = func(err error) {
				c.good = tried && err == nil
				if tried && refusedLogin(err) {
					c.refusedBy = s.Name
				}
				c.mu.Unlock()
			}
		}
	}
	if len(out) == 0 {
		return nil, nil, &fault.Error{Target: s.Name, Err: ErrNoLogin,
			Hint: "give key: or password: in the systems file, or start an SSH agent"}
	}
	return out, done, nil
}

// typed asks a person for the password of an account, once in a run.
func (d *Dialer) typed(system, account string) (string, error) {
	d.mu.Lock()
	text, known := d.answers[account]
	d.mu.Unlock()
	if known {
		return text, nil
	}
	answer, err := d.Password(system, account)
	if err == nil && len(answer) == 0 {
		err = fmt.Errorf("%w: there is no key, agent or password, and none was typed in", ErrLogin)
	}
	if err != nil {
		return "", err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.answers == nil {
		d.answers = map[string]string{}
	}
	d.answers[account] = string(answer)
	return string(answer), nil
}

// errAskedAgain is why a login ends when a server wants the password once more.
var errAskedAgain = errors.New("the password was refused, and the server asks for it again")

// refusedLogin reports whether a handshake ended because the server did not let us in: also when it refuses (message 51, RFC 4252 section
// 5.1) where a question of a keyboard-interactive login (RFC 4256) was due, or hangs up after too many tries.
func refusedLogin(err error) bool {
	if err == nil {
		return false
	}
	if errors.Is(err, errAskedAgain) {
		return true
	}
	text := err.Error()
	for _, sign := range []string{"unable to authenticate", "unexpected message type 51", errAskedAgain.Error(),
		"Too many authentication failures"} {
		if strings.Contains(text, sign) {
			return true
		}
	}
	return false
}

// answerAll answers every hidden question of a keyboard-interactive login with the password.
func answerAll(password func() (string, error)) ssh.KeyboardInteractiveChallenge {
	return func(_, _ string, questions []string, echos []bool) ([]string, error) {
		answers := make([]string, len(questions))
		for i := range questions {
			if echos[i] {
				continue // a question that is shown is not the one for the password
			}
			text, err := password()
			if err != nil {
				return nil, err
			}
			answers[i] = text
		}
		return answers, nil
	}
}

func (d *Dialer) credential(ref site.Secret) *credential {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.passwords == nil {
		d.passwords = map[site.Secret]*credential{}
	}
	if d.passwords[ref] == nil {
		d.passwords[ref] = &credential{}
	}
	return d.passwords[ref]
}

// Signer reads a private key file once per run.
func (d *Dialer) Signer(file string) (ssh.Signer, error) {
	d.mu.Lock()
	if d.signers == nil {
		d.signers = map[string]*keyResult{}
	}
	r := d.signers[file]
	if r == nil {
		r = &keyResult{}
		d.signers[file] = r
	}
	d.mu.Unlock()
	r.once.Do(func() { r.signer, r.err = d.readKey(file) })
	return r.signer, r.err
}

// passphraseTries is how often a person is asked for the passphrase of a key.
const passphraseTries = 3

func (d *Dialer) readKey(file string) (ssh.Signer, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the key: %w", err)
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if !errors.As(err, &locked) {
		if err != nil {
			return nil, fmt.Errorf("%s is not a usable private key: %w", file, err)
		}
		return withCertificate(file, signer), nil
	}
	if d.Passphrase == nil {
		return nil, fmt.Errorf("the key %s has a passphrase and nobody can be asked for it; add it to an SSH agent", file)
	}
	for range passphraseTries {
		phrase, err := d.Passphrase(file)
		if err != nil {
			return nil, err
		}
		if signer, err = ssh.ParsePrivateKeyWithPassphrase(data, phrase); err == nil {
			return withCertificate(file, signer), nil
		}
	}
	return nil, fmt.Errorf("no passphrase of %d opens the key %s", passphraseTries, file)
}

// Path gives a path on this machine, with ~ for the home of the person.
func (d *Dialer) Path(p string) string {
	if p == "~" || strings.HasPrefix(p, "~/") {
		return filepath.Join(d.HomeDir, p[1:])
	}
	return p
}

// plainChannelError says what a jump host answered, without the words of the protocol.
func plainChannelError(err error) error {
	var open *ssh.OpenChannelError
	if errors.As(err, &open) {
		if open.Message == "" || open.Reason == ssh.Prohibited {
			return fmt.Errorf("the jump host lets nothing through (%s)", open.Reason)
		}
		return errors.New(strings.ToLower(open.Message))
	}
	return err
}

// plainNetError takes the repeated address out of a dial error.
func plainNetError(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		var sys *os.SyscallError
		if errors.As(op.Err, &sys) {
			return sys.Err
		}
		return op.Err
	}
	return err
}
