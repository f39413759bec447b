# make demo and make test do all the set-up on a fresh machine with Go, Node and npm.

BIN     := bin/keenlantern
DATA    := .data
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
# Only the program itself is built by its profile: tests would all be compiled twice.
export GOFLAGS := -pgo=off

MODULES := . ./recorders/go ./recorders/go/gallery ./recorders/go/samberdo ./recorders/go/uberdig ./recorders/go/uberfx

.PHONY: test-core test-races debian test-node test-jvm test-php test-dotnet php dotnet cover overhead attack fuzz all build console demo test test-go lint bench check clean screenshots chromium soak

all: build

build: $(BIN)

# The console is built again when any of its sources is newer than what was built.
console/dist/index.html: console/package-lock.json $(shell find console/src console/index.html console/*.ts console/*.json -type f 2>/dev/null)
	cd console && npm ci --no-audit --no-fund && npm run build
	@touch $@

console: console/dist/index.html

# The recorders that the service hands out, packed from their sources.
.PHONY: packed recorders
packed: recorders
	go run ./recorders/pack -version $(VERSION) recorders/go recorders/dist/go
	node recorders/node/scripts/pack.mjs $(VERSION) recorders/dist/node
	go run ./recorders/packphp -version $(VERSION) recorders/php recorders/dist/php

# The recorders of other runtimes, with their tests and offices.
recorders: recorders/node/dist/built recorders/jvm/target/built recorders/dotnet/packed

recorders/dotnet/packed: $(shell find recorders/dotnet/src recorders/dotnet/*.props recorders/dotnet/pack.sh -name bin -prune -o -name obj -prune -o -type f -print 2>/dev/null)
	sh recorders/dotnet/pack.sh $(VERSION) $(CURDIR)/recorders/dist/nuget
	@touch $@

recorders/node/dist/built: recorders/node/package-lock.json $(shell find recorders/node/src recorders/node/test recorders/node/office recorders/node/scripts recorders/node/*.json -type f 2>/dev/null)
	cd recorders/node && npm ci --no-audit --no-fund && npm run build
	@touch $@

JVM := recorders/jvm/pom.xml $(shell find recorders/jvm -name target -prune -o -type f -print 2>/dev/null)
recorders/jvm/target/built: $(JVM)
	sh recorders/jvm/build.sh $(VERSION) $(CURDIR)/recorders/dist/maven
	@[ -f recorders/jvm/target/left-out ] || touch $@

.PHONY: $(BIN)
$(BIN): console/dist/index.html packed
	CGO_ENABLED=0 go build -pgo=auto -trimpath -ldflags "-s -w -X keenlantern.example/internal/cli.Version=$(VERSION)" -o $(BIN) ./cmd/keenlantern

# Runs the harbour pilot office under the service; DEMO="--once" ends after printing, RUNTIME=node, jvm, php or dotnet runs the office there.
demo: build $(filter dotnet,$(RUNTIME))
	$(if $(MANY),go run ./internal/many/demo -program $(BIN) -data $(DATA) $(DEMO),$(if $(RUNTIME),sh scripts/demo.sh $(RUNTIME) $(DATA) $(DEMO),$(BIN) demo --data $(DATA) $(DEMO)))

chromium:
	@sh ./scripts/chromium.sh

# What is installed from Debian's packages, one after the other.
debian:
	+@$(MAKE) --no-print-directory -j1 chromium php

# Two things at a time where they do not meet: much of it waits for a registry, or uses one core. Each prints when it has ended.
TWO := $(MAKE) --no-print-directory -j2 --output-sync

# What the first line has made, or could not, is not tried again by the second.
test:
	+@$(TWO) build debian dotnet
	+@$(TWO) -o php -o dotnet -o recorders -o build lint test-node test-jvm test-php test-dotnet test-systems
	+@$(MAKE) --no-print-directory test-go
	@cat recorders/jvm/target/left-out recorders/php/left-out recorders/dotnet/left-out .systems-left-out 2>/dev/null || true

# The packages whose tests take longest come first, so that none of them runs alone at the end.
LONGEST := $(addprefix ./internal/,offices browser many attack service)

# What this machine cannot have is left out of the tests, and said at their end. The core runs on one goroutine, but for reading ahead, so that only
# that is watched for races.
test-go:
	@without="$$KEENLANTERN_WITHOUT$$(! [ -f recorders/jvm/target/left-out ] || echo ,jvm)$$(! [ -f recorders/php/left-out ] || echo ,php)$$(! [ -f recorders/dotnet/left-out ] || echo ,dotnet)"; \
	for m in $(MODULES); do echo "go test $$m"; (cd $$m && KEENLANTERN_BROWSER=required KEENLANTERN_RUNTIMES=required KEENLANTERN_WITHOUT="$$without" go test -race -timeout 18m $$([ $$m != . ] || echo $(LONGEST)) $$(go list ./... | grep -v /internal/core/)) || exit 1; done
	+@$(TWO) test-core test-races

test-core:
	go test -timeout 8m ./internal/core/...

test-races:
	go test -race -timeout 8m -run 'Traces|Samples|Streams|Damage' -skip Hostile ./internal/core/engine

test-jvm: recorders
	@[ -f recorders/jvm/target/left-out ] || (cd recorders/jvm && mvn -q test)

# Where Debian's packages of PHP cannot be had, its recorder is left out of the tests, which say so at their end.
php:
	@rm -f recorders/php/left-out; sh ./scripts/php.sh || echo "The recorder for PHP was not tested: PHP, PHPUnit, PHP_CodeSniffer and Pimple could not be installed." > recorders/php/left-out

test-php: php
	@[ -f recorders/php/left-out ] || { cd recorders/php && phpcs && phpunit && for file in src/*.php office/*.php office/src/*.php gallery/*.php gallery/*/*.php; do php -l "$$file" >/dev/null || exit 1; done; }

