# Tressik: build, test, measure.
COMMIT  := $(shell git rev-parse --short=12 HEAD 2>/dev/null || echo unknown)
LDFLAGS := -s -w -X main.commit=$(COMMIT)

export CGO_ENABLED = 0

.PHONY: build demo test race peers fuzz bench shots dist
build:
	go build -trimpath -ldflags '$(LDFLAGS)' -o bin/tressik ./cmd/tressik

# The demo organisation in demo/, made anew, and the whole story on it.
demo: build
	rm -rf demo
	bin/tressik demo --dir demo

# All tests, with the foreign programs they compare with. On CI a missing peer is a failure.
test: peers
	go vet ./...
	go test -count=1 -timeout 40m ./...

# The race detector over what serves and stores; it needs a C compiler, for this alone.
race: export CGO_ENABLED = 1
race:
	go test -race -short -count=1 ./internal/core/oauth ./internal/core/xmlsec ./internal/model/... ./internal/ledger/... ./internal/outside/... \
		./internal/stage/... ./internal/work/... ./internal/face/...

# Install the peers where that is possible; say what is missing where it is not.
peers:
	scripts/peers

# Each fuzz target for a while: make fuzz FUZZTIME=60s
FUZZTIME ?= 60s
fuzz:
	scripts/fuzz $(FUZZTIME)

# Measure, and write docs/benchmarks.md.
bench: build
	scripts/bench

# Take the pictures in docs/screenshots anew.
shots: build
	scripts/shots

# What is released: tarballs, Debian packages, SBOM and sums, in dist/.
dist:
	scripts/dist
