# The two commands that matter: make demo, make test.
SHELL := /bin/bash
.DEFAULT_GOAL := help
GO ?= go
CONSOLE := web/dist/console/index.html
CONSOLE_SOURCES := $(shell find web/src web/index.html web/vite.config.ts web/package-lock.json -type f 2>/dev/null)

.PHONY: help build release demo demo-reset test quick test-go test-measuring test-console lint lint-beside lint-go lint-web race fuzz clients crash faults endurance bench bench-trial api screenshots setup-demo setup-test clean

help: ## this list
	@awk -F ':.*## ' '/^[a-z-]+:.*## / {printf "  make %-14s %s\n", $$1, $$2}' Makefile

setup-demo:
	@scripts/fetch.sh demo

setup-test: bin/versitygw
	@scripts/fetch.sh test

# A real S3-compatible server, for tests only: scripts/s3server pins it.
bin/versitygw: scripts/s3server/go.sum
	@mkdir -p bin
	cd scripts/s3server && $(GO) build -o ../../$@ github.com/versity/versitygw/cmd/versitygw
	@touch $@

web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel error
	@touch $@

$(CONSOLE): web/node_modules/.installed $(CONSOLE_SOURCES)
	cd web && npx vite build --logLevel warn

build: $(CONSOLE) ## the binaries, with the console inside, in bin/
	$(GO) build -ldflags '$(SMALL)' -o bin/ ./cmd/...

# Without a table of symbols and without what debuggers read.
SMALL := -s -w

release: $(CONSOLE) ## the program as it is given away: small, and the same whoever builds it, in bin/release/
	$(GO) build -trimpath -ldflags '$(SMALL)' -o bin/release/ ./cmd/reshard
	GOOS=windows GOARCH=amd64 $(GO) build -trimpath -ldflags '$(SMALL)' -o bin/release/reshard.exe ./cmd/reshard
	GOOS=darwin GOARCH=arm64 $(GO) build -trimpath -ldflags '$(SMALL)' -o bin/release/reshard-macos ./cmd/reshard
	@ls -l bin/release

demo: ## a service with made-up servers and worlds; Ctrl-C ends it
	@$(MAKE) --no-print-directory setup-demo
	@$(MAKE) --no-print-directory build
	@bin/reshard demo --data .demo

demo-reset: ## forget what was done in the demo
	@scripts/demo-reset.sh

test: setup-test build ## everything
	@$(MAKE) --no-print-directory -j2 lint-beside test-measuring
	@$(MAKE) --no-print-directory test-go test-console

quick: setup-test build ## lint and unit tests, without the whole service (90 seconds)
	@$(MAKE) --no-print-directory -j2 lint-go lint-web
	$(TESTRUN) $(GO) test -short $$($(GO) list ./... | grep -v -e internal/e2e -e internal/bench)
	cd web && npx vitest run --dir src

# Temporary files in memory, one PostgreSQL for all packages, and nothing of the machine's own changed.
TESTRUN := $(GO) run ./scripts/testrun

# What measures has a core of its own: beside the other tests it would measure them.
MEASURING := TestNoFileCostsMoreThanItIsWorth

test-measuring:
	$(TESTRUN) $(GO) test -timeout 15m -run $(MEASURING) ./internal/e2e

lint-beside: # on the other core
	@GOMAXPROCS=1 $(MAKE) --no-print-directory -j1 lint-go lint-web

test-go:
	$(TESTRUN) $(GO) test -timeout 25m -parallel 16 -skip $(MEASURING) ./...
	RESHARD_BENCH=tiny $(TESTRUN) $(GO) test -timeout 8m -run '^$$' -bench '$(TRIALS)' -benchtime 1x ./internal/bench > /dev/null

# Benchmarks that are tried each time, to see that they still work; those of far hosts take minutes (make bench-trial).
TRIALS := Benchmark(Backup1GB|HundredBackups|StopWindow|Arrival1GB|Facts2GB|Servers2000|Sheet300Saves|Picture2000|Vault1GB|StalledConnections)$$

