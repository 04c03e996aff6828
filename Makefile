# make demo: Rinse with a year of Skerry Light, in the browser.   make test: everything that is checked.
SHELL := /bin/bash
# Random tests search from one seed, so that what passes once passes again; make proof searches from new ones.
export PROPTEST_RNG_SEED ?= 20261201
APT := chromium chromium-driver
DEMO := target/demo

.PHONY: demo test types proof bench attack deps format

demo: target/release/rinse $(DEMO)/rinse.db
	./target/release/rinse demo --data $(DEMO)

$(DEMO)/rinse.db: | target/release/rinse
	@echo "Making a year of Skerry Light (three to four minutes, once) …"
	RUST_LOG=warn ./target/release/rinse demo --prepare --data $(DEMO)

target/release/rinse: web/dist/.built $(shell find crates -name '*.rs' -o -name '*.toml' -o -name '*.sql' 2>/dev/null) Cargo.lock
	cargo build --release --locked -p rinse
	@touch $@

web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

web/dist/.built: web/node_modules/.installed web/index.html web/vite.config.js web/models.config.js $(shell find web/src web/public -type f 2>/dev/null)
	cd web && npm run -s build
	@touch $@

# Debian's Chromium and its driver, for the browser tests.
deps:
	@miss=""; for p in $(APT); do dpkg-query -W -f='$${db:Status-Status}\n' $$p 2>/dev/null | grep -qx installed || miss="$$miss $$p"; done; \
	if [ -n "$$miss" ]; then echo "installing:$$miss"; S=""; [ "$$(id -u)" = 0 ] || S=sudo; d=$$(mktemp -d); mkdir $$d/partial; chmod 755 $$d; \
	  $$S apt-get -o DPkg::Lock::Timeout=300 update -qq && DEBIAN_FRONTEND=noninteractive $$S apt-get -o DPkg::Lock::Timeout=300 -o Dir::Cache::archives=$$d install -y -qq --no-install-recommends $$miss; r=$$?; rm -rf $$d; exit $$r; fi

test: deps web/dist/.built
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --locked -- -D warnings
	cd web && npm run -s check
	cargo test --workspace --locked --no-run
	./target/debug/rinse openapi | diff - web/openapi.json || { echo "web/openapi.json is not current: run make types"; exit 1; }
	cd web && npx openapi-typescript openapi.json -o node_modules/.types.ts >/dev/null && diff node_modules/.types.ts src/api/schema.ts
	cargo test --workspace --locked

# The front end's types, made again from the handlers.
types: web/node_modules/.installed
	cargo build --workspace
	./target/debug/rinse openapi > web/openapi.json
	cd web && npm run -s types

# Whole trials simulated ten times as often as by make test, a thousand histories of all that is kept as it happens, and every random test
# from a seed of this day.
proof: export PROPTEST_RNG_SEED := $(shell date +%s)
proof:
	@echo "Seed of the random tests: $$PROPTEST_RNG_SEED"
	RUNS=20000 cargo test --release --locked -p rinse-core --test simulated_verdicts
	HISTORIES=1000 cargo test --locked --workspace --test whole -- brought:: cohorts:: counts:: groups:: machines:: rollups::
	cargo test --locked --workspace --lib --test whole

bench: target/release/rinse
	cargo run --release --locked -p rinse --example bench

# Fuzzing over the API's description, kills in the middle of everything, a full disk, clocks that go wrong, slow clients. Under half an hour.
FUZZ := target/attack-venv/bin/schemathesis
attack: target/release/rinse $(FUZZ)
	$(MAKE) -s deps APT="faketime"
	cargo build --release --locked -p rinse --example attack
	./target/release/examples/attack
	RINSE_BIN=target/release/rinse FUZZ=$(FUZZ) python3 crates/rinse/examples/attack/fuzz.py

$(FUZZ):
	python3 -m venv target/attack-venv
	target/attack-venv/bin/pip install -q schemathesis==4.32.5
	@touch $@

format:
	cargo fmt --all
	cd web && npm run -s format
