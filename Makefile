# Fresh Seal. The two commands of the README are demo and test.

GO      ?= go
PKG     := build/packages.sh
CONSOLE := console/dist/index.html
SOURCES := $(shell find . -name '*.go' -not -path './console/node_modules/*') $(shell find core store -name '*.yaml' -o -name '*.sql') go.mod go.sum

COMMIT  := $(shell git describe --always --dirty=+ --abbrev=12 --exclude='*' 2>/dev/null)

export CGO_ENABLED = 0
# The same for building, vetting and testing: else all is compiled once for each.
export GOFLAGS += -trimpath

# Several things at once, in a make of its own: what is asked for on one line, such as "clean demo", stays in order.
ABREAST := +@$(MAKE) --no-print-directory -j4

.PHONY: build demo check test lint bench kinds year shots package clean tools

build: bin/freshseal

LICENCES := core/licences/text/all.txt.gz

# The notices of what is built in, of what the build has fetched.
$(LICENCES): go.mod console/package-lock.json build/licences/main.go console/node_modules/.done
	@mkdir -p bin
	$(GO) run ./build/licences >bin/licences.txt && gzip -9nc bin/licences.txt >$@.new && mv $@.new $@

bin/freshseal: $(SOURCES) $(CONSOLE) $(LICENCES) | tools compiled
	$(GO) build -ldflags='-s -w -X freshseal/cli.commit=$(COMMIT)' -o $@ ./cmd/freshseal
	@mkdir -p -m 700 bin/data

# What Debian does not have in the version that is needed can only be asked for.
tools:
	@command -v $(GO) >/dev/null || { echo "make: Go 1.26 or newer is needed and not here; Debian's is too old. Install it from go.dev and run make again." >&2; exit 1; }
	@command -v npm >/dev/null || $(PKG) nodejs npm
	@node -e 'process.exit(parseInt(process.versions.node) >= 20 ? 0 : 1)' || { echo "make: Node.js 20 or newer is needed; here is $$(node --version)." >&2; exit 1; }

console/node_modules/.done: console/package.json console/package-lock.json | tools
	cd console && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error
	@touch $@

$(CONSOLE): console/node_modules/.done console/index.html console/vite.config.ts api/openapi.json $(shell find console/src -type f 2>/dev/null)
	cd console && npm run --silent build

demo:
	$(ABREAST) bin/freshseal
	bin/freshseal demo --dir .demo

test:
	$(ABREAST) linted tested

# The stories wait more than they compute: they begin first, and the others and the console's lint run beside them.
# Nothing comes from the cache: the stories drive a program that go test does not know of.
tested: bin/freshseal debian vetted
	FRESHSEAL_PROGRAM=$(CURDIR)/bin/freshseal $(GO) test -count=1 -vet=off -ldflags='-s -w' -parallel 16 -timeout 18m ./e2e ./...

.PHONY: tested debian compiled vetted linted

debian:
	@$(PKG) ca-certificates openssl gnutls-bin openssh-server nginx apache2 lighttpd lighttpd-mod-openssl mosquitto dovecot-imapd dovecot-pop3d postfix rsyslog rsyslog-openssl slapd postgresql mariadb-server-core vsftpd prosody xrdp freeradius netconfd chromium-headless-shell systemd shellcheck busybox tcsh buildah

# What others wrote is compiled while packages and the console are still on their way.
compiled: | tools
	@[ -e bin/freshseal ] || $(GO) build $$($(GO) list -e -deps -f '{{if not .Standard}}{{with .Module}}{{if not .Main}}{{$$.ImportPath}}{{end}}{{end}}{{end}}' ./... | grep -v ' ')

vetted: bin/freshseal
	@test -z "$$(gofmt -l $$(git ls-files -co --exclude-standard '*.go'))" || { echo "gofmt wants these:"; gofmt -l $$(git ls-files -co --exclude-standard '*.go'); exit 1; }
	$(GO) vet ./...

linted: $(CONSOLE) | compiled
	cd console && npm run --silent lint

# All that needs no package beyond Go and Node: what a developer runs all day.
check: lint
	$(GO) test $$($(GO) list ./... | grep -v /e2e)

TOOL := $(GO) tool -modfile=build/tools.mod

lint: $(CONSOLE)
	@test -z "$$(gofmt -l $$(git ls-files -co --exclude-standard '*.go'))"
	$(GO) vet ./...
	$(TOOL) staticcheck ./...
	$(TOOL) revive -config build/revive.toml -set_exit_status -exclude console/... ./...
	cd console && npm run --silent check && npm run --silent lint

bench:
	$(GO) test -run '^$$' -bench . -benchtime 1s -timeout 60m ./core/... ./wire ./store ./service/monitor ./e2e

# Every kind of box meets every fault from its second replacement on, and every moment of a kill or a lost line that
# the tests name; the table goes into docs/kinds.md.
kinds:
	FRESHSEAL_KINDS=all $(GO) test -count=1 -parallel 12 -timeout 90m -run "TestASecondReplacementGoesBackToTheFirst|MayBeKilled|MayBreak" ./e2e

# Sixty boxes are replaced every 47 days for a year, with faults, kills and strangers. FRESHSEAL_SEED=N is another year.
year:
	FRESHSEAL_YEAR=1 $(GO) test -count=1 -parallel 8 -timeout 60m -run TestAYearOfReplacements -v ./e2e | grep -v '^=== '

shots: bin/freshseal
	@$(PKG) chromium-headless-shell xvfb xterm x11-utils imagemagick fonts-dejavu-core
	$(GO) run ./e2e/shots -program bin/freshseal -out docs/screenshots

package: bin/freshseal
	build/package.sh bin

clean:
	rm -rf bin .demo $(LICENCES) console/node_modules console/dist/assets console/dist/index.html
