#!/bin/sh
# Speed against public tools in the same run; ratios above 1 mean that Envask is faster. What is not installed is left out.
set -e
root="$(cd "$(dirname "$0")/.." && pwd)"
E="$root/envask"; here="$root/.bench"; rm -rf "$here"; mkdir -p "$here/log"; cd "$here"
mib="${MIB:-96}"
(cd "$root" && CGO_ENABLED=0 go build -o "$here/genlog" ./scripts/genlog)
./genlog "$mib" > big.log
for i in 1 2 3 4 5 6 7 8; do ./genlog $((mib / 8)) $i > log/gate-$i.log; done
now() { date +%s%N; }
# best CMD: the best of three runs, in ms
best() { b=999999999; for _ in 1 2 3; do s=$(now); sh -c "$1" >/dev/null 2>&1 || { echo "failed: $1" >&2; exit 1; }; d=$((($(now) - s) / 1000000)); [ $d -lt $b ] && b=$d; done; echo $b; }
# versus ROUNDS CMD OTHER: the best of both, measured by turns, so that what else the machine does slows both: into mine and other, in ms
versus() { mine=999999999; other=999999999; for _ in $(seq "$1"); do
	s=$(now); sh -c "$2" >/dev/null 2>&1 || { echo "failed: $2" >&2; exit 1; }; d=$((($(now) - s) / 1000000)); [ $d -lt $mine ] && mine=$d
	s=$(now); sh -c "$3" >/dev/null 2>&1 || { echo "failed: $3" >&2; exit 1; }; d=$((($(now) - s) / 1000000)); [ $d -lt $other ] && other=$d
done; return 0; }
ratio() { awk "BEGIN { printf \"%.2f\", $1 / ($2 > 0 ? $2 : 1) }"; }
row() { printf '%-34s %8s ms   %-30s %8s ms   ratio %s   (aim %s)\n' "$1" "$2" "$3" "$4" "$(ratio "$4" "$2")" "$5"; }
pat='password=[^ ]+|token=[^ ]+|secret=[^ ]+|[a-z0-9.]+@[a-z0-9.]+|[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3}|Bearer [^ ]+|eyJ[A-Za-z0-9._-]+|Cookie: .*|operator=[^ ]+|://[^@ ]+@'
echo "processor: $(sed -n 's/^model name.*: //p' /proc/cpuinfo | head -1), $(nproc) cores; $mib MiB of log"
sync big.log # what was just written would be taken to the disk meanwhile
if command -v rg >/dev/null; then
	versus 10 "taskset -c 0 $E redact < big.log" "taskset -c 0 rg -j1 -o '$pat' big.log"
	row "redact, one core" "$mine" "rg -o, ten patterns" "$other" "1.2; portable 0.65"
fi
sedp=$(echo "$pat" | sed 's/|/\n/g' | sed 's/.*/-e "s~&~x~g"/' | tr '\n' ' ')
versus 3 "taskset -c 0 $E redact < big.log" "taskset -c 0 sed -E $sedp big.log"
row "redact, one core" "$mine" "sed -E, ten patterns" "$other" "9"
./genlog 32 1 dense > dense.log; sync dense.log
if command -v rg >/dev/null; then
	versus 5 "taskset -c 0 $E redact < dense.log" "taskset -c 0 rg -j1 -o '$pat' dense.log"
	row "redact, a find in every line" "$mine" "rg -o, ten patterns" "$other" "0.5"
