# What a newcomer needs: make test, make demo, make bench, make screenshots.
GO ?= go
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2
# What has goroutines, the longest first. Of the command line and the interface -short leaves the tests in which several things go on at once.
RACE = ./internal/app ./internal/cli ./internal/tui ./internal/store ./internal/yard ./internal/queue ./internal/shareddb ./internal/tosca ./internal/programs \
	./internal/yard/agent ./internal/assist ./internal/lsp ./internal/bundle ./internal/draw ./internal/export ./internal/files \
	./internal/grouped ./internal/ways ./internal/seal ./internal/printed ./internal/stack ./internal/precheck ./internal/whatif \
	./internal/rules ./internal/run ./internal/cloud ./internal/cloud/httpcloud ./internal/identity ./internal/nameserver \
	./internal/postgres ./internal/sqlite ./internal/tui/draft ./internal/tui/inventory

# The tests are of what is given out: the program without C libraries, and without the paths of this machine.
GIVEN = CGO_ENABLED=0 GOFLAGS="-trimpath -buildvcs=false"

.PHONY: sim sim-proof test demo bench fuzz screenshots tools dist reference

test: tools
	@test -z "$$(gofmt -l cmd internal examples scripts)" || { gofmt -l cmd internal examples scripts; echo "run gofmt"; exit 1; }
	$(GIVEN) $(GO) vet ./...
	$(GIVEN) $(GO) run $(STATICCHECK) ./...
	@tmp=$$(scripts/testtmp); trap 'rm -rf "$$tmp"' EXIT; set -e; \
	TMPDIR=$$tmp GOTMPDIR=/tmp $(GIVEN) $(GO) test -vet=off -timeout 20m ./...; \
	( cd scripts/dist && $(GO) vet . && TMPDIR=$$tmp GOTMPDIR=/tmp $(GO) test . ); \
	TMPDIR=$$tmp GOTMPDIR=/tmp $(GO) test -vet=off -p 4 -race -short -timeout 20m $(RACE)

# tmux drives the real interface in the tests, neovim the language server; the race detector needs gcc.
# PostgreSQL and a name server are what connections lead to: the tests run servers of their own. The shells complete
# commands, and rpm installs the package.
tools:
	@scripts/need tmux gcc nvim patch initdb named xmllint git bash-completion zsh fish rpm

# The whole program in made-up futures, 2,000 of them with new seeds: about ten minutes.
sim:
	$(GO) test ./internal/sim -run Futures -timeout 30m -v -first 0 -futures 2000 | grep -v '^=== \|--- PASS'

# The simulation proves itself: the program is built with each of a list of mistakes, and each has to be found. About half an hour.
sim-proof:
	$(GO) test ./internal/sim -run Proof -timeout 3h -v -proof | grep -v '^=== '

# What is given out, in build/dist: for Linux and macOS, the same byte for byte whenever it is made of the same commit.
dist:
	cd scripts/dist && $(GO) run .

# The reference of the commands, made from the program.
reference:
	$(GO) run ./cmd/brickrow man --markdown > docs/commands.md

demo:
	$(GO) run ./cmd/brickrow demo

bench:
	$(GO) test -run '^$$' -bench . -benchtime 15x ./internal/...

fuzz:
	$(GO) test -run '^$$' -fuzz FuzzRead -fuzztime 60s ./internal/tosca
	$(GO) test -run '^$$' -fuzz FuzzParts -fuzztime 60s ./internal/tosca
	$(GO) test -run '^$$' -fuzz FuzzFunction -fuzztime 60s ./internal/tosca
	$(GO) test -run '^$$' -fuzz FuzzFormat -fuzztime 60s ./internal/tosca
	$(GO) test -run '^$$' -fuzz FuzzArchive -fuzztime 60s ./internal/bundle
	$(GO) test -run '^$$' -fuzz FuzzStackFile -fuzztime 60s ./internal/stack
	$(GO) test -run '^$$' -fuzz FuzzRules -fuzztime 60s ./internal/rules
	$(GO) test -run '^$$' -fuzz FuzzLines -fuzztime 60s ./internal/programs
	$(GO) test -run '^$$' -fuzz FuzzCreate -fuzztime 60s ./internal/yard
	$(GO) test -run '^$$' -fuzz FuzzValue -fuzztime 60s ./internal/nameserver

screenshots:
	scripts/screenshots
