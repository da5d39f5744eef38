#!/bin/sh
# Installs Debian's servers, against which the tests run for real, and makes the account that tests of sudo log in to. As root.
set -e
want=""
[ -x /usr/sbin/sshd ] || want="$want openssh-server"
[ -x /usr/bin/sudo ] || want="$want sudo"
command -v busybox >/dev/null || want="$want busybox"
command -v journalctl >/dev/null || want="$want systemd"
[ -x /usr/sbin/nginx ] || want="$want nginx-light"
[ -x /usr/sbin/proftpd ] || want="$want proftpd-core proftpd-mod-crypto"
[ -x /usr/sbin/exim4 ] || want="$want exim4-daemon-light"
command -v 7zz >/dev/null || want="$want 7zip"
command -v unzip >/dev/null || want="$want unzip"
command -v zstd >/dev/null || want="$want zstd"
[ -x /lib/systemd/systemd-journal-remote ] || want="$want systemd-journal-remote"
[ -x /usr/sbin/apache2 ] || want="$want apache2"
[ -x /usr/bin/pg_ctlcluster ] || want="$want postgresql"
[ -x /usr/sbin/mariadbd ] || want="$want mariadb-server"
[ -x /usr/bin/redis-server ] || want="$want redis-server"
[ -x /usr/sbin/haproxy ] || want="$want haproxy"
[ -x /usr/sbin/named ] || want="$want bind9"
[ -x /usr/sbin/smbd ] || want="$want samba"
[ -x /usr/sbin/chronyd ] || want="$want chrony"
[ -x /usr/sbin/telnetd ] || want="$want inetutils-telnetd"
command -v socat >/dev/null || want="$want socat"
command -v strace >/dev/null || want="$want strace"
command -v tmux >/dev/null || want="$want tmux"
command -v curl >/dev/null || want="$want curl"
[ -x /usr/lib/wine/wine64 ] || want="$want wine64"
command -v x86_64-w64-mingw32-dlltool >/dev/null || want="$want binutils-mingw-w64-x86-64"
command -v chromium >/dev/null || want="$want chromium"
if [ -z "$want" ] && id envask-test >/dev/null 2>&1 && [ -f /etc/sudoers.d/envask-test ]; then
	echo "all servers are there"
	exit 0
fi
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
	echo "cannot install$want here: needs root on Debian" >&2
	exit 1
fi
export DEBIAN_FRONTEND=noninteractive
if [ -n "$want" ]; then
	apt-get update -qq
	# The tests start servers of their own on loopback ports; nothing is to run by itself.
	printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d && chmod +x /usr/sbin/policy-rc.d
	trap 'rm -f /usr/sbin/policy-rc.d' EXIT
	apt-get install -y -qq --no-install-recommends $want >/dev/null
fi
# An ordinary account that may use sudo without a password: logs that only root may read are read through it.
id envask-test >/dev/null 2>&1 || useradd --create-home --shell /bin/sh --password '*' envask-test
echo 'envask-test ALL=(root) NOPASSWD: /bin/sh' > /etc/sudoers.d/envask-test
chmod 0440 /etc/sudoers.d/envask-test
echo "installed$want"
