# Two commands do everything on a fresh Debian machine with Go and Node:
#   make demo   installs what is missing, builds, runs everything with demo data
#   make test   installs what tests need and runs every test
SHELL := /bin/bash
GO ?= go
SUDO := $(shell [ "$$(id -u)" = 0 ] || command -v sudo)
# As the package is built, so that what is compiled is compiled once.
export GOFLAGS := -buildvcs=false -trimpath
export CGO_ENABLED := 0

.PHONY: format others soak audit cluster package release install-more check demo demo-reset suite suite-test build console test bench generate install-database install-browser install-peer verify plot screenshots walk faults feeds map clean

demo: install-database build
	@exec bin/wexillum demo

demo-reset: install-database build
	@exec bin/wexillum demo --reset

# The demo with real servers of open protocols in place of most of the stand-in suite: their packages are fetched from
# Debian once and unpacked into a folder of their own; nothing of the machine is installed or changed. It takes root.
suite: install-database build
	@exec bin/wexillum demo --real --dir run/suite

# All that is tried on real servers, twenty times over, with how long each takes from publishing to counting on the
# wire; and the conformance of what stands beside each.
ROUNDS ?= 20
suite-test: install-database build
	$(GO) test -count 1 -v -timeout 60m ./internal/servers -many 10000 -fastest $(ROUNDS)
	$(GO) test -count 1 -v -timeout 60m -run 'TestRealServers' ./internal/e2e -rounds $(ROUNDS)

build: console
	@$(GO) build -ldflags "-X 'wexillum.example/internal/cli.revision=$$(git log -1 --format='%h of %cs' 2>/dev/null)'" -o bin/ ./cmd/wexillum ./cmd/wexillum-service
	@$(GO) build -o bin/wexillum-suite ./cmd/wexillum-suite
	@$(GO) build -o bin/wexillum-beside ./cmd/wexillum-beside

# The console is built anew when its sources are newer than what was built.
console: console/dist/index.html
console/dist/index.html: $(shell find console/src console/public -type f) console/index.html console/package.json console/package-lock.json console/vite.config.ts | console/node_modules/.installed
	@echo "building the console" && cd console && npm run --silent build > /dev/null && touch dist/.gitkeep dist/index.html
console/node_modules/.installed: console/package-lock.json
	@echo "installing front-end packages" && cd console && npm ci --silent --ignore-scripts --no-audit --no-fund && touch node_modules/.installed

# Installs mariadb-server-core and mariadb-client-core from Debian. They start no
# service and touch no other instance.
install-database:
	@{ command -v mariadbd || [ -x /usr/sbin/mariadbd ]; } > /dev/null && command -v mariadb-install-db > /dev/null || \
	  { echo "installing mariadb-server-core and mariadb-client-core"; $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends mariadb-server-core mariadb-client-core > /dev/null; }

# Installs chromium-headless-shell, fonts-dejavu-core and publicsuffix (the
# list's own test cases) from Debian.
install-browser:
	@[ -x /usr/lib/chromium/chromium-headless-shell ] && [ -e /usr/share/doc/publicsuffix ] || \
	  { echo "installing chromium-headless-shell, fonts-dejavu-core and publicsuffix"; $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends chromium-headless-shell fonts-dejavu-core publicsuffix > /dev/null; }

# The Debian package, its bill of materials and their digests, in a folder. The same commit gives the same bytes.
PACKAGES ?= run/packages
package: console
	@packaging/build $(PACKAGES)

