# Everything from two commands: make demo, make test. Needs Go, Node and npm.
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
STATE   ?= state/demo
export CGO_ENABLED = 0

GO_SOURCES  := $(shell find cmd internal demo web -name '*.go' -not -path '*/node_modules/*' -not -name '*_test.go') \
               go.mod go.sum $(shell find internal/store/migrations demo/files -type f) demo/larkfell.yaml
WEB_SOURCES := $(shell find web/src web/public -type f -not -name '*.gen.ts') web/index.html web/vite.config.ts web/tsconfig.json

.PHONY: build demo demo-reset test lint bench clean tools

build: bin/amber

bin/amber: $(GO_SOURCES) web/dist/index.html
	go build -trimpath -ldflags '-s -w -X main.version=$(VERSION)' -o $@ ./cmd/amber

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

lint: web/dist/index.html
	@test -z "$$(gofmt -l cmd internal demo test web/*.go | tee /dev/stderr)"
	go vet ./...
	go tool staticcheck ./...
	cd web && npm run --silent lint

test: tools build lint
	go test -timeout 25m ./...
	cd web && AMBER=../bin/amber node --test e2e/

bench: build
	go test ./internal/core/access -run '^$$' -bench . -benchtime 1s
	go test ./internal/core/audit -run '^$$' -bench . -benchtime 1s
	go test ./internal/service -run '^$$' -bench . -benchtime 3x
	go test ./internal/smb -run '^$$' -bench . -benchtime 3x
	go test ./test/bench -run '^$$' -bench . -benchtime 1x -v

clean:
	rm -rf bin web/node_modules web/dist/assets web/dist/index.html web/src/api/schema.gen.ts web/openapi.json

# The pictures of the docs; needs Debian's chromium, xvfb, xterm and imagemagick.
.PHONY: screenshots
screenshots: build
	test/screenshots