bench-trial: setup-test build ## every benchmark with kilobytes, to see that it still works (4 minutes)
	RESHARD_BENCH=tiny scripts/bench.sh

test-console: build
	cd web && $(GO) run ../scripts/testrun -alone npx vitest run

lint:
	@$(MAKE) --no-print-directory -j2 lint-go lint-web

lint-go: $(CONSOLE)
	@test -z "$$(gofmt -l cmd internal games scripts web/*.go)" || { gofmt -l cmd internal games scripts web/*.go; echo "run gofmt -w on these"; exit 1; }
	$(GO) run ./scripts/columns cmd games internal scripts web/embed.go
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	GOOS=windows GOARCH=amd64 $(GO) build -o /dev/null ./cmd/reshard

lint-web: web/node_modules/.installed
	cd web && npx tsc --noEmit && npx prettier --check --log-level warn . && npx oxlint --deny-warnings src e2e

api: ## the API's description and the console's types of it
	$(GO) run ./cmd/reshard api > docs/openapi.json
	$(GO) run ./cmd/reshard games schema > docs/profile.schema.json
	$(GO) run ./cmd/reshard providers schema > docs/provider.schema.json
	cd web && npx openapi-typescript ../docs/openapi.json -o src/api/schema.d.ts

clients: $(CONSOLE) ## the client for Windows and macOS, in bin/
	GOOS=windows GOARCH=amd64 $(GO) build -ldflags '$(SMALL)' -o bin/reshard.exe ./cmd/reshard
	GOOS=darwin GOARCH=arm64 $(GO) build -ldflags '$(SMALL)' -o bin/reshard-macos ./cmd/reshard

crash: setup-test build ## the service killed, and its hosts and lines gone, at every point of every kind of changeover (30 minutes)
	RESHARD_EVERY_POINT=1 $(TESTRUN) $(GO) test -timeout 90m -count 1 -parallel 24 -v -run 'TestKilled|TestASessionKilledAtEveryMove|TestALineThatBreaks|TestAPutOverFTP|TestEveryKindOnAnotherMachine' ./internal/e2e | grep -E '^(---|ok|FAIL)|points tried'
	RESHARD_EVERY_POINT=1 $(GO) test -timeout 20m -count 1 -parallel 12 -v -run 'EveryPoint|EveryFile|AHostThat' ./internal/executor | grep -E '^(---|ok|FAIL)|tried'

faults: setup-test build ## every fault from outside at every moment of a changeover, and how each ended (50 minutes)
	RESHARD_EVERY_FAULT=1 $(TESTRUN) $(GO) test -timeout 100m -parallel 20 -count 1 -v -run 'TestFaultsAround|TestItNeverSaysWhatIsNotSo|TestAPowerCut|TestADumpOfAnyMoment' ./internal/e2e | grep -vE "^ *(---|===)"

endurance: setup-test build ## 500 changeovers, here and on another machine, and what they leave behind (2 minutes)
	RESHARD_ENDURANCE=500 $(TESTRUN) $(GO) test -timeout 40m -count 1 -v -run TestEndurance ./internal/e2e

race: $(CONSOLE) ## the parts in which much goes on at once, under Go's race detector (needs gcc; 8 minutes)
	$(GO) test -race -timeout 20m ./internal/executor ./internal/vault ./internal/sshlink ./internal/hostfs/... \
		./internal/control/child ./internal/control/commands ./internal/observe ./internal/feed ./internal/client

fuzz: ## every decoder, settings format and the lint, a minute each
	scripts/fuzz.sh

bench: setup-test build ## speed, as ratios against plain tools, in one table (30 minutes); docs/operations.md explains
	@scripts/bench.sh
	cd web && $(GO) run ../scripts/testrun -alone npx vitest run --config vitest.budgets.config.ts

screenshots: build ## refresh docs/screenshots from demo data
	@scripts/setup.sh screenshots
	cd web && npx vitest run --config vitest.screenshots.config.ts
	scripts/cli-screenshots.sh

clean:
	rm -rf bin web/dist/console