# Signs the digests with an SSH key (ssh-keygen -Y sign), for whoever gets the package: make release KEY=~/.ssh/release
release: package
	@test -n "$(KEY)" || { echo "name the key: make release KEY=FILE"; exit 1; }
	@for x in $(PACKAGES)/*.sha256; do ssh-keygen -Y sign -f $(KEY) -n wexillum-release $$x; done

# What is known against anything that is linked: it asks databases on the network, which not every place reaches.
audit:
	$(GO) mod verify
	$(GO) run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./...
	cd console && npm audit --omit dev

# Installs what tests alone need of Debian: a client that reads the log of the database, the library that makes a cluster of databases with the
# program that copies one, and what makes a folder with Debian's base in it.
install-more:
	@{ [ -x /usr/bin/mariadb-binlog ] && [ -e /usr/lib/galera/libgalera_smm.so ] && [ -x /usr/sbin/debootstrap ] && command -v rsync && command -v lsof && command -v ip; } > /dev/null || \
	  { echo "installing mariadb-client, galera-4, rsync, lsof, iproute2 and debootstrap"; $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends mariadb-client galera-4 rsync lsof iproute2 debootstrap > /dev/null; }

# Installs, in a folder of the tests, packages of a SCIM server that others wrote.
PEER = internal/e2e/testdata/peer
install-peer: $(PEER)/node_modules/.installed
$(PEER)/node_modules/.installed: $(PEER)/package-lock.json
	@echo "installing packages of a SCIM server for tests" && cd $(PEER) && npm ci --silent --ignore-scripts --no-audit --no-fund && touch node_modules/.installed

# Tests through service, network and browser wait for each other more than they compute: three of a package at a time.
test: install-database install-browser install-peer install-more build check
	$(GO) test -timeout 60m -parallel 3 ./...

# What is written from something else.
GENERATED = internal/contract/models.gen.go internal/connector/open/models.gen.go internal/api/apigen/server.gen.go internal/client/client.gen.go internal/operations/operations.gen.go internal/api/served.gen.yaml \
  console/src/contract.gen.ts console/src/operations.gen.ts docs/operations.md docs/world-file-fields.md docs/client-json.md docs/architecture.svg $(shell find docs/catalogue docs/systems -type f)

# Writes the sources of the service and of the console in their common form.
format: console/node_modules/.installed
	gofmt -w cmd internal
	cd console && node_modules/.bin/prettier --log-level warn --write 'src/**/*.{ts,tsx,scss}' '*.mjs' vite.config.ts