fi
rm -f dense.log
export ENVASK_HOME="$here/home"
printf 'ask: bench\nvendor: V\nitems:\n  - {id: log, files: ["%s/log/*"]}\n' "$here" > ask.yaml
printf 'site: bench\nsystems: [{name: here, local: true}]\n' > systems.yaml
$E ask approve ask.yaml --digest "$(sha256sum ask.yaml | cut -c1-12)" >/dev/null
$E open 1 --ask ask.yaml --systems systems.yaml >/dev/null 2>&1
c=$(best "$E collect --quiet")
row "collect, local" "$c" "cp -r" "$(best "rm -rf copy; cp -r log copy")" "-"
# alone: the best of three runs of pack in ms, without the stage that reads the archive back; its JSON says how long each took
alone() { b=999999999; for _ in 1 2 3; do d=$($E pack --quiet --json | awk '/"stage"/ { s = $2 } /"seconds"/ && s !~ /checking/ { t += $2 } END { printf "%d", t * 1000 }'); [ "$d" -lt $b ] && b=$d; done; echo $b; }
p=$(best "$E pack --quiet")
if command -v pigz >/dev/null; then
	z=$(best "tar -cf - log | pigz -1 > x.tgz")
	row "pack, without the check" "$(alone)" "tar | pigz -1" "$z" "1"
	row "pack, with the check" "$p" "tar | pigz -1" "$z" "-"
	mkdir requests; for i in 1 2 3 4 5 6 7 8; do ./genlog $((mib / 8)) $i requests > requests/gate-$i.log; done
	sed 's#/log/#/requests/#; s/ask: bench/ask: requests/' ask.yaml > requests.yaml
	$E ask approve requests.yaml --digest "$(sha256sum requests.yaml | cut -c1-12)" >/dev/null
	$E open 4 --ask requests.yaml --systems systems.yaml >/dev/null 2>&1
	$E collect --quiet >/dev/null
	row "pack a log of requests, no check" "$(alone)" "tar | pigz -1" "$(best "tar -cf - requests | pigz -1 > x.tgz")" "1"
	$E pack --quiet --case 1 >/dev/null; rm -rf requests
fi
command -v zstd >/dev/null && row "pack, with the check" "$p" "tar | zstd -3 -T2" "$(best "tar -cf - log | zstd -3 -T2 > x.tzst")" "1 later"
command -v zip >/dev/null && row "pack --format zip" "$(best "$E pack --quiet --format zip")" "zip -r" "$(best "rm -f x.zip; zip -qr x.zip log")" "1"
command -v zstd >/dev/null && row "pack --format tar.zst" "$(best "$E pack --quiet --format tar.zst")" "tar | zstd -3 -T2" "$(best "tar -cf - log | zstd -3 -T2 > x.tzst")" "-"
./genlog 1024 > gib.log
printf 'ask: cut\nvendor: V\nitems:\n  - {id: log, files: ["%s/gib.log"]}\n' "$here" > cut.yaml
$E ask approve cut.yaml --digest "$(sha256sum cut.yaml | cut -c1-12)" >/dev/null
$E open 2 --ask cut.yaml --systems systems.yaml --from 2026-03-14T10:00:00Z --to 2026-03-14T10:10:00Z >/dev/null 2>&1
row "collect 10 minutes of 1 GiB" "$(best "$E collect --quiet")" "grep -E of the same minutes" "$(best "grep -E '^2026-03-14T10:0' gib.log > x.cut")" "50 ms in all"
head -c 268435456 gib.log | gzip > packed.log.gz
sed "s/gib.log/packed.log.gz/; s/ask: cut/ask: packed/" cut.yaml > packed.yaml
$E ask approve packed.yaml --digest "$(sha256sum packed.yaml | cut -c1-12)" >/dev/null
$E open 3 --ask packed.yaml --systems systems.yaml --from 2026-03-14T10:00:00Z --to 2026-03-14T10:10:00Z >/dev/null 2>&1
row "collect 10 minutes of a gzip member" "$(best "$E collect --quiet")" "gzip -dc" "$(best "gzip -dc packed.log.gz > x.cut")" "0.77"
t=$(best "$E times big.log")
printf 'times: %s lines in %s ms, %s million lines a second (read twice)\n' "$(wc -l < big.log)" "$t" "$(awk "BEGIN { printf \"%.1f\", $(wc -l < big.log) / 1000 / $t }")"
rm -f gib.log x.cut packed.log.gz
row "envask --help" "$(best "$E --help")" "true" "$(best true)" "8 ms"
printf 'program: %s bytes\n' "$(stat -c %s "$E")"
for cmd in "redact < big.log" "collect --quiet" "pack --quiet"; do
	printf 'memory, %-20s ' "$cmd"; sh -c "$E $cmd > /dev/null & p=\$!; m=0; while kill -0 \$p 2>/dev/null; do n=\$(sed -n 's/VmHWM:[^0-9]*\([0-9]*\).*/\1/p' /proc/\$p/status 2>/dev/null); [ \"\${n:-0}\" -gt \$m ] && m=\$n; sleep 0.02; done; echo \"\$((m / 1024)) MiB\"" 2>/dev/null
done
sh "$root/scripts/bench-ssh.sh" "$here" "$E"
cd "$root"
CGO_ENABLED=0 go test -run '^$' -bench . -benchtime 1s ./internal/redact ./internal/archive ./internal/stamp ./internal/logset ./internal/collect | grep Benchmark
