#!/bin/sh
# Makes cmd/envask/default.pgo, by which the compiler learns what is worth inlining, from the benchmarks. It takes a few minutes, and is
# worth it after changes in what takes the time: a profile that is a little old does no harm.
set -e
cd "$(dirname "$0")/.."
tmp="$(mktemp -d)"; trap 'rm -rf "$tmp"' EXIT
profile() { CGO_ENABLED=0 go test -trimpath -run '^$' -bench "$2" -benchtime "$3" -o "$tmp/$1.test" -cpuprofile "$tmp/$1.prof" "./internal/$1"; }
profile redact . 6s # the more samples, the steadier what comes of it
for p in archive stamp logset collect; do profile $p . 1s; done
go run ./scripts/profile cmd/envask/default.pgo "$tmp"/*.prof
