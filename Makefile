# Verimorph. `make help` says what there is.
SHELL := /bin/sh
GO ?= go
export CGO_ENABLED = 1

.PHONY: help demo demo-stop build test bench chaos mutants generate check clean packages web-deps shots

help: ## what there is
	@sed -n 's/^\([a-z-]*\):.*## \(.*\)/  make \1\t\2/p' $(MAKEFILE_LIST) | expand -t 20

demo: packages build ## run the demo in the foreground: PostgreSQL, simulated fleet, service, console
	@exec bin/demo start

demo-stop: ## stop a demo that runs from this folder
	@if [ -x bin/demo ]; then bin/demo stop; else echo "The demo was never built here."; fi

packages: ## install what is missing from Debian's packages
	@scripts/packages

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

web/dist/index.html: web/node_modules/.package-lock.json $(shell find web/src web/index.html web/vite.config.ts -type f 2>/dev/null) api/openapi.yaml
	cd web && npm run --silent build

build: web/dist/index.html ## build service, client, stand-ins and console into bin/
	@mkdir -p bin
	$(GO) build -o bin ./cmd/...

generate: web/node_modules/.package-lock.json ## make again what is generated from api/openapi.yaml
	cd api && $(GO) generate ./...
	cd web && npm run --silent types

check: web/dist/index.html ## formatting, vet, staticcheck, types, generated code; lists what is long
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck $$($(GO) list ./... | grep -v -e /api/gen -e /api/client)
	cd web && npm run --silent check
	@scripts/generated
	@$(GO) run ./internal/sizes

# The matrices strike in every step with every fault: the same code again and again, which the other tests walk under the race detector. The last four measure
# what users notice of a change, which the race detector falsifies.
MATRICES = TestStrikes|TestPowerIsLost|TestFaultsOf|TestSilenceForGood|TestEveryFault|TestRecordsAway|TestNothingIsSent|TestHostileInput|TestNothingIsLost|TestAClusterIsUpgraded|TestAPairGoesDown|TestNodesLoseNothing

# The end-to-end tests build the service with the race detector; the browser driver they use is not free of races.
test: packages build check ## all tests; race detector on, but for matrices
	$(GO) test -race -short -count=1 -parallel 12 -timeout 18m $$($(GO) list ./... | grep -v /e2e)
	$(GO) test -count=1 -parallel 12 -timeout 18m -run '$(MATRICES)' ./engine ./device/cli ./core/config
	$(GO) test -count=1 -parallel 5 -timeout 18m ./e2e
	$(GO) run ./cmd/mutants -sample 10 -base=false

bench: packages build ## measured promises, as ratios within one run
	$(GO) run ./bench

chaos: packages build ## 300 kills, 100 pauses, 100 cuts and 20 outages of the database over 50 devices
	bin/chaos

mutants: packages web/dist/index.html ## deliberate faults, each with the test that must fail; random ones in the core
	$(GO) run ./cmd/mutants -core

shots: packages build ## take the pictures of docs/screenshots anew
	@mkdir -p build/shots
	SHOTS=$(CURDIR)/build/shots $(GO) test -count=1 -timeout 10m -run 'TestConsole|TestAStack' ./e2e
	@for f in docs/screenshots/*.png; do n=build/shots/$${f##*/}; [ ! -f $$n ] || cp $$n $$f; done

clean: ## remove what was built; the demo's data stays
	rm -rf bin build web/node_modules web/dist/assets web/dist/index.html
