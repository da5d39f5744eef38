# Everything that is done with Envask's sources. make demo and make test need nothing but Go.
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
LDFLAGS := -s -w -X envask/internal/cli.Version=$(VERSION)
GO      := CGO_ENABLED=0 go
FUZZTIME ?= 20s
PLATFORMS := linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64

.PHONY: build platforms cross dist demo test test-servers test-long lint vulncheck bench precision profile screenshots clean

build:
	$(GO) build -trimpath -tags nethttpomithttp2 -ldflags '$(LDFLAGS)' -o envask ./cmd/envask

# HTTP/2 is left out (nethttpomithttp2): uploads of one file gain nothing by it, and the program is half a megabyte smaller.
# Sources and tests fit together on all of these, which takes half a minute; tests run where the tests run.
platforms:
	$(GO) run ./scripts/platforms $(PLATFORMS)

# The program is made for all of these, and thrown away.
cross:
	@for t in $(PLATFORMS); do \
		echo "build $$t"; GOOS=$${t%/*} GOARCH=$${t#*/} $(GO) build -trimpath -tags nethttpomithttp2 -ldflags '$(LDFLAGS)' -o /dev/null ./cmd/envask || exit 1; \
	done

# Programs for all platforms, with their checksums, and the manual pages, in dist/.
dist:
	rm -rf dist && mkdir dist
	@for t in $(PLATFORMS); do \
		ext=$$(case $$t in windows/*) echo .exe;; esac); echo "dist/envask-$${t%/*}-$${t#*/}$$ext"; \
		GOOS=$${t%/*} GOARCH=$${t#*/} $(GO) build -trimpath -tags nethttpomithttp2 -ldflags '$(LDFLAGS)' -o dist/envask-$${t%/*}-$${t#*/}$$ext ./cmd/envask || exit 1; \
	done
	go run ./scripts/man dist/man
	cd dist && sha256sum envask-* man/* > SHA256SUMS

demo: build
	./envask demo

# Tests that want a real server run where one is installed; what was skipped is said at the end.
test:
	@$(GO) test -timeout 20m -parallel 4 -json ./... > .test.json; code=$$?; \
	go run ./scripts/testreport .test.json; rm -f .test.json; exit $$code

# Debian's servers for the tests. This is the only target that installs anything, and it needs root.
test-servers:
	sh scripts/install-servers.sh

# Kill tests, huge inputs, full disks, and a while of fuzzing for each target.
test-long:
	@{ ENVASK_LONG=1 $(GO) test -timeout 30m -parallel 6 -run 'TestKilled|TestInterrupt|TestDiskFull|TestMany|TestHuge' -v ./internal/cli; echo $$? > .long.code; } | \
	grep -vE '^(=== |    --- PASS)'; code=$$(cat .long.code); rm -f .long.code; exit $$code
	sh scripts/fuzz-all.sh $(FUZZTIME)

lint:
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	$(GO) vet ./...
	$(GO) run honnef.co/go/tools/cmd/staticcheck@v0.8.2 ./...
	$(GO) run github.com/securego/gosec/v2/cmd/gosec@v2.30.0 -quiet -fmt text -exclude=G104,G115,G304 -exclude-dir=internal/standin -exclude-dir=internal/reach/reachtest -exclude-dir=internal/redact ./cmd/... ./internal/...

# Of gosec three rules are left out, after each of their findings was looked at: errors of closing what was only read (G104), sizes that
# were checked where they came in and lengths of our own (G115), and files named by the engineer or by names that were checked (G304,
# see internal/durable). internal/redact takes it minutes; it was run once, and that package opens nothing but its own temporary files. govulncheck asks a service of the network, which lint does without: make vulncheck.
vulncheck:
	$(GO) run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./...

bench: build
	sh scripts/bench.sh

# What redaction replaces in the texts of this machine, with samples to read (docs/redaction-quality.md).
precision:
	$(GO) run ./scripts/precision

# What the compiler is told of where the time goes (cmd/envask/default.pgo), from the benchmarks.
profile:
	sh scripts/profile.sh

screenshots: build
	sh scripts/screenshots.sh

clean:
	rm -rf envask envask-demo dist .bench
