# Everything from two commands: make demo, make test. Needs Go, Node and npm.
# The version of the newest part of CHANGELOG.md, and the commit.
RELEASE := $(shell sed -n 's/^## \([0-9][0-9.]*\).*/\1/p' CHANGELOG.md | head -1)
VERSION := $(RELEASE)+$(shell git describe --always --exclude='*' --dirty=.changed 2>/dev/null || echo unknown)
COMMIT  := $(shell git rev-parse HEAD 2>/dev/null || echo unknown)
DATE    := $(shell git show -s --format=%cI HEAD 2>/dev/null || echo unknown)
LDFLAGS := -s -w -X main.version=$(VERSION) -X amber.example/gatekeeper/internal/cli.Commit=$(COMMIT) -X amber.example/gatekeeper/internal/cli.Date=$(DATE)
STATE   ?= state/demo
export CGO_ENABLED = 0
# The same for all that is compiled, so that it is compiled once; besides what the machine asks for.
export GOFLAGS := $(strip $(filter-out -trimpath,$(GOFLAGS)) -trimpath)

GO_SOURCES  := $(shell find cmd internal demo web -name '*.go' -not -path '*/node_modules/*' -not -name '*_test.go') \
               go.mod go.sum $(shell find internal/store/migrations demo/files -type f) demo/larkfell.yaml
WEB_SOURCES := $(shell find web/src web/public -type f -not -name '*.gen.ts') web/index.html web/vite.config.ts web/tsconfig.json

.PHONY: siege build demo demo-reset test lint lint-texts lint-code bench fuzz clean tools

# Where goroutines meet, and what drives them from outside, is tested under the race detector: cgo for tests alone.
RACED := ./internal/service ./internal/files ./internal/smb ./internal/nfs ./internal/onc ./test

# What is translated from C, and what hashes passwords, is left out of the race detector, and of the check of each pointer that comes with it: both
# take most of the time there, and say nothing of ours.
UNCHECKED := -gcflags='modernc.org/sqlite=-d=checkptr=0' -gcflags='modernc.org/sqlite/lib=-d=checkptr=0 -race=false' -gcflags='modernc.org/libc/...=-d=checkptr=0 -race=false' \
	-gcflags='golang.org/x/crypto/argon2=-race=false' -gcflags='golang.org/x/crypto/blake2b=-race=false'

build: bin/amber

bin/amber: $(GO_SOURCES) web/dist/index.html
	go build -buildvcs=false -ldflags '$(LDFLAGS)' -o $@ ./cmd/amber

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The console's types come from the API's own document.
web/src/api/schema.gen.ts: web/node_modules/.package-lock.json $(shell find internal/api -name '*.go')
	go run ./internal/api/document > web/openapi.json
	cd web && npm run --silent types
	@touch $@

web/dist/index.html: web/node_modules/.package-lock.json web/src/api/schema.gen.ts $(WEB_SOURCES)
	cd web && npm run --silent build

demo: bin/amber
	@bin/amber serve --demo --state $(STATE)

demo-reset:
	rm -rf $(STATE)

# Debian's packages that the tests use; needs root where they are missing.
tools:
	@test/install-tools

lint: lint-texts lint-code

lint-texts: web/dist/index.html
	@if git ls-files --eol 2>/dev/null | grep '^i/-text' | grep -Ev '\.(png|fits)$$'; then echo 'lint: binaries that are no pictures do not belong in git' >&2; exit 1; fi
	@test -z "$$(gofmt -l cmd internal demo packaging test web/*.go | tee /dev/stderr)"
	cd web && npm run --silent lint

# Most of it is reading what we build upon, and so it is done beside the tests, with what they leave of the machine.
lint-code: web/dist/index.html
	nice -n 19 go vet ./...
	cd packaging && nice -n 19 go vet ./...
	nice -n 19 go tool staticcheck ./...

# What does one thing after the other is tested without it, and so is the lab, whose clients are emulated.
UNRACED := ^Test(ModesDecideAsTheKernelDoes|KilledAtEveryBoundary|KernelClient|EveryExample.*|Docs.*|NoErrorSpeaks.*|TheTableOfRoles|WhatMayStandInASet|BadInput.*|ASetIsOne|Packages)$$

.PHONY: test-raced test-unraced test-console
test: tools build lint-texts
	@$(MAKE) --no-print-directory --output-sync=target -j3 test-unraced test-raced lint-code
	@$(MAKE) --no-print-directory test-console

test-unraced:
	go test -timeout 25m $$(go list ./... | grep -v -x -F "$$(go list $(RACED))")
	go test -timeout 25m ./internal/files ./internal/service ./test -run '$(UNRACED)'

test-raced:
	CGO_ENABLED=1 go test -race $(UNCHECKED) -timeout 40m $(RACED) -skip '$(UNRACED)'

test-console:
	cd web && npm run --silent test
	cd web && AMBER=../bin/amber node --test --test-concurrency=2 e2e/*.test.mjs

# Packages for each architecture into dist/: the same commit gives the same bytes.
.PHONY: package
package: web/dist/index.html
	@test "$(DATE)" != unknown || { echo 'package: takes a checkout of git, of which packages have their moment' >&2; exit 1; }
	@mkdir -p dist/programs
	@for arch in amd64 arm64; do GOOS=linux GOARCH=$$arch go build -buildvcs=false -ldflags '$(LDFLAGS)' -o dist/programs/amber-$$arch ./cmd/amber || exit 1; done
	cd packaging && go run . -root .. -bin ../dist/programs -out ../dist -version '$(VERSION)' -made '$(DATE)'
	@cat dist/SHA256SUMS

# People who mean harm, for five minutes; a shorter form is part of make test.
siege: build
	go test ./test -run TestSiege -siege 5m -timeout 15m -v

bench: build
	go test ./internal/core/access -run '^$$' -bench . -benchtime 1s
	go test ./internal/core/audit -run '^$$' -bench . -benchtime 1s
	go test ./internal/meter -run '^$$' -bench . -benchtime 1s
	go test ./internal/files -run '^$$' -bench . -benchtime 1x
	go test ./internal/service -run '^$$' -bench . -benchtime 3x
	go test ./internal/smb -run '^$$' -bench . -benchtime 3x
	go test ./test/bench -run '^$$' -bench . -benchtime 1x -v

# Every parser that faces the network, and every text that is taken in, half a minute each.
fuzz:
	@for p in $$(grep -rl '^func Fuzz' internal --include='*_test.go' | xargs -n1 dirname | sort -u); do \
		for f in $$(grep -h -o '^func Fuzz[A-Za-z0-9]*' $$p/*_test.go | cut -c6-); do \
			echo "== $$p $$f"; go test ./$$p -run '^$$' -fuzz "^$$f\$$" -fuzztime 30s || exit 1; \
		done; \
	done

clean:
	rm -rf bin dist web/node_modules web/dist/assets web/dist/index.html web/src/api/schema.gen.ts web/openapi.json

# The pictures of the docs; needs Debian's chromium, xvfb, xterm and imagemagick.
.PHONY: screenshots
screenshots: build
	test/screenshots
