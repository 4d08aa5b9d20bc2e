# "make demo" and "make test" do all set-up; "make help" lists the rest.

GO     ?= go
NPM    ?= npm
DEMO   ?= .demo
LISTEN ?= 127.0.0.1:8743

web-sources := $(shell find web/src web/public -type f ! -name schema.d.ts) web/index.html web/package.json web/tsconfig.json web/vite.config.ts
go-sources  := $(shell find . -name '*.go' -not -path './web/*') $(shell find internal demo -name '*.sql' -o -name '*.yaml') go.mod go.sum

.PHONY: help
help: ## list the targets
	@sed -n 's/^\([a-z-]*\):.*## \(.*\)/  make \1	\2/p' $(MAKEFILE_LIST) | expand -t 24

.PHONY: demo
demo: packages build ## set everything up and run the demo of the Fernhollow Libraries
	bin/adytumd demo --home $(DEMO) --listen $(LISTEN)

.PHONY: test
test: packages test-packages build ## set everything up, check the code and run all tests
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not formatted by gofmt:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	$(GO) vet ./...
	$(GO) test -timeout 30m ./...

.PHONY: race
race: packages test-packages build ## run all tests with the race detector
	$(GO) test -race -timeout 60m ./...

.PHONY: tour
tour: packages build ## walk through the whole job with the real programs, checking every step
	$(GO) run ./demo/tour -bin bin

.PHONY: fuzz
fuzz: ## run every fuzz target for a while
	@for package in $$(grep -rl '^func Fuzz' --include='*_test.go' internal | xargs -n1 dirname | sort -u); do \
		for target in $$(sed -n 's/^func \(Fuzz[A-Za-z0-9]*\).*/\1/p' $$package/*_test.go); do \
			$(GO) test ./$$package -run '^$$' -fuzz "^$$target$$" -fuzztime 30s || exit 1; \
		done; done

.PHONY: bench
bench: packages build ## measure, each figure beside its limit in the same run
	$(GO) run ./demo/bench

.PHONY: screenshots
screenshots: packages test-packages picture-packages build ## make the pictures in docs/screenshots anew
	$(GO) run ./demo/pictures

.PHONY: build
build: bin/adytumd bin/adytum ## build both programs into bin/

bin/adytumd: $(go-sources) internal/console/dist/index.html
	@mkdir -p bin
	$(GO) build -trimpath -o $@ ./cmd/adytumd

bin/adytum: $(go-sources)
	@mkdir -p bin
	$(GO) build -trimpath -o $@ ./cmd/adytum

internal/console/dist/index.html: $(web-sources) web/src/api/schema.d.ts
	rm -rf internal/console/dist/assets
	cd web && $(NPM) run --silent build

web/src/api/schema.d.ts: web/node_modules/.installed $(shell find internal/api client/wire -name '*.go')
	$(GO) run ./internal/api/describe > web/openapi.json
	cd web && node_modules/.bin/openapi-typescript openapi.json -o src/api/schema.d.ts --silent 2>/dev/null || node_modules/.bin/openapi-typescript openapi.json -o src/api/schema.d.ts
	rm web/openapi.json

web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && $(NPM) ci --no-audit --no-fund --loglevel=error
	@touch $@

.PHONY: packages test-packages picture-packages
packages:
	@scripts/packages "postgresql=/usr/lib/postgresql/*/bin/initdb" git=git

test-packages:
	@scripts/packages chromium=/usr/bin/chromium

picture-packages:
	@scripts/packages xvfb=Xvfb xterm=xterm imagemagick=/usr/bin/import fonts-dejavu-core=/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf
