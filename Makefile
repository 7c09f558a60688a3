# make demo and make test are all the set-up that a fresh machine needs.

GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo unversioned)
LDFLAGS  = -s -w -X main.version=$(VERSION)
BIN      = bin/pravet

.PHONY: build install dist others demo test check lint reckon peers machines bench fuzz screenshots clean need-go need-test need-bench need-screenshots

build: need-go
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $(BIN) ./cmd/pravet

# The program, its manual pages and its completions, under PREFIX.
PREFIX  ?= /usr/local
SHARE    = $(DESTDIR)$(PREFIX)/share
install: build
	install -d $(DESTDIR)$(PREFIX)/bin $(SHARE)/man/man1 $(SHARE)/bash-completion/completions $(SHARE)/zsh/site-functions \
		$(SHARE)/fish/vendor_completions.d
	install -m 755 $(BIN) $(DESTDIR)$(PREFIX)/bin/pravet
	$(GO) run ./tools/man $(SHARE)/man/man1
	./$(BIN) completion bash >$(SHARE)/bash-completion/completions/pravet
	./$(BIN) completion zsh >$(SHARE)/zsh/site-functions/_pravet
	./$(BIN) completion fish >$(SHARE)/fish/vendor_completions.d/pravet.fish

# One static program for each system and processor, with their SHA-256 sums, in dist/.
SYSTEMS  = linux-amd64 linux-arm64 darwin-amd64 darwin-arm64 windows-amd64 windows-arm64
dist: need-go
	rm -rf dist && mkdir dist
	@for s in $(SYSTEMS); do \
		end=; case $$s in windows-*) end=.exe;; esac; \
		echo "dist/pravet-$$s$$end"; \
		CGO_ENABLED=0 GOOS=$${s%-*} GOARCH=$${s#*-} $(GO) build -trimpath -ldflags '$(LDFLAGS)' \
			-o dist/pravet-$$s$$end ./cmd/pravet || exit 1; \
	done
	cd dist && sha256sum pravet-* >SHA256SUMS

# The program builds and vets on the systems that tests do not run on.
others: need-go
	@for s in darwin windows; do \
		echo "vet for $$s"; \
		CGO_ENABLED=0 GOOS=$$s $(GO) vet ./... && CGO_ENABLED=0 GOOS=$$s $(GO) build -o /dev/null ./cmd/pravet || exit 1; \
	done

# The full example, walked through command by command.
demo: build
	./$(BIN) demo

# All tests. What they write is kept in memory, where there is room; vet is part of check. Without cgo, as the program is
# built: what tests build of it is compiled once.
test: need-go need-test
	@room="$$(./tools/room.sh)"; CGO_ENABLED=0 TMPDIR="$${room:-$${TMPDIR:-/tmp}}" \
		$(GO) test -vet=off -ldflags='-s -w' -timeout 30m ./...

# Everything that is checked before a change lands.
check: lint others test

lint: need-go
	@out="$$(gofmt -l .)"; if [ -n "$$out" ]; then echo "gofmt would change:"; echo "$$out"; exit 1; fi
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

# Each reader of input is fed with what nobody would write, FUZZTIME each.
FUZZTIME ?= 5m
fuzz: need-go
	./tools/fuzz.sh $(FUZZTIME)

# Small worlds worked out twice, asked the same questions and lived through: many more than make test has.
WORLDS = 10000
reckon: need-go
	@room="$$(./tools/room.sh)"; export TMPDIR="$${room:-$${TMPDIR:-/tmp}}"; \
		SEEDS="0 $(WORLDS)" $(GO) test -timeout 600m ./internal/reference && \
		HISTORIES=$(WORLDS) $(GO) test -timeout 600m ./internal/past

# Servers with a personality, drawn at random, are lived with: many more than make test has.
PEERS = 1000
peers: need-go need-test
	@room="$$(./tools/room.sh)"; export TMPDIR="$${room:-$${TMPDIR:-/tmp}}"; \
		PEERS="0 $(PEERS)" $(GO) test -count=1 -timeout 600m ./cmd/pravet -run 'EndsRight$$'

# Three machines carry out one plan while they are stopped, killed and cut off: many more times than make test has.
MACHINES = 200
machines: need-go need-test
	@room="$$(./tools/room.sh)"; export TMPDIR="$${room:-$${TMPDIR:-/tmp}}"; \
		PEERS="0 $(MACHINES)" $(GO) test -count=1 -timeout 600m ./cmd/pravet -run 'CarryOutOnePlan$$'

# Go benchmarks, then whole commands at scale beside sqlite3 and sort + comm.
bench: build need-bench
	$(GO) test -run '^$$' -bench . -benchmem ./...
	GO=$(GO) ./tools/bench.sh ./$(BIN)

# One current picture of each main command's output, in docs/screenshots.
screenshots: build need-screenshots
	./tools/screenshots.sh ./$(BIN) docs/screenshots

need-go:
	@command -v $(GO) >/dev/null || { echo "Go 1.26 or newer is needed to build Pravet; install it and put it on the PATH."; exit 1; }

# Servers that others have written, from npm's registry, are kept in tools/peers.
need-test:
	@./tools/need.sh ssh-keygen:openssh-client sha256sum:coreutils tar:tar node:nodejs npm:npm git:git sqlite3:sqlite3 script:bsdutils diff:diffutils mount:mount systemd-analyze:systemd python3:python3 strace:strace \
		/usr/sbin/slapd:slapd ldapmodify:ldap-utils psql:postgresql-client /usr/lib/postgresql:postgresql chromium:chromium
	@./tools/peers/need.sh

need-bench:
	@./tools/need.sh sqlite3:sqlite3 /usr/bin/time:time sort:coreutils

need-screenshots:
	@./tools/need.sh git:git Xvfb:xvfb xterm:xterm import:imagemagick chromium:chromium /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf:fonts-dejavu-core

clean:
	rm -rf bin dist
