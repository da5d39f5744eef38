#!/bin/sh
# Speed over SSH on loopback, against public tools in the same run: many systems against ssh and tar, one large file against scp.
# bench-ssh.sh FOLDER: the built program and the log generator are where bench.sh left them.
set -e
here="$1"; E="$2"
command -v sshd >/dev/null || [ -x /usr/sbin/sshd ] || { echo "no OpenSSH server: the benchmark over SSH is left out"; exit 0; }
cd "$here"; rm -rf ssh; mkdir -p ssh many; cd ssh
n="${SYSTEMS:-100}"
ssh-keygen -q -t ed25519 -N '' -f host; ssh-keygen -q -t ed25519 -N '' -f key
cat key.pub > authorized; chmod 600 authorized
port=$((20000 + $$ % 20000))
printf 'Port %s\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s/authorized\nPidFile none\nStrictModes no\nUsePAM no\nMaxStartups 300\nSubsystem sftp internal-sftp\n' "$port" "$PWD" "$PWD" > sshd.conf
[ "$(id -u)" = 0 ] && mkdir -p /run/sshd
/usr/sbin/sshd -D -f sshd.conf -E log & server=$!
trap 'kill $server 2>/dev/null || true' EXIT
printf '[127.0.0.1]:%s %s\n' "$port" "$(cut -d' ' -f1,2 host.pub)" > known
sleep 0.5
me="$(id -un)"
printf 'Host *\n User %s\n Port %s\n IdentityFile %s/key\n IdentitiesOnly yes\n UserKnownHostsFile %s/known\n' "$me" "$port" "$PWD" "$PWD" > config
ssh -F config 127.0.0.1 true || { echo "the account $me cannot log in to its own server: the benchmark over SSH is left out"; exit 0; }
for i in $(seq 1 20); do ../genlog 0.1 "$i" > "../many/gate-$i.log" 2>/dev/null || head -c 100000 ../big.log > "../many/gate-$i.log"; done
head -c 2000000 ../big.log > ../many/gate.log
now() { date +%s%N; }
best() { b=999999999; for _ in 1 2 3; do s=$(now); sh -c "$1" >/dev/null 2>&1 || { echo "failed: $1" >&2; exit 1; }; d=$((($(now) - s) / 1000000)); [ $d -lt $b ] && b=$d; done; echo $b; }
ratio() { awk "BEGIN { printf \"%.2f\", $1 / ($2 > 0 ? $2 : 1) }"; }
row() { printf '%-34s %8s ms   %-30s %8s ms   ratio %s   (aim %s)\n' "$1" "$2" "$3" "$4" "$(ratio "$4" "$2")" "$5"; }
export ENVASK_HOME="$PWD/home"
open() { # NUMBER NAME PATTERN SYSTEMS [ROUTES]
	printf 'ask: %s\nvendor: V\nvitals: no\nitems:\n  - {id: log, of: [gate], files: ["%s"], cut: none}\n' "$2" "$3" > "$2.yaml"
	{ printf 'site: bench\nknown-hosts: known\nsystems:\n'; for i in $(seq 1 "$4"); do printf '  - {name: gate-%s, roles: [gate], ssh: "%s@127.0.0.1:%s", key: key}\n' "$i" "$me" "$port"; done; } > "$2-systems.yaml"
	[ -z "$5" ] || printf 'routes:\n%s\n' "$5" >> "$2.yaml"
	$E ask approve "$2.yaml" --digest "$(sha256sum "$2.yaml" | cut -c1-12)" >/dev/null
	$E open "$1" --ask "$2.yaml" --systems "$2-systems.yaml" >/dev/null 2>&1
}
open 11 many "$here/many/*" "$n"
e=$(best "$E collect --quiet --case 11")
t=$(best "rm -rf got; mkdir got; seq 1 $n | xargs -P8 -I{} sh -c 'ssh -F $PWD/config 127.0.0.1 tar cz -C $here many > got/{}.tgz'")
row "collect from $n systems" "$e" "xargs -P8 ssh tar cz" "$t" "1"
head -c 268435456 /dev/urandom > ../large.bin
mkdir -p desk web
web=$((port + 1))
open 12 large "$here/large.bin" 1 "  - {name: desk, to: 'sftp://$me@127.0.0.1:$port$PWD/desk'}
  - {name: web, to: 'http://127.0.0.1:$web/'}"
printf 'credentials:\n  - {route: desk, host: 127.0.0.1, key: %s/key}\n' "$PWD" > home/credentials.yaml; cp known home/known_hosts
e=$(best "$E collect --quiet --case 12")
t=$(best "scp -q -F $PWD/config 127.0.0.1:$here/large.bin got.bin")
row "collect one file of 256 MiB" "$e" "scp" "$t" "1.5"
t=$(best "scp -q -F $PWD/config 127.0.0.1:$here/large.bin got.bin && sha256sum got.bin")
row "the same, with its checksum" "$e" "scp, then sha256sum" "$t" "1.5"
# What submit does besides: it verifies the archive before, and compares checksums after.
$E pack --quiet --case 12 --opaque log >/dev/null
a="$(ls home/cases/12/out/*.tar.gz | head -1)"
e=$(best "rm -f desk/*; $E submit --case 12 --quiet --yes --route desk")
row "submit 256 MiB by SFTP, with proof" "$e" "scp" "$(best "scp -q -F $PWD/config $a 127.0.0.1:$PWD/got.bin")" "1"
row "the same" "$e" "scp, sha256sum at both ends" "$(best "sha256sum $a; scp -q -F $PWD/config $a 127.0.0.1:$PWD/got.bin && ssh -F $PWD/config 127.0.0.1 sha256sum $PWD/got.bin")" "1"
if [ -x /usr/sbin/nginx ] && command -v curl >/dev/null; then
	printf 'daemon off; user %s; pid %s/nginx.pid; error_log %s/nginx.log;\nevents {}\nhttp { access_log off; client_body_temp_path %s/tmp; client_max_body_size 1g;\n server { listen 127.0.0.1:%s; location / { root %s/web; dav_methods PUT; } } }\n' "$me" "$PWD" "$PWD" "$PWD" "$web" "$PWD" > nginx.conf
	/usr/sbin/nginx -c "$PWD/nginx.conf" -e "$PWD/nginx.log" & nginx=$!
	trap 'kill $server $nginx 2>/dev/null || true' EXIT
	sleep 0.5
	e=$(best "rm -f web/*; $E submit --case 12 --quiet --yes --route web")
	row "submit 256 MiB by PUT, read back" "$e" "curl -T" "$(best "curl -sf -T $a http://127.0.0.1:$web/got.bin")" "1"
	row "the same" "$e" "curl -T, curl back, sha256sum" "$(best "sha256sum $a; curl -sf -T $a http://127.0.0.1:$web/got.bin && curl -sf http://127.0.0.1:$web/got.bin | sha256sum")" "1"
fi
printf 'memory, %-20s ' "$n systems"; sh -c "$E collect --quiet --case 11 > /dev/null & p=\$!; m=0; while kill -0 \$p 2>/dev/null; do k=\$(sed -n 's/VmHWM:[^0-9]*\([0-9]*\).*/\1/p' /proc/\$p/status 2>/dev/null); [ \"\${k:-0}\" -gt \$m ] && m=\$k; sleep 0.02; done; echo \"\$((m / 1024)) MiB\"" 2>/dev/null
[ -n "$KEEP" ] || rm -rf ../large.bin got got.bin home
