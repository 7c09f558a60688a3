# make demo and make test are all the set-up that a fresh machine needs.

GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo unversioned)
LDFLAGS  = -s -w -X main.version=$(VERSION)
BIN      = bin/pravet

.PHONY: build demo test lint bench fuzz screenshots clean need-go need-test need-bench need-screenshots

build: need-go
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags '$(LDFLAGS)' -o $(BIN) ./cmd/pravet

# The full example, walked through command by command.
demo: build
	./$(BIN) demo

# Everything that is checked before a change lands.
test: need-go need-test lint
	$(GO) test -timeout 9m ./...

lint: need-go
	@out="$$(gofmt -l .)"; if [ -n "$$out" ]; then echo "gofmt would change:"; echo "$$out"; exit 1; fi
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

# Each reader of input is fed with what nobody would write, FUZZTIME each.
FUZZTIME ?= 5m
fuzz: need-go
	./tools/fuzz.sh $(FUZZTIME)

# Go benchmarks, then whole commands at scale beside sqlite3 and sort + comm.
bench: build need-bench
	$(GO) test -run '^$$' -bench . -benchmem ./...
	GO=$(GO) ./tools/bench.sh ./$(BIN)

# One current picture of each main command's output, in docs/screenshots.
screenshots: build need-screenshots
	./tools/screenshots.sh ./$(BIN) docs/screenshots

need-go:
	@command -v $(GO) >/dev/null || { echo "Go 1.26 or newer is needed to build Pravet; install it and put it on the PATH."; exit 1; }

need-test:
	@./tools/need.sh git:git sqlite3:sqlite3 script:bsdutils diff:diffutils mount:mount

need-bench:
	@./tools/need.sh sqlite3:sqlite3 /usr/bin/time:time sort:coreutils

need-screenshots:
	@./tools/need.sh git:git Xvfb:xvfb xterm:xterm import:imagemagick /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf:fonts-dejavu-core

clean:
	rm -rf bin
