package collect

import "path"

// neverTaken lists paths that hold secrets of the system itself: private keys, password hashes, agent sockets. They are
// refused unless the engineer names them on the command line.
var neverTaken = []string{
	"etc/shadow", "etc/shadow-", "etc/gshadow", "etc/gshadow-", "etc/master.passwd", "etc/security/opasswd",
	"etc/ssh/ssh_host_*_key", "**/.ssh/id_*", "**/.ssh/*_key", "**/id_rsa", "**/id_dsa", "**/id_ecdsa", "**/id_ed25519",
	"**/*.key", "**/*-key.pem", "**/*.p12", "**/*.pfx", "**/*.jks", "**/*.keytab", "**/.gnupg/**", "**/.netrc",
	"**/private/*.pem", "proc/kcore", "dev/**", "**/Windows/System32/config/SAM",
}

// guarded says whether a file holds secrets of the system and was not named.
func guarded(name string, allowed []string) bool {
	if matchesAny(allowed, name) {
		return false
	}
	if ok, _ := path.Match("*.pub", path.Base(name)); ok {
		return false
	}
	return matchesAny(neverTaken, name)
}
