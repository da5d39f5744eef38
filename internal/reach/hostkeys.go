package reach

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/skeema/knownhosts"
	"golang.org/x/crypto/ssh"
	xknownhosts "golang.org/x/crypto/ssh/knownhosts"

	"envask/internal/fault"
)

// HostKeys decides which servers are trusted. A key that stands in no file is refused, unless the engineer named exactly
// its fingerprint for that system.
type HostKeys struct {
	Files  []string          // known_hosts files; those that do not exist are passed over
	Own    string            // file to which accepted keys are added; read too
	Accept map[string]string // system or route name to fingerprint ("SHA256:…"), or to AskPerson
	// Confirm asks a person whether a key that is not known is the right one; nil when nobody can be asked.
	Confirm  func(name, address, keyType, fingerprint string) (bool, error)
	asking   sync.Mutex
	answers  map[string]bool // of a person, by host and fingerprint
	recorded map[string]bool // host and fingerprint of what a person accepted in this run
	fresh    map[string]bool // systems whose key a person has just accepted
	mu       sync.Mutex
}

// check gives the callback and the host key algorithms to ask for (those of the keys that are known).
func (h *HostKeys) check(name, addr string, files []string) (ssh.HostKeyCallback, []string, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(files) == 0 {
		files = h.Files
	}
	var there []string
	for _, f := range append(append([]string(nil), files...), h.Own) {
		if _, err := os.Stat(f); err == nil {
			there = append(there, f)
		}
	}
	db, err := knownhosts.NewDB(there...)
	if err != nil {
		return nil, nil, fault.New(fault.Usage, "read known hosts", "", err.Error(), "fix or remove that line")
	}
	verify := db.HostKeyCallback()
	callback := func(hostname string, remote net.Addr, key ssh.PublicKey) error {
		err := verify(hostname, remote, key)
		if err == nil {
			return nil
		}
		return h.judge(name, hostname, key, err)
	}
	return callback, db.HostKeyAlgorithms(addr), nil
}

func (h *HostKeys) judge(name, hostname string, key ssh.PublicKey, err error) error {
	offered := ssh.FingerprintSHA256(key)
	var revoked *xknownhosts.RevokedError
	if errors.As(err, &revoked) {
		return &fault.Error{Class: fault.Refused, Target: name, Err: fmt.Errorf("%w: the key %s that %s shows was revoked (%s:%d)",
			ErrHostKey, offered, hostname, revoked.Revoked.Filename, revoked.Revoked.Line)}
	}
	var ke *xknownhosts.KeyError
	if errors.As(err, &ke) && len(ke.Want) > 0 {
		w := ke.Want[0]
		return &fault.Error{Class: fault.Refused, Target: name,
			Err: fmt.Errorf("%w: the key of %s has CHANGED: known is %s (%s:%d), shown is %s %s",
				ErrHostKey, hostname, ssh.FingerprintSHA256(w.Key), w.Filename, w.Line, key.Type(), offered),
			Hint: fmt.Sprintf("this may be an attack: ask the system's owner. Only if the change is confirmed, remove line %d of %s and "+
				"give --accept-key %s=%s",
				w.Line, w.Filename, name, offered)}
	}
	if h.Accept[name] == offered {
		return h.record(hostname, key)
	}
	if h.Confirm != nil && (h.Accept[name] == AskPerson || h.Accept[AcceptAll] == AskPerson) {
		yes, err := h.ask(name, hostname, key.Type(), offered)
		if err != nil {
			return err
		}
		if yes {
			h.mu.Lock()
			if h.fresh == nil {
				h.fresh = map[string]bool{}
			}
			h.fresh[name] = true
			h.mu.Unlock()
			return h.recordOnce(hostname, key)
		}
	}
	why := fmt.Errorf("%w: the key of %s is not known (%s %s)", ErrHostKey, hostname, key.Type(), offered)
	if given := h.Accept[name]; given != "" && given != AskPerson {
		why = fmt.Errorf("%w: %s shows %s %s, and --accept-key names %s", ErrHostKey, hostname, key.Type(), offered, given)
	}
	return &fault.Error{Class: fault.Refused, Target: name, Err: why,
		Hint: fmt.Sprintf("compare the fingerprint with the system's owner; if it is the same, give --accept-key %s=%s", name, offered)}
}

// ask asks a person about a key, once in a run: the answer holds for each further connection that shows the same key.
func (h *HostKeys) ask(name, hostname, keyType, offered string) (bool, error) {
	h.asking.Lock() // one question at a time
	defer h.asking.Unlock()
	k := hostname + " " + offered
	if yes, asked := h.answers[k]; asked {
		return yes, nil
	}
	yes, err := h.Confirm(name, hostname, keyType, offered)
	if err == nil {
		if h.answers == nil {
			h.answers = map[string]bool{}
		}
		h.answers[k] = yes
	}
	return yes, err
}

// accepted says, once, whether a person has just accepted a system's key: the server may not have waited so long.
func (h *HostKeys) accepted(name string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	was := h.fresh[name]
	delete(h.fresh, name)
	return was
}

// recordOnce records a key that a person accepted.
func (h *HostKeys) recordOnce(hostname string, key ssh.PublicKey) error {
	line := hostname + " " + ssh.FingerprintSHA256(key)
	h.mu.Lock()
	known := h.recorded[line]
	if h.recorded == nil {
		h.recorded = map[string]bool{}
	}
	h.recorded[line] = true
	h.mu.Unlock()
	if known {
		return nil
	}
	return h.record(hostname, key)
}

// record adds an accepted key to our own file.
func (h *HostKeys) record(hostname string, key ssh.PublicKey) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err := os.MkdirAll(filepath.Dir(h.Own), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(h.Own, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(xknownhosts.Line([]string{xknownhosts.Normalize(hostname)}, key) + "\n")
	return errors.Join(err, f.Close())
}

// AskPerson stands in place of a fingerprint where a person is to be asked; AcceptAll in place of a name for every system.
const (
	AskPerson = "?"
	AcceptAll = "all"
)

// ParseAccept reads "NAME=SHA256:…" as given to --accept-key; a name alone means that a person is asked.
func ParseAccept(given []string) (map[string]string, error) {
	m := map[string]string{}
	for _, g := range given {
		name, print, ok := strings.Cut(g, "=")
		if !ok && name != "" {
			m[name] = AskPerson
			continue
		}
		if !ok || name == "" || !strings.HasPrefix(print, "SHA256:") {
			return nil, fault.New(fault.Usage, "--accept-key", g, "expected NAME=SHA256:FINGERPRINT, or NAME alone (or all) to be asked",
				"")
		}
		m[name] = print
	}
	return m, nil
}