# Format, vet, staticcheck, code that nothing calls, the console's types, the contract, and whether all that is
# generated is as it would be generated now. It needs nothing but Go and Node.
check: console
	@test -z "$$(gofmt -l cmd internal console/*.go)" || { echo "gofmt would change:"; gofmt -l cmd internal console/*.go; exit 1; }
	@$(GO) vet ./...
	@$(GO) tool -modfile=tools.mod staticcheck ./...
	@dead="$$($(GO) tool -modfile=tools.mod deadcode -test ./... | grep -v '\.gen\.go:')"; test -z "$$dead" || { echo "nothing calls:"; echo "$$dead"; exit 1; }
	@cd console && node_modules/.bin/tsc --noEmit -p .
	@cd console && node_modules/.bin/prettier --log-level warn --check 'src/**/*.{ts,tsx,scss}' '*.mjs' vite.config.ts || { echo "make format writes them as they should be"; exit 1; }
	@cd console && out="$$(REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true node_modules/.bin/redocly lint --config ../internal/contract/lint.yaml ../internal/api/served.gen.yaml 2>&1)" || { echo "$$out"; exit 1; }
	@was="$$(cat $(GENERATED) | sha256sum)"; $(MAKE) --no-print-directory generate map > /dev/null && test "$$was" = "$$(cat $(GENERATED) | sha256sum)" || { echo "make generate and make map change what is generated; look at the difference and commit it"; exit 1; }

# Compares the engine with the slow evaluator and with asking everything one by one: ten
# million questions and a hundred thousand lines of impacts of random worlds. It prints its
# seed; make verify SEED=n does the same again.
QUESTIONS ?= 10000000
IMPACTS ?= 100000
SEED ?= 0
verify:
	$(GO) test -count 1 -v -timeout 0 ./internal/core/engine -run '^(TestAgainstSlow|TestImpact|TestFoundBySlow)$$' -questions $(QUESTIONS) -impacts $(IMPACTS) -seed $(SEED)

bench: install-database
	$(GO) test -run '^$$' -bench . -benchtime 1x -timeout 60m ./internal/bench

# Writes the server, the client and the console's types anew from the contract.
generate:
	for part in models server client; do $(GO) tool -modfile=tools.mod oapi-codegen -config internal/contract/$$part.cfg.yaml internal/api/openapi.yaml || exit 1; done
	$(GO) tool -modfile=tools.mod oapi-codegen -config internal/connector/open/models.cfg.yaml internal/connector/open/connector.yaml
	$(GO) run ./internal/contract/strip internal/client/client.gen.go internal/api/apigen/server.gen.go
	cd console && npm run --silent types
	$(GO) run ./internal/operations/write internal/api/openapi.yaml internal/api/examples.yaml internal/operations/operations.gen.go console/src/operations.gen.ts docs/operations.md internal/api/served.gen.yaml
	$(GO) run ./internal/cataloguedocs/write docs/catalogue
	$(GO) run ./internal/beside/write docs/systems
	$(GO) run ./internal/worldfile/write docs/world-file-fields.md
	$(GO) run ./internal/cli/write docs/client-json.md

# Draws docs/architecture.svg from the imports.
map:
	$(GO) run ./internal/housemap/write . docs/architecture.svg

# Asks the engine and three general-purpose policy libraries the same, in a module of its own: GUESTS=1000000 takes 8 GB.
GUESTS ?= 100000
others:
	cd internal/bench/others && $(GO) test -run '^$$' -bench Others -benchtime 1x -timeout 60m . -guests $(GUESTS)

# Draws docs/growth.svg and docs/pages.svg from the figures in docs/growth.csv and docs/pages.csv.
plot:
	$(GO) run -tags plot -modfile=tools.mod ./internal/bench/growth

# Takes the pictures of docs/screenshots from the demo world.
screenshots: install-database install-browser build
	WEXILLUM_SCREENSHOTS=$(CURDIR)/docs/screenshots $(GO) test -count 1 -run 'TestScreenshots|TestRealServers' ./internal/e2e

# Asks a service of a hundred thousand guests everything at once while things change, for ten minutes, and prints how long each took; it prints
# its seed, and make soak SEED=n asks the same.
SOAK ?= 10m
soak: install-database
	$(GO) test -run '^$$' -bench Soak -benchtime 1x -timeout 60m ./internal/bench -guests 100000 -soak $(SOAK) -seed $(SEED)

# Kills, stops, freezes and cuts off services and their database while many write; it prints its
# seed, and make faults SEED=n brings about the same.
FAULTS ?= 200
faults: install-database build
	$(GO) test -count 1 -v -timeout 90m ./internal/e2e -run '^TestFaults$$' -faults $(FAULTS) -fault-seed $(SEED)

# Two installations that feed each other PEOPLE each, through ROUGH rounds of what goes wrong; it prints its seed.
PEOPLE ?= 10000
ROUGH ?= 40
feeds: install-database build
	$(GO) test -count 1 -v -timeout 90m ./internal/e2e -run '^TestFeedsBetween$$' -feed-people $(PEOPLE) -feed-faults $(ROUGH)

# Three nodes of a database and three services, with FAULTY faults in turn; it prints its seed. Three faults are in make test.
FAULTY ?= 24
cluster: install-database install-more build
	$(GO) test -count 1 -v -timeout 60m ./internal/e2e -run '^TestCluster$$' -cluster-faults $(FAULTY) -cluster-seed $(SEED) -cluster-time 55m

# Walks through every page of the console at six widths, light and dark.
walk: install-database install-browser build
	WEXILLUM_WALK=yes $(GO) test -count 1 -v -timeout 60m -run 'TestConsoleLooks|TestKey' ./internal/e2e

clean:
	rm -rf bin run console/dist/assets console/dist/index.html console/dist/mark.svg
