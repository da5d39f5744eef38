package reach

import (
	"slices"

	"golang.org/x/crypto/ssh"
)

// allowOld lets a connection use algorithms of SSH that are not safe any more, behind the safe ones: some devices know nothing else.
// It is done for a console whose entry in the systems file says legacy, and for nothing else.
func allowOld(c *ssh.ClientConfig) {
	safe, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	c.Ciphers = append(slices.Clone(safe.Ciphers), old.Ciphers...)
	c.KeyExchanges = append(slices.Clone(safe.KeyExchanges), old.KeyExchanges...)
	c.MACs = append(slices.Clone(safe.MACs), old.MACs...)
	if len(c.HostKeyAlgorithms) == 0 {
		c.HostKeyAlgorithms = append(slices.Clone(safe.HostKeys), old.HostKeys...)
	} else if slices.Contains(c.HostKeyAlgorithms, ssh.KeyAlgoRSASHA256) {
		c.HostKeyAlgorithms = append(slices.Clone(c.HostKeyAlgorithms), ssh.KeyAlgoRSA)
	}
}