dotnet:
	@sh recorders/dotnet/build.sh

test-dotnet: dotnet
	@[ -f recorders/dotnet/left-out ] || { cd recorders/dotnet && KEENLANTERN_COMMAND=$(CURDIR)/$(BIN) dotnet test -c Release --no-build -v quiet -nologo KeenLantern.Record.slnx && dotnet format --no-restore --verify-no-changes KeenLantern.Record.slnx; }

test-node: recorders
	cd recorders/node && node --expose-gc --test --test-reporter=dot dist/test/*.test.js && npm run --silent test:oldest

# The program and the recorder for Go are built for all systems.
.PHONY: test-systems
test-systems: build
	sh scripts/systems.sh .systems-left-out

lint:
	@test -z "$$(gofmt -l cmd console/*.go demo docs internal recorders)" || { gofmt -l cmd console/*.go demo docs internal recorders; echo "gofmt these"; exit 1; }
	@for m in $(MODULES); do (cd $$m && go vet ./... && go tool staticcheck ./...) || exit 1; done
	cd console && npm run lint
	cd recorders/node && npm run lint
	@cd docs/prose && { [ node_modules -nt package-lock.json ] || { npm ci --no-audit --no-fund --silent && touch node_modules; }; } && npm run --silent lint

# How much of each package under internal and of the recorder the tests run, the service that they start as a process included.
cover: build chromium
	rm -rf .cover && mkdir -m 777 .cover # some services run as another user
	GOFLAGS='-pgo=off -cover -coverpkg=keenlantern.example/cmd/...,keenlantern.example/internal/...,keenlantern.example/record/...' KEENLANTERN_BROWSER=required go test -exec 'env GOCOVERDIR=$(CURDIR)/.cover' -timeout 15m ./... -args -test.gocoverdir=$(CURDIR)/.cover
	cd recorders/go && GOFLAGS='-pgo=off -cover -coverpkg=keenlantern.example/record/...' go test ./... -args -test.gocoverdir=$(CURDIR)/.cover
	@go tool covdata percent -i=.cover | awk '{ print $$(NF-2), $$1 }' | sort -n

overhead:
	go test -run '^$$' -bench Overhead -benchtime 200x ./demo/harbour
	go test -run '^$$' -bench Overhead -benchtime 200x ./internal/recorded

# Measures everything, and says by benchstat what differs from the figures that were recorded last; RECORD=1 records these instead.
bench:
	sh scripts/bench.sh testdata/figures/bench.txt $(RECORD)

# What the compiler is told of the program's hot paths (profile-guided optimization): as it analyses and takes batches.
.PHONY: profile
profile:
	rm -rf .profile && mkdir .profile
	go test -run '^$$' -bench 'Analyse/.*/all$$' -benchtime 10s -cpuprofile $(CURDIR)/.profile/analyse.out -o .profile/analyse.test ./internal/core/engine
	go test -run '^$$' -bench Ingest/http -benchtime 10s -cpuprofile $(CURDIR)/.profile/ingest.out -o .profile/ingest.test ./internal/service
	go tool pprof -proto .profile/analyse.out .profile/ingest.out > cmd/keenlantern/default.pgo
	rm -rf .profile

