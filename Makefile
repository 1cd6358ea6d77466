# Zealous Ferry. The two commands: make demo, make test.
LISTEN ?= 127.0.0.1:8470
export PATH := $(PATH):/usr/sbin
CONSOLE := $(shell find console/src console/index.html console/package-lock.json console/vite.config.ts -type f 2>/dev/null)

VERSION := $(shell sed -n 's/^const Version = "\(.*\)"/\1/p' internal/bench/bench.go)
# Nothing of the folder that it is built in goes into the program.
GOBUILD := go build -trimpath -buildvcs=auto -ldflags=-buildid=

.PHONY: help demo demo-fresh test trials fuzz bench build types package twice clean
help:
	@echo "make demo        the demo's world: database, service, bench, simulated units, console"
	@echo "make demo-fresh  the same, from nothing"
	@echo "make test        all tests (about 17 minutes on two cores)"
	@echo "make trials      the full matrices of faults"
	@echo "make fuzz        every parser with random input, 30 s each"
	@echo "make bench       figures of the whole system, into var/bench.json"
	@echo "make package     a Debian package of the service, the bench and the command line, into dist"
	@echo "make twice       builds the newest commit in two folders, and compares the programs"
	@echo "make types       the API's description and the console's types, after a change of the API"

demo: build
	bin/ferry demo --listen $(LISTEN)

demo-fresh:
	rm -rf var/demo
	$(MAKE) demo

build: bin/ferry

bin/ferry: console/dist/index.html $(shell find . -name '*.go' -not -path './console/node_modules/*' -o -name '*.sql' -not -path './console/node_modules/*' -o -name '*.yaml' -not -path './console/node_modules/*') go.sum
	@scripts/need demo
	$(GOBUILD) -o bin/ferry ./cmd/ferry

console/node_modules/.installed: console/package-lock.json
	@scripts/need demo
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

console/dist/index.html: console/node_modules/.installed $(CONSOLE)
	cd console && npx vite build --logLevel warn
	touch console/dist/.keep $@

types: console/node_modules/.installed
	go run ./internal/service/describe > docs/openapi.json
	go run ./internal/service/describe names > console/src/api/names.ts
	go run ./internal/service/describe messages > docs/messages.md
	cd console && npm run --silent types

test: console/dist/index.html
	@scripts/need test
	@test -z "$$(gofmt -l cmd core internal sim console/*.go)" || { echo "gofmt would change:"; gofmt -l cmd core internal sim; exit 1; }
	go vet ./...
	cd console && npm run --silent typecheck && npm run --silent lint
	$(GOBUILD) -o bin/ferry ./cmd/ferry
	go test -parallel 8 -timeout 20m ./...

trials: console/dist/index.html
	@scripts/need trials
	FERRY_TRIALS=full go test -parallel 8 -timeout 120m ./...

FUZZTIME ?= 30s
fuzz:
	@grep -rlE '^func Fuzz' --include=*_test.go core internal sim | while read -r f; do \
	  grep -oE '^func Fuzz[A-Za-z0-9]*' $$f | sed 's/func //' | while read -r name; do \
	    echo "$$name in $$(dirname $$f)"; \
	    go test ./$$(dirname $$f) -run '^$$' -fuzz "^$$name$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 10x || exit 1; \
	  done || exit 1; \
	done

bench: console/dist/index.html
	@scripts/need trials
	$(GOBUILD) -o bin/ferry ./cmd/ferry
	@mkdir -p var
	go run ./internal/measure -out var/bench.json

# Without the demo and simulated units: what is installed where units are worked on.
package: console/dist/index.html
	@scripts/need package
	rm -rf dist && mkdir dist
	$(GOBUILD) -tags field -o dist/ferry ./cmd/ferry
	scripts/notices > dist/NOTICES
	scripts/sbom dist
	packaging/build dist $(VERSION)

# The newest commit, built in two folders, gives the same program to the byte.
twice:
	@scripts/twice

clean:
	rm -rf bin dist var console/dist/* console/node_modules
