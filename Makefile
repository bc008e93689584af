# Commands for those who work on Fern Ladder. `make demo` and `make test` do all
# their own set-up on a Debian machine with Go.

GO = CGO_ENABLED=0 go
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

PREFIX = /usr/local
DIST = dist

.PHONY: build install dist demo test check torture fuzz thorough mutate lint share bench figures screenshots docs setup setup-check setup-shots

build:
	$(GO) build -trimpath -ldflags="-s -w" -o bin/fernladder ./cmd/fernladder

demo: setup
	@GOFLAGS=-v ./tell.sh "Building the program" $(MAKE) -s build
	@./bin/fernladder demo

# The program, its manual pages, and completions for four shells.
install: build
	install -D -m 755 bin/fernladder $(DESTDIR)$(PREFIX)/bin/fernladder
	$(GO) run ./internal/manpages $(DESTDIR)$(PREFIX)

# A release: programs, source, checksums and a bill of materials.
dist:
	./dist.sh $(DIST)

# Tests have a root each, so many run at once; the long ones are part of `make check`.
TEST = $(GO) test -parallel 6 -timeout 20m ./...

test: setup
	$(TEST) -short

check: setup setup-check lint share
	$(TEST)
	@$(MAKE) -s thorough

# Thousands of small random shelves, each tried in every way.
thorough:
	$(GO) test ./core/resolve -run 'AgainstTryingEverything|AgainstAllCombinations' -rapid.checks=4000

# The program killed at a thousand instants, and eight of them at once under the
# race detector. A short form of both is part of `make test`.
torture: setup
	$(GO) test ./cmd/fernladder -run TestTorture -kills 1000 -timeout 3h -v
	$(GO) test ./cmd/fernladder -run TestEightAtOnce -crowd 5m -racing -timeout 1h -v

# Every reader, for FUZZTIME each. What is found becomes a seed.
FUZZTIME = 30m
fuzz:
	@for at in $$(grep -rl --include='*_test.go' '^func Fuzz' . | xargs -n1 dirname | sort -u); do \
	for f in $$(grep -ho '^func Fuzz[A-Za-z]*' $$at/*_test.go | cut -c6-); do \
	echo "$$at $$f"; $(GO) test $$at -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 20x || exit 1; done; done

# One small change at a time in functions that keep a promise: which of them does no test
# notice? MUTATE="-most 200" spreads so many over the list.
mutate: setup
	$(GO) run ./internal/mutate $(MUTATE)

# Formatting, vet, staticcheck, that the reference is what the code says, and the words that
# we do not use.
# The layer test and the seeds of the fuzz tests are part of `make test`.
lint:
	@unformatted=$$(gofmt -l .); test -z "$$unformatted" || { echo "not formatted: $$unformatted"; exit 1; }
	@! git ls-files '*.go' | grep -v _test.go | LC_ALL=C.UTF-8 xargs grep -nE '.{121}' # a line over 120 characters
	$(GO) vet ./...
	$(GO) run $(STATICCHECK) -checks inherit,ST1020,ST1021,ST1022 ./...
	$(GO) run ./internal/keydocs -check docs
	$(GO) run ./internal/words -check

# Tests are a quarter to a third of the code they test. Scripts that drive the program are tests.
share:
	@tests=$$(git ls-files '*_test.go' 'cmd/fernladder/testdata/*.txtar' | xargs cat | wc -l); \
	code=$$(git ls-files '*.go' | grep -v _test.go | xargs cat | wc -l); \
	echo "test share: $$tests lines for $$code lines of code, $$((100 * tests / code)) %"; \
	test $$((100 * tests / code)) -ge 24 && test $$((100 * tests / code)) -le 36

bench: setup build
	$(GO) run ./bench -program bin/fernladder $(BENCH)

# docs/figures.md is what one run of the benchmarks has printed. What a disk costs depends on what it
# did before, so TMPDIR should be a memory disk (mount -t tmpfs).
figures: setup build
	@{ printf '# Figures\n\nPrinted by `make figures` on %s, with %s processors, on %s. Only ratios can be compared with other machines.\n\n```\n' \
		"$$(uname -m)" "$$(nproc)" "$$(stat -f -c %T "$${TMPDIR:-/tmp}")"; $(GO) run ./bench -program bin/fernladder -rounds 2 && echo '```'; } >docs/figures.new
	@mv docs/figures.new docs/figures.md

screenshots: setup-shots build
	./docs/screenshots/make.sh

docs:
	$(GO) run ./internal/keydocs docs

setup:
	@./setup.sh gcc ccache make cmake meson ninja:ninja-build patch git xz:xz-utils zstd lzip curl svn:subversion unshare:util-linux bsdtar:libarchive-tools pkg-config rpm dnf docker-registry slurmctld slurmd sbatch:slurm-client munged:munge

# What only the long tests need.
setup-check:
	@./setup.sh chromium qemu-aarch64-static:qemu-user-static

setup-shots:
	@./setup.sh chromium Xvfb:xvfb xterm import:imagemagick xdotool gpg:gnupg
