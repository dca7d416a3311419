# Two commands do everything on a fresh Debian machine with Go, Node and make: make demo and make test.

PORT   ?= 7420
FOLDER ?= /var/tmp/kettle-tarn-demo-$(PORT)

.PHONY: demo demo-reset test check check-windows check-filesystems race bench soak build console packages check-packages clean

demo: build
	@scripts/install-packages.sh postgresql git faketime
	@bin/demo -port $(PORT) -folder "$(FOLDER)"

demo-reset: build
	@scripts/install-packages.sh postgresql git faketime
	@bin/demo -port $(PORT) -folder "$(FOLDER)" -reset

build: console
	@mkdir -p bin
	@go build -o bin/ ./cmd/... ./demo

# The console is built only where something in it is newer than what was built.
console: web/dist/index.html

# What cuts files in the browser is the core's own code, and what starts it comes with Go.
web/made/cutting.wasm: go.mod web/cutting/main_js.go $(wildcard internal/core/chunk/*.go internal/core/manifest/*.go internal/core/pack/*.go)
	@mkdir -p web/made
	@GOOS=js GOARCH=wasm go build -trimpath -ldflags='-s -w' -o $@ ./web/cutting
	@cp "$$(go env GOROOT)/lib/wasm/wasm_exec.js" web/made/wasm_exec.js

web/dist/index.html: web/made/cutting.wasm web/package-lock.json web/index.html web/vite.config.ts web/vite.computed.ts docs/openapi.json $(shell find web/src web/public -type f -not -name 'schema.gen.ts' 2>/dev/null)
	@cd web && npm ci --no-audit --no-fund --loglevel=error && npm run --silent build
	@touch web/dist/index.html web/dist/.keep

# The S3 server that the object store is tested against, a pinned tool in a module of its own. It is built fast, not optimised.
bin/tools/versitygw: tools/go.mod tools/go.sum
	@mkdir -p bin/tools
	@echo "Building the S3 server for the tests ..."
	@cd tools && go build -gcflags='all=-N -l' -ldflags='-s -w' -o ../bin/tools/versitygw github.com/versity/versitygw/cmd/versitygw
	@touch $@

test: build bin/tools/versitygw
	@scripts/install-packages.sh postgresql faketime chromium-headless-shell dbus-daemon git imagemagick sox flac lame vorbis-tools assimp-utils poppler-utils librsvg2-bin gerbv
	@scripts/test.sh

# What can be said without running anything, in under two minutes once the two tools are built.
bin/tools/staticcheck: tools/check/go.mod tools/check/go.sum
	@mkdir -p bin/tools
	@cd tools/check && go build -o ../../bin/tools/ honnef.co/go/tools/cmd/staticcheck golang.org/x/vuln/cmd/govulncheck

check: console bin/tools/staticcheck
	@scripts/check.sh

race: console bin/tools/versitygw
	@scripts/install-packages.sh postgresql faketime chromium-headless-shell dbus-daemon git imagemagick sox flac lame vorbis-tools assimp-utils poppler-utils librsvg2-bin gerbv gcc libc6-dev
	@CGO_ENABLED=1 go test -race -p 2 -timeout 60m $$(go list ./... | grep -v '/e2e')

# The Windows client, run for real, under Debian's wine.
check-windows: console
	@scripts/install-packages.sh postgresql git wine64 gcc-mingw-w64-x86-64-win32 chromium-headless-shell
	@WINE=/usr/lib/wine/wine64 go test ./e2e -run Windows -count=1 -v -timeout 20m

# A day on each file system that can be made here; make test runs it where their tools are there already.
check-filesystems: build
	@scripts/install-packages.sh postgresql git e2fsprogs btrfs-progs xfsprogs
	@go test ./e2e -run 'FileSystem|Stick' -count=1 -v -timeout 20m

bench: build
	@scripts/install-packages.sh postgresql git rsync b3sum zstd chromium
	@cd bench && go run . -bin ../bin -out ../docs/benchmarks.md $(if $(DATA),-data "$(abspath $(DATA))")

# Kills the client and the service at random moments, KILLS times, and looks at everything behind each: see docs/reliability.md.
KILLS ?= 10000
SEED  ?= 1
soak: build
	@scripts/install-packages.sh postgresql git faketime chromium-headless-shell
	@SOAK=1 go test -count=1 -timeout 2h ./internal/mainline ./internal/workspace ./internal/apart ./internal/service
	@SOAK=1 go test -count=1 -timeout 1h ./e2e -run 'TestLocksAreLinearizable|TestTheDemo$$|TestPagesAreForEverybody|TestBackupsUnderLoad|TestTheDeskSleeps'
	@SOAK=1 KILLS=$(KILLS) SEED=$(SEED) go test ./e2e -run TestKillsLoseNothing -count=1 -timeout 12h -v | grep -v '^ *\(---\|===\)'

# What is installed elsewhere, made in dist/packages; then installed here by apt, and removed again.
bin/tools/nfpm: tools/packages/go.mod tools/packages/go.sum
	@mkdir -p bin/tools
	@cd tools/packages && go build -o ../../bin/tools/nfpm github.com/goreleaser/nfpm/v2/cmd/nfpm

packages: build bin/tools/nfpm
	@scripts/install-packages.sh git zip $(if $(CERTIFICATE),osslsigncode)
	@scripts/make-packages.sh

check-packages: packages
	@scripts/try-packages.sh

clean:
	@rm -rf bin dist web/made web/dist/assets web/dist/index.html web/node_modules
