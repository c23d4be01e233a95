# Jardin. "make demo" to use it, "make test" to check it; "make help" lists the rest.

GO      ?= go
DATA    ?= .jardin
LISTEN  ?= 127.0.0.1:8470
# The core's packages whose tests take seconds.
CORE    := ./core ./core/carry ./core/colorspace ./core/geom ./core/memo ./core/raster ./core/settle ./core/treatment ./core/warp ./core/check ./core/fill
# Loops for the processor's vectors, where this version of Go has them for this processor; SIMD=0 builds without. What comes out is
# the same to the bit.
SIMD    ?= $(shell GOEXPERIMENT=simd $(GO) list simd/archsimd >/dev/null 2>&1 && echo 1 || echo 0)
ifeq ($(SIMD),1)
export GOEXPERIMENT := simd
endif
SOURCES := $(shell find app cmd core -name '*.go' -not -name '*_test.go' 2>/dev/null) go.mod
WEBSRC  := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/package.json web/vite.config.ts

.PHONY: help demo serve test check bench kills attack fuzz types build web setup setup-test screenshots clean

help: ## Show this list
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

demo: setup build ## Install what is missing, build, serve with the demo shots; LISTEN=127.0.0.1:8470, DATA=.jardin
	bin/jardin demo --data $(DATA) --listen $(LISTEN) $(ARGS)

serve: setup build ## Serve without the demo; ARGS="--media FOLDER" names footage; LISTEN, DATA as above
	bin/jardin serve --data $(DATA) --listen $(LISTEN) $(ARGS)

test: setup-test build ## Install what the tests need, then run them; ALL=1 takes all of the long ones, not a fifth
	scripts/test

check: build ## The quick checks: formatting, static checks, types, the core's quick tests
	scripts/check thorough
	$(GO) test -short $(CORE)

bench: setup-test build ## Print the figures that docs/figures.md quotes
	@scripts/setup colmap:/usr/bin/colmap
	JARDIN_BENCH=1 $(GO) test ./e2e -run 'TestFeel|TestForty|TestDotsBy|TestEveryControlOfFill' -count=1 -v -timeout 20m | grep -vE '^(=== |--- |PASS)'
	JARDIN_BENCH=1 $(GO) test ./app/demo -run 'Settle|RodAndWires|MeasuredGrain|AnOutline|Grown|Barrow|Beds' -count=1 -v -timeout 20m | grep -E 'plain|settled|grown|barrow|channel|through time|: [01]\.|mended|COLMAP|px'
	JARDIN_BENCH=1 $(GO) test ./app/picture -run 'TestAWholeJob' -count=1 -v -timeout 10m | grep -E 'job|ours'
	JARDIN_BENCH=1 $(GO) test ./core/track -run 'OnPhotographs|Strip|Returns|HardFootage' -count=1 -v -timeout 20m | grep -E 'ours|OpenCV|hidden|returns'
	JARDIN_BENCH=1 $(GO) test ./app/speed -count=1 -v | grep -vE '^(=== |--- |PASS|ok)'
	$(GO) test ./core/... ./app/... -run '^$$' -bench . -benchmem | grep -E '^(Benchmark|pkg)'

kills: setup-test build ## Kill server and database 500 times in the middle of work
	JARDIN_KILLS=500 $(GO) test ./e2e -run TestNothingIsLostWhenKilled -count=1 -v -timeout 90m | grep -vE '^=== '

attack: setup-test build ## Attack a server of its own and print a table of what came of it
	JARDIN_ATTACK=long $(GO) test ./attack -count=1 -v -timeout 60m | grep -avE '^=== '

# Each input that covers something new is made smaller ten times and no more: by default the fuzzer does that for a minute each.
fuzz: ## Fuzz every reader of files, FUZZ=5m each
	@for at in $$(grep -rlE '^func Fuzz' --include=*_test.go app core); do for f in $$(grep -oE '^func Fuzz\w+' $$at | cut -c6-); do \
	  echo "== $$f"; $(GO) test ./$$(dirname $$at) -run '^$$' -fuzz "^$$f$$" -fuzztime $(or $(FUZZ),5m) -fuzzminimizetime 10x | tail -3; done; done

screenshots: setup-test build ## Take the pictures in docs/screenshots anew
	JARDIN_SCREENSHOTS=docs/screenshots $(GO) test ./e2e -run 'TestOneMarkerGone|PlatesInAndOut|FourDots|Wires|Slip|Painting|PaintThrough|SettleByItself|Guarding|HistoryByHand|WhatSwings|WhatNobodySaw|ManyRemovals|AnEmblem' -count=1 -timeout 15m

types: web/node_modules ## Generate the client's types from the API description
	@mkdir -p bin
	$(GO) run ./cmd/jardin openapi > bin/openapi.json
	cd web && npm run --silent types
	sed -i '1i // Generated from the API description by "make types". Do not edit.' web/src/api/schema.gen.ts

build: web bin/jardin ## Build the program, bin/jardin

web: web/dist/index.html ## Build the interface

bin/jardin: $(SOURCES) web/dist/index.html
	$(GO) build -o $@ ./cmd/jardin

# Not "npm ci": it refuses a lock file where a registry lacks an optional package for another kind of machine.
web/node_modules: web/package.json web/package-lock.json
	cd web && npm install --no-audit --no-fund --loglevel=error
	@touch $@

web/dist/index.html: $(WEBSRC) web/node_modules
	cd web && npm run --silent build
	@touch web/dist/.keep

setup: ## Install the Debian packages that running needs
	@scripts/setup postgresql:/usr/lib/postgresql/*/bin/initdb ffmpeg:/usr/bin/ffmpeg 'libturbojpeg0:/usr/lib/*/libturbojpeg.so.0'

setup-test: setup ## Install the Debian packages that the tests need as well
	@scripts/setup chromium:/usr/bin/chromium python3-opencv:/usr/lib/python3/dist-packages/cv2*.so opencv-doc:/usr/share/doc/opencv-doc/examples/data/graf1.png

clean: ## Remove what was built; data in .jardin stays
	rm -rf bin web/dist/assets web/dist/index.html web/node_modules
