package reach

import (
	"bytes"
	"os"
	"path/filepath"

	"golang.org/x/crypto/ssh"
)

// defaultKeys are the key files that are tried where nothing names one, as OpenSSH does.
var defaultKeys = []string{"id_ed25519", "id_ecdsa", "id_rsa"}

// configKeys gives the signers for a system whose entry names no key: the files of the client configuration, then the
// agent's keys. With IdentitiesOnly the agent gives only the keys of those files. Without both the usual files are tried.
// A file that cannot be used is passed over: another may do.
func (d *Dialer) configKeys(r sshRoute) ([]ssh.Signer, error) {
	var fromAgent []ssh.Signer
	if d.Agent != nil {
		signers, err := d.Agent.Signers()
		if err != nil {
			return nil, err
		}
		fromAgent = signers
	}
	files := r.keys
	if len(files) == 0 && len(fromAgent) == 0 {
		for _, name := range defaultKeys {
			files = append(files, filepath.Join(d.HomeDir, ".ssh", name))
		}
	}
	var out []ssh.Signer
	used := map[string]bool{}
	add := func(s ssh.Signer) {
		if k := string(s.PublicKey().Marshal()); !used[k] {
			used[k] = true
			out = append(out, s)
		}
	}
	for _, file := range files {
		if s := heldBy(fromAgent, file); s != nil {
			add(s)
			continue
		}
		if _, err := os.Stat(file); err != nil {
			continue
		}
		if s, err := d.Signer(file); err == nil {
			add(s)
		}
	}
	if !r.onlyKeys {
		for _, s := range fromAgent {
			add(s)
		}
	}
	return out, nil
}

// heldBy gives the agent's key for a key file, by its public half.
func heldBy(signers []ssh.Signer, file string) ssh.Signer {
	if len(signers) == 0 {
		return nil
	}
	data, err := os.ReadFile(file + ".pub")
	if err != nil {
		return nil
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(data)
	if err != nil {
		return nil
	}
	for _, s := range signers {
		if bytes.Equal(s.PublicKey().Marshal(), public.Marshal()) {
			return s
		}
	}
	return nil
}

// withCertificate adds the certificate that stands beside a key file, if there is one.
func withCertificate(file string, s ssh.Signer) ssh.Signer {
	data, err := os.ReadFile(file + "-cert.pub")
	if err != nil {
		return s
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(data)
	if err != nil {
		return s
	}
	cert, ok := public.(*ssh.Certificate)
	if !ok {
		return s
	}
	if signer, err := ssh.NewCertSigner(cert, s); err == nil {
		return signer
	}
	return s
}
