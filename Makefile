# Two commands matter: `make demo` and `make test`. Each installs what it needs first.
CARGO ?= cargo
BIN := target/release/bivector

.PHONY: demo demo-once test build setup light console lint reference bench load clean

demo: build
	$(BIN) demo

demo-once: build
	$(BIN) demo --once

test: setup console
	$(CARGO) test --workspace

build: light console
	$(CARGO) build --release --package bivector

# Debian packages, Rust and Node: looks, says what is missing, installs only that. `light` leaves out what only the tests need.
setup:
	@scripts/setup tests

light:
	@scripts/setup

console: console/dist/index.html

console/dist/index.html: $(shell find console -type f -not -path '*/node_modules/*' -not -path '*/dist/*') docs/first-site.toml console/node_modules/.package-lock.json
	cd console && npm run --silent build

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-progress --loglevel=error
	@touch $@

lint: console
	$(CARGO) fmt --check
	$(CARGO) clippy --workspace --all-targets -- -D warnings
	cd console && npm run --silent check

# Pages that are generated from the code: a test fails when they are older than it.
reference:
	$(CARGO) run --quiet -- site reference > docs/site-file.md
	$(CARGO) run --quiet -- site methods > docs/methods.md
	$(CARGO) run --quiet -- api-description > docs/openapi.json

bench:
	$(CARGO) bench --workspace

# Echo, bare server and the whole chain in one run, on loopback.
load: setup build
	$(BIN) lab load
	$(BIN) lab load --slapd
	$(BIN) lab load --slapd --hashed
	$(BIN) lab load --approvals 10000

clean:
	$(CARGO) clean
	rm -rf console/dist console/node_modules

# The pictures of docs/screenshots, made anew from the demo's data.
.PHONY: pictures
pictures: build
	node --experimental-websocket --no-warnings scripts/pictures.mjs
