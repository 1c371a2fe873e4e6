# make demo and make test are all that a newcomer needs; both install what is
# missing. The rest is for people who change the program.

SHELL := /bin/bash
.DEFAULT_GOAL := build
.PHONY: build release staticcheck demo test bench faults fuzz fmt lint api pictures tools test-tools clean

DIST := internal/server/console/dist
CONSOLE := $(DIST)/index.html
WEB := $(shell find web/src web/public -type f ! -name schema.ts 2>/dev/null) web/index.html web/openapi.json web/package.json web/vite.config.js web/tsconfig.json
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)

# Go and Node come with the machine: Debian's are too old.
tools:
	@command -v go >/dev/null || { echo "Go 1.26 or newer is needed: https://go.dev/dl"; exit 1; }
	@command -v npm >/dev/null || { echo "Node.js 20.19 or newer is needed: https://nodejs.org"; exit 1; }

# What the tests need from Debian: a browser, network namespaces, a second opinion
# on pages and packets, and real peers to find and to serve. The peers run in
# namespaces that the tests make; a policy keeps Debian from starting them here.
test-tools: tools
	@missing=""; \
	for pair in chromium-headless-shell:chromium-headless-shell ip:iproute2 ping:iputils-ping curl:curl gcc:gcc tshark:tshark udhcpc:udhcpc dnsmasq:dnsmasq-base \
	  avahi-daemon:avahi-daemon lldpd:lldpd snmpd:snmpd sshd:openssh-server ssh-keygen:openssh-client \
	  dhcpcd:dhcpcd-base dhclient:isc-dhcp-client /usr/lib/systemd/systemd-networkd:systemd named-checkzone:bind9-utils kea-dhcp4:kea-dhcp4-server age:age pdftotext:poppler-utils soffice:libreoffice-calc-nogui transmission-daemon:transmission-daemon; do \
	  PATH="$$PATH:/usr/sbin:/sbin" command -v $${pair%%:*} >/dev/null || missing="$$missing $${pair##*:}"; \
	done; \
	if [ -n "$$missing" ]; then \
	  echo "Installing$$missing"; \
	  policy=/usr/sbin/policy-rc.d; \
	  if [ ! -e $$policy ]; then printf '#!/bin/sh\nexit 101\n' | $(SUDO) tee $$policy >/dev/null; $(SUDO) chmod 755 $$policy; else policy=""; fi; \
	  $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	  ended=$$?; [ -z "$$policy" ] || $(SUDO) rm -f $$policy; exit $$ended; \
	fi

web/node_modules/.package-lock.json: web/package-lock.json web/package.json | tools
	cd web && npm ci --prefer-offline --no-audit --no-fund --loglevel=error

$(CONSOLE): $(WEB) web/node_modules/.package-lock.json
	cd web && npm run --silent build

# Leaves bin/redstart with the console inside.
build: $(CONSOLE)
	go build -trimpath -o bin/redstart ./cmd/redstart

# What is released: a binary for each kind of machine, with the console inside, and their sums.
VERSION := $(shell sed -n 's/^const Version = "\(.*\)"/\1/p' internal/api/api.go)
release: $(CONSOLE)
	@rm -rf dist; mkdir -p dist
	@for machine in linux-amd64 linux-arm64; do \
	  CGO_ENABLED=0 GOOS=$${machine%-*} GOARCH=$${machine#*-} go build -trimpath -ldflags='-s -w' -o dist/redstart-$(VERSION)-$$machine ./cmd/redstart || exit 1; \
	done
	@cd dist && sha256sum redstart-* > SHA256SUMS && cat SHA256SUMS

# A second look at the Go code, which takes minutes: the change is looked at with make lint.
staticcheck: $(CONSOLE)
	go run honnef.co/go/tools/cmd/staticcheck@v0.8.2 ./...

demo: build
	./bin/redstart demo $(ARGS)

# The race detector looks at everything but the database engine: that is C put into
# Go by a machine, and watching its every read and pointer costs more than all the rest.
RACE := -race '-gcflags=modernc.org/...=-d=checkptr=0' '-gcflags=modernc.org/sqlite/lib=-race=false -d=checkptr=0'

# Where goroutines share something the detector looks, and at those end-to-end tests in which most
# goes on at once: to link what it looks at costs more than most tests. The others wait more than they
# compute, so many go side by side. Test binaries need no symbols for a debugger.
TEST := go test -count=1 -trimpath -vet=off -ldflags=-w -timeout 20m
RACING := /internal/(lan/.*|survey|inquiry|store|vault|account|events|works|segments|planning|jobs|site|commission|task|driver|pages|shield|sim/box)$$
CROWDED := TestTwentyFreshBoxes|TestWorksGoSideBySide|TestTwoTechnicians|TestTwoSegments|TestDocumentsOfASite|TestWhatIsOpenEnds|TestTheWholeJobInTheConsole

# A whole terminal of boxes under the detector is too slow for questions that end in seconds.
LARGE := TestTheWholeTerminalIsFound

test: test-tools
	@$(MAKE) --no-print-directory -j 2 test-crowded test-packages test-end-to-end

.PHONY: test-crowded test-end-to-end test-packages
test-crowded:
	$(TEST) $(RACE) -p 4 -skip '$(LARGE)' $$(go list ./... | grep -E '$(RACING)')

test-end-to-end: $(CONSOLE)
	$(TEST) -parallel 16 -skip '$(CROWDED)' ./e2e

test-packages: $(CONSOLE)
	$(TEST) -run '$(LARGE)' ./internal/survey
	$(TEST) -p 4 $$(go list ./... | grep -Ev '$(RACING)|/e2e')
	$(TEST) $(RACE) -parallel 8 -run '$(CROWDED)' ./e2e

# Ratios within one run; docs/measurements.md holds the figures.
bench: build
	go test -run '^$$' -bench . -benchtime 1x -timeout 30m ./e2e ./internal/survey ./internal/lan/bench ./internal/core/plan ./internal/core/planfile

# The table of what becomes of every fault at every model.
faults: build
	FAULTS=write go test -count 1 -run TestTheTableOfFaults -timeout 90m ./e2e

# Every decoder of what comes from outside, FUZZ long each; its seeds are tests of make test.
FUZZ := 1m
fuzz:
	@set -o pipefail; grep -rl '^func Fuzz' --include='*_test.go' internal | while read -r file; do \
	  grep -o '^func Fuzz[A-Za-z0-9]*' $$file | cut -d' ' -f2 | while read -r name; do \
	    echo "$$name in $$(dirname $$file)"; \
	    go test ./$$(dirname $$file) -run '^$$' -fuzz "^$$name$$" -fuzztime $(FUZZ) || exit 1; \
	  done || exit 1; \
	done

fmt:
	gofmt -w $$(git ls-files '*.go')
	cd web && npm run --silent format

lint: $(CONSOLE)
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not formatted: run make fmt"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet -trimpath ./... # as the tests are built, so that what was looked at is known
	cd web && npm run --silent lint

# What the console's types are made from, after a change of the API.
api:
	WRITE_OPENAPI=1 go test ./e2e -count 1 -run TestOpenAPIAgreesWithTheRoutes

# The plan that fits the usual simulated site.
demo/skerry-point.csv demo/skerry-point.xlsx: build
	./bin/redstart sim --plan $@

# The screenshots in docs, from the demo data.
pictures: test-tools build
	go run ./docs/pictures

clean:
	rm -rf bin dist web/node_modules $(DIST)/assets $(DIST)/*.html $(DIST)/*.svg
