#!/bin/sh
# Runs every fuzz target for a while, or for so many inputs: fuzz-all.sh 20s, fuzz-all.sh 3000x. As many at a time as there are processors,
# each with one worker.
set -e
time="${1:-20s}"
dir="$(mktemp -d)"; trap 'rm -rf "$dir"' EXIT
grep -rlE '^func Fuzz' --include='*_test.go' internal | xargs -n 1 dirname | sort -u | while read -r pkg; do
	CGO_ENABLED=0 go test -c -fuzz . -o "$dir/$(echo "$pkg" | tr / _).test" "./$pkg"
	sed -nE 's/^func (Fuzz[A-Za-z0-9]*)\(.*/\1/p' "$pkg"/*_test.go | while read -r target; do echo "$pkg $target"; done
done > "$dir/targets"
export dir time
< "$dir/targets" xargs -P "$(getconf _NPROCESSORS_ONLN)" -L 1 sh -c '
	out="$dir/$2.$$.out"
	if (cd "$1" && "$dir/$(echo "$1" | tr / _).test" -test.run "^\$" -test.fuzz "^$2\$" -test.fuzztime "$time" -test.parallel 1 \
		-test.fuzzcachedir "$dir/cache/$1") > "$out" 2>&1; then
		echo "fuzz $2 in $1 for $time: $(tail -n 1 "$out")"
	else
		cat "$out"; echo "fuzz $2 in $1: FAILED"; exit 255
	fi' fuzz
