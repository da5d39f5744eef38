#!/bin/sh
# Makes cmd/envask/default.pgo, by which the compiler learns what is worth inlining, from the benchmarks. It takes a few minutes, and is
# worth it after changes in what takes the time: a profile that is a little old does no harm.
set -e
cd "$(dirname "$0")/.."
tmp="$(mktemp -d)"; trap 'rm -rf "$tmp"' EXIT
for p in redact archive stamp logset collect; do
	CGO_ENABLED=0 go test -trimpath -run '^$' -bench . -benchtime 2s -o "$tmp/$p.test" -cpuprofile "$tmp/$p.prof" "./internal/$p"
done
go run ./scripts/profile cmd/envask/default.pgo "$tmp"/*.prof