# Ten minutes of senders, views, listeners, orderly ends and kills; then memory and restarts at ten million events.
# What several services that share a log have to stand: forty senders and sixty kills, takeovers, and what it costs. Ten minutes.
.PHONY: test-many
test-many:
	KEENLANTERN_MANY=heavy go test ./internal/many -v -count 1 -timeout 30m

soak: build
	KEENLANTERN_MANY=heavy go test ./internal/many -count 1 -timeout 30m -run "TestKilled|TestOneKilledAgain"
	go run ./internal/load/soak -for 10m
	go run ./internal/load/soak -events 10000000 -streams 1 -open 1000
	go run ./internal/load/soak -events 10000000 -streams 100 -open 1000

# Attacks its own service for some minutes, and writes what was measured into docs/figures.md.
attack: build
	go test ./internal/attack -timeout 60m -count 1 -args -large -figures $(CURDIR)/docs/figures.md
	go test ./internal/core/rules -run '^$$' -fuzz FuzzSlowReading -fuzztime $(FUZZ)
	go test ./internal/core/engine -run '^$$' -fuzz FuzzRandomTraces -fuzztime 10m

FUZZ ?= 2m
fuzz:
	go test ./internal/core/rules -run '^$$' -fuzz FuzzSlowReading -fuzztime $(FUZZ)
	go test ./internal/core/engine -run '^$$' -fuzz FuzzRandomTraces -fuzztime $(FUZZ)
	go test ./internal/core/engine -run '^$$' -fuzz FuzzAnalyse -fuzztime $(FUZZ)
	go test ./internal/core/reader -run '^$$' -fuzz . -fuzztime $(FUZZ)
	go test ./internal/core/derive -run '^$$' -fuzz . -fuzztime $(FUZZ)
	go test ./internal/core/freeze -run '^$$' -fuzz . -fuzztime $(FUZZ)
	go test ./internal/core/contract -run '^$$' -fuzz . -fuzztime $(FUZZ)
	go test ./internal/core/replay -run '^$$' -fuzz . -fuzztime $(FUZZ)

screenshots: build chromium
	go run ./internal/browser/screenshots

check: test

clean:
	rm -rf bin recorders/dotnet/*/bin recorders/dotnet/*/obj recorders/dotnet/*/*/bin recorders/dotnet/*/*/obj recorders/dist/go recorders/dist/php recorders/dist/maven recorders/dist/nuget recorders/dotnet/packed recorders/jvm/target recorders/jvm/*/target console/dist/assets console/dist/index.html console/node_modules $(DATA)
