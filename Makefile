# What can be done here; `make` alone lists it.
# The same for building, checking and testing, so that each package is compiled once.
export CGO_ENABLED = 0
export GOFLAGS = -trimpath
go = go
tags = -tags nomsgpack
console = console/dist/index.html
console_sources = $(shell find console/src -type f) console/index.html console/vite.config.ts console/package-lock.json $(wildcard docs/*.md)

# The laboratory's root takes two minutes to build: begun early, beside the rest.
root = if [ "$$(id -u)" = 0 ]; then lab/lab.sh base; fi

.PHONY: help demo tour test lab surprises build package lint bench pictures generate

help:
	@echo 'make demo      start the server, stand-in hosts and past changes; it prints where and who'
	@echo '               (HOSTS=lab: six real hosts of the laboratory instead; wants root)'
	@echo 'make tour      walk through changes with the client, in two minutes'
	@echo 'make test      everything that can be checked here, real hosts and browser included'
	@echo 'make lab       the laboratory alone, each script cut at every point: half an hour'
	@echo 'make build     bin/wladderd, bin/wladder, bin/wladder-demo'
	@echo 'make package   the Debian package, in bin/'
	@echo 'make surprises search all real configuration files for what nobody expects of an edit'
	@echo 'make lint      formatting, vet, shellcheck, eslint; and the share of tests in the code'
	@echo 'make bench     benchmarks of the parsers'
	@echo 'make generate  api/openapi.yaml from the routes, its TypeScript types, and the list of licences'
	@echo 'make pictures  the pages in docs/screenshots anew'

demo:
	@scripts/setup $(if $(filter lab,$(HOSTS)),lab,demo)
	@$(MAKE) --no-print-directory build
ifeq ($(HOSTS),lab)
	@lab/lab.sh base
	@bin/wladder-demo -lab
else
	@bin/wladder-demo
endif

tour:
	@scripts/setup demo
	@$(MAKE) --no-print-directory build
	@bin/wladder-demo -tour
	@bin/wladder-demo -story

build: $(console)
	@scripts/setup build
	@$(go) build $(tags) -o bin/ ./cmd/...

package: build
	@packaging/package "$$(cat version/version.txt)" "$(CURDIR)/bin" "$(CURDIR)/bin/wladder_$$(cat version/version.txt).deb"
	@echo "bin/wladder_$$(cat version/version.txt).deb"

$(console): $(console_sources)
	@scripts/setup build
	@cd console && npm run --silent build >/dev/null
	@touch $@

# The laboratory's hosts want root; elsewhere its tests say that they skip.
test:
	@if [ "$$(id -u)" = 0 ]; then scripts/setup lab; else scripts/setup test; fi
	@($(root)) >.lab-root.log 2>&1 & \
	$(MAKE) --no-print-directory build lint && \
	$(go) test $(tags) -timeout 14m $$($(go) list ./... | grep -v /lab$$) && \
	wait && cat .lab-root.log && rm -f .lab-root.log && \
	$(go) test $(tags) -timeout 14m ./lab

lab:
	@scripts/setup lab
	$(go) test $(tags) -timeout 90m -v ./lab -args -every

# Needs what "make test" has installed, and Debian's package sources.
surprises:
	$(go) test ./core/conf -run 'TestSurprises|TestStockFiles' -count 1 -timeout 20m -v -args -every

lint:
	@scripts/setup build
	@unformatted=$$(gofmt -l *.go api chaos client cmd core demo engine host lab standin store tell console/*.go); [ -z "$$unformatted" ] || { echo "run gofmt -w on: $$unformatted"; exit 1; }
	@$(go) vet $(tags) ./...
	@cd console && npx --no-install eslint src && npx --no-install tsc --noEmit
	@cd console && npx --no-install openapi-typescript ../api/openapi.yaml 2>/dev/null | cmp -s - src/api/schema.d.ts || { echo 'console/src/api/schema.d.ts is not what api/openapi.yaml says: make generate'; exit 1; }
	@if command -v shellcheck >/dev/null; then shellcheck -S warning scripts/* packaging/package packaging/scripts/* lab/*.sh .ci/run; else echo 'SKIPPED: shellcheck is not installed'; fi
	@scripts/licences | cmp -s - docs/licences.md || { echo 'docs/licences.md is not what is brought along: make generate'; exit 1; }
	@scripts/share

bench:
	$(go) test -run '^$$' -bench . -benchmem ./core/...

generate:
	@$(go) test ./api -run Description -update
	@cd console && npm run --silent schema
	@scripts/licences >docs/licences.md

# Of the pages that the tests open, those that stand for the rest.
shots = changes change climb gate narrow draft today:today-light host:host-opened-dark service:service-opened-light record:record-light people:people-light wall:wall-light
pictures: build
	@scripts/setup test
	@dir=$$(mktemp -d) && \
	$(go) test $(tags) ./cmd/wladder-demo -run 'TestConsole$$|TestPages|TestByHand' -count 1 -timeout 20m -args -pictures $$dir && \
	for shot in $(shots); do cp $$dir/$${shot#*:}.png docs/screenshots/$${shot%%:*}.png; done && rm -r $$dir
