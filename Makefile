# What a newcomer needs: `make demo` and `make test`. Packages come from Debian,
# Go's module proxy and the npm registry; nothing else is fetched.

GO ?= go
LISTEN ?= 127.0.0.1:8420
DATA ?=
SUDO := $(if $(filter 0,$(shell id -u)),,sudo)

.PHONY: demo test build console dist lint bench profile shots clean need-postgresql need-tests

demo: need-postgresql build
	@exec ./bin/ironweir serve -demo -listen $(LISTEN) $(if $(DATA),-data $(DATA))

# The console is built from the API's own description, then into the program.
build: console
	$(GO) build -ldflags "-X main.commit=$$(git rev-parse --short HEAD 2>/dev/null || echo unknown)" -o bin/ironweir ./cmd/ironweir

# What is given out: static programs for Linux, macOS and Windows with the console inside, Debian packages, checksums.
dist: console
	sh deploy/dist.sh dist

console: service/site/dist/index.html

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error

console/src/lib/schema.d.ts: console/node_modules/.package-lock.json \
		$(wildcard service/*.go store/*.go rehearsal/*.go observation/*.go core/*/*.go core/*/*/*.go)
	$(GO) run ./cmd/ironweir openapi > console/openapi.json
	cd console && npx --no-install openapi-typescript openapi.json -o src/lib/schema.d.ts > /dev/null

service/site/dist/index.html: console/src/lib/schema.d.ts $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/used-styles.ts
	cd console && npx --no-install vite build --logLevel error
	touch service/site/dist/.keep

# Nothing is taken from the cache (a test may ask a program about the tree, which the cache
# does not see). Two packages at a time, three tests of one: those of the service, in the
# browser, wait for each other's pages. The count of tests comes last.
test: need-tests build
	cd console && npm test --silent
	$(GO) test -count=1 -p 2 -parallel 3 -timeout 45m -json ./... > test.out; status=$$?; \
		$(GO) run ./bench/tally test.out; exit $$status

lint: console
	@unformatted=$$(gofmt -l $$(git ls-files '*.go')); test -z "$$unformatted" || { echo "gofmt: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	cd console && npm run check --silent

bench:
	$(GO) test ./core/... -run XXX -bench . -benchmem

# What the compiler is told about where the engine's time goes (go build takes it by
# itself): to be made anew when the engine has changed much.
profile:
	$(GO) test ./core/sim -run XXX -bench 'Tandem|Fan$$|FridayEvening' -benchtime 10s -o /dev/null -cpuprofile cmd/ironweir/default.pgo

# The pictures of the documentation, made from the demo data.
shots: need-tests build
	sh docs/make-screenshots.sh

need-postgresql:
	@ls /usr/lib/postgresql/*/bin/postgres > /dev/null 2>&1 || { $(SUDO) apt-get -o DPkg::Lock::Timeout=300 update -q && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=300 install -y -q --no-install-recommends postgresql; }

need-tests: need-postgresql
	@command -v chromium > /dev/null && command -v dot > /dev/null || { $(SUDO) apt-get -o DPkg::Lock::Timeout=300 update -q && $(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=300 install -y -q --no-install-recommends chromium graphviz fonts-dejavu-core; }
	@test -x bin/promtool || command -v promtool > /dev/null || sh deploy/promtool.sh bin

clean:
	rm -rf bin dist console/node_modules console/openapi.json console/src/lib/schema.d.ts test.out
	find service/site/dist -mindepth 1 ! -name .keep -delete
