#!/bin/sh
# Runs every fuzz target for a while, or for so many inputs: fuzz-all.sh 20s, fuzz-all.sh 3000x
set -e
time="${1:-20s}"
grep -rlE '^func Fuzz' --include='*_test.go' internal | sort | while read -r file; do
	for target in $(sed -nE 's/^func (Fuzz[A-Za-z0-9]*)\(.*/\1/p' "$file"); do
		echo "fuzz $target in $(dirname "$file") for $time"
		CGO_ENABLED=0 go test "./$(dirname "$file")" -run '^$' -fuzz "^$target\$" -fuzztime "$time" >/tmp/fuzz.$$ 2>&1 || { cat /tmp/fuzz.$$; rm -f /tmp/fuzz.$$; exit 1; }
		tail -n 1 /tmp/fuzz.$$; rm -f /tmp/fuzz.$$
	done
done
