#!/bin/sh
# Makes the pictures in docs/screenshots anew, from the demo's data: screenshots.sh [NAME...]
set -e
cd "$(dirname "$0")/.."
root="$PWD"; shots="$root/docs/screenshots"; here=/tmp/pier; rm -rf "$here"; mkdir "$here"
trap 'kill $site 2>/dev/null || true; rm -rf "$here"' EXIT
PATH="$root:$PATH"; export PATH
GEOMETRY=138x42; export GEOMETRY
cd "$here"
# The site stays up, so that the commands in the pictures really run.
envask demo --stay > demo.log 2>&1 & site=$!
until grep -q 'The site stays up' demo.log || ! kill -0 $site 2>/dev/null; do sleep 0.2; done
ENVASK_HOME="$here/envask-demo/home"; export ENVASK_HOME
ask=envask-demo/files/boarding-gateway.yaml
cp "$here/envask-demo/files/boarding-gateway.yaml" changed.yaml
sed -i 's/run: farectl tables/run: farectl tables --with-keys/' changed.yaml
want="${*:-demo parts draft approval probe times coverage device todo live brief compare pack inbox review show tidy redact page}"
has() { case " $want " in *" $1 "*) return 0;; esac; return 1; }
say() { echo "printf '\$ %s\n' \"$1\"; $1"; }
has demo && sh "$root/scripts/shot.sh" "$shots/demo.png" 6 "envask demo --dir d2"
has parts && FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/parts.png" 2 "$(say 'envask ask parts')"
has draft && FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/draft.png" 3 "$(say 'envask ask draft gate-2 gate.yaml --systems envask-demo/files/tallow-pier.yaml --yes'); echo; $(say envask)"
has approval && FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/approval.png" 2 "$(say 'envask ask approve changed.yaml')"
has probe && sh "$root/scripts/shot.sh" "$shots/probe.png" 3 "$(say 'envask probe')"
if has times; then
	raw="$here/envask-demo/home/cases/26031407/rounds/r1/raw"; mkdir logs
	cp "$raw/gate-2/files/var/log/boarding/gate.log" "$raw/fare-1/files/var/log/fare/access.log" "$raw/fare-1/files/var/log/fare/service.jsonl" logs
	gzip -c "$raw/gate-2/files/var/log/boarding/gate.log.1" > logs/gate.log.1.gz
	for m in 10 11 12; do echo "Mar 14 06:$m:07 gate-1 sshd[221$m]: Accepted publickey for svc"; done > logs/syslog
	printf '03/02/2026 06:12:00 pump on\n04/02/2026 06:12:30 pump off\n04/02/2026 05:14:00 pump on\n' > logs/pump.log
	sh "$root/scripts/shot.sh" "$shots/times.png" 3 "$(say 'envask times --zone Europe/Lisbon --as-of 2026-03-14 logs/*'); echo; $(say 'envask times --each --zone Europe/Lisbon --as-of 2026-03-14 logs/pump.log logs/syslog')"
fi
if has device; then # the answer of a device, and the session as it came
	raw="$here/envask-demo/home/cases/26031407/rounds/r1/raw/deck-stack"
	head -n 44 "$raw/commands/switch-state"/state-*.txt > clean.txt
	head -n 44 "$raw/sessions/switch-state.txt" | cat -v > session.txt
	FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/device.png" 2 "printf '%-76s%s\n' 'what the device answered' 'the session as it came'; echo; pr -m -t -w 152 -l 42 clean.txt session.txt | head -n 42"
fi
has coverage && FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/coverage.png" 7 "$(say "envask collect --listen 127.0.0.1 --note 'after the restart'")"
if has todo; then # a case of its own, in which nobody brought anything yet
	envask open 26031409 --ask "$ask" --systems envask-demo/files/tallow-pier.yaml --title 'gate 2 again' --around '2026-03-14 06:12' --margin 40m >/dev/null 2>&1
	FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/todo.png" 3 "$(say 'envask show --todo'); echo; $(say 'envask add envask-demo/files/gate-2-screen.png envask-demo/files/operator.har')"
	envask open 26031407 >/dev/null 2>&1 || true
fi
if has live; then # slow links, so that there is something to see
	sed -E 's/(name: (jump|gate-[0-9]|fare-1),.*)\}$/\1}/; s/limits: \{connections: 8\}/limits: {connections: 8, bandwidth: 90KiB}/; s/(name: fare-1,.*)\}$/\1, limits: {bandwidth: 70KiB}}/' \
		envask-demo/files/tallow-pier.yaml > envask-demo/files/slow.yaml
	envask open 26031408 --ask "$ask" --systems envask-demo/files/slow.yaml --title 'the same, over slow links' --around '2026-03-14 06:12' --margin 40m >/dev/null 2>&1
	sh "$root/scripts/shot.sh" "$shots/live.png" 11 "$(say 'envask collect --case 26031408')"
	envask open 26031407 >/dev/null 2>&1 || true
