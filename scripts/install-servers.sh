#!/bin/sh
# Installs Debian's servers, against which the tests run for real. As root.
set -e
want=""
[ -x /usr/sbin/sshd ] || want="$want openssh-server"
[ -n "$want" ] || { echo "all servers are there"; exit 0; }
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
	echo "cannot install$want here: needs root on Debian" >&2
	exit 1
fi
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq
# The tests start servers of their own on loopback ports; nothing is to run by itself.
printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d && chmod +x /usr/sbin/policy-rc.d
trap 'rm -f /usr/sbin/policy-rc.d' EXIT
apt-get install -y -qq --no-install-recommends $want >/dev/null
echo "installed$want"