fi
if has brief; then
	envask open 26031410 --ask "$ask" --systems envask-demo/files/tallow-pier.yaml --title 'boarding gateway does not work' --around '2026-03-14 06:12' --margin 40m >/dev/null 2>&1
	envask collect --quiet --system gate-2,fare-1 >/dev/null 2>&1
	envask brief --take happens,since,affected,changed --set expected='the gate opens' --set how-often=always --set last-worked=yesterday \
		--set steps='hold any pass to the reader -> red' >/dev/null 2>&1
	FONT=10 GEOMETRY=156x46 sh "$root/scripts/shot.sh" "$shots/brief.png" 4 "$(say 'envask show') | head -12; echo; $(say 'envask brief')"
	envask open 26031407 >/dev/null 2>&1 || true
fi
has compare && sh "$root/scripts/shot.sh" "$shots/compare.png" 4 "$(say 'envask compare baseline r1 --system fare-1'); echo; $(say 'envask compare envask-demo/home/cases/26031407/rounds/r1/raw/gate-1/files/etc envask-demo/home/cases/26031407/rounds/r1/raw/gate-2/files/etc')"
# before another round is packed: the picture is of the first one
has review && sh "$root/scripts/shot.sh" "$shots/review.png" 3 "$(say 'envask review --rule keyed-secret,user --looked gate-2-screen.png')"
has pack && { has coverage || envask collect --quiet --listen 127.0.0.1 --note 'after the restart' >/dev/null 2>&1 || true; } && sh "$root/scripts/shot.sh" "$shots/pack.png" 5 "$(say 'envask pack'); echo; $(say 'envask submit --yes'); echo; $(say 'envask verify envask-demo/desk/incoming/*r2*.tar.gz')"
if has inbox; then # a device that can only push, and what it is told
	printf 'site: tallow-pier\nsystems:\n  - {name: annex-switch, roles: [annex], pushes: {as: annex, from: 127.0.0.1}}\n' > annex-pier.yaml
	cat > annex.yaml <<-'ASK'
	ask: annex
	vendor: Ostrevane Gate Systems
	items:
	  - id: annex-dump
	    of: [annex]
	    arrives: {files: 'dump-*', count: 3, quiet: 3s, type: ['dump write {inbox.ftp}dump-1', 'dump write {inbox.tftp}', 'dump send {inbox.http}dump-3']}
	ASK
	envask ask approve annex.yaml --digest "$(sha256sum annex.yaml | cut -c1-12)" >/dev/null 2>&1
	envask open 26031411 --ask annex.yaml --systems annex-pier.yaml --title 'the annex is silent' --around '2026-03-14 06:12' >/dev/null 2>&1
	head -c 300000 /dev/urandom > dump-1; head -c 120000 /dev/urandom > dump-3
	(sleep 3; for word in ftp http; do u=$(grep -o "$word://annex[^ ]*" inbox.log | head -1); curl -sS -T "$here/dump-${u##*dump-}" "$u"; sleep 0.3; done) >/dev/null 2>&1 &
	sh "$root/scripts/shot.sh" "$shots/inbox.png" 5 "echo '$ envask inbox --listen 127.0.0.1 --protocol ftp,tftp,http'; envask inbox --listen 127.0.0.1 --protocol ftp,tftp,http --for 20s 2>&1 | tee inbox.log"
	envask open 26031407 >/dev/null 2>&1 || true
fi
has show && sh "$root/scripts/shot.sh" "$shots/show.png" 2 "$(say 'envask cases'); echo; $(say 'envask show')"
has tidy && sh "$root/scripts/shot.sh" "$shots/tidy.png" 2 "$(say 'envask show r1 gate.log.1'); echo; $(say 'envask tidy --dry-run')"
has redact && sh "$root/scripts/shot.sh" "$shots/redact.png" 2 "$(say 'envask redact --rules'); echo; $(say 'envask redact envask-demo/home/cases/26031407/rounds/r1/raw/gate-2/files/etc/boarding/gate.toml')"
if has page; then
	mkdir page && tar -xzf envask-demo/desk/incoming/*_r1_2*.tar.gz -C page --strip-components=1
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync \
		--user-data-dir="$here/chromium" --hide-scrollbars --window-size=1280,800 --screenshot="$shots/page.png" "file://$here/page/START-HERE.html" >/dev/null 2>&1
fi
ls -l "$shots"
