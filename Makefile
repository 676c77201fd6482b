# make demo | make test are all a newcomer needs: each does its own set-up.

.PHONY: demo test check bench fuzz build console client pictures setup-build setup-demo setup-test
.DELETE_ON_ERROR:

DATA ?= demo-data
# eapol_test built with TEAP, which no package has; "absent" leaves its test out.
TEAP_CLIENT ?= $(or $(wildcard $(CURDIR)/../shared/tools/eapol_test-teap),absent)
# Seconds for each fuzz target.
SECONDS_EACH ?= 60

demo: setup-demo build
	target/debug/regnant demo --data $(DATA)

test: setup-test console
	cd console && npm test --silent
	@echo "client with TEAP: $(TEAP_CLIENT)"
	REGNANT_TEAP_CLIENT=$(TEAP_CLIENT) cargo test --workspace --lib --bins --tests --no-fail-fast

check: console
	cargo fmt --all --check
	cargo clippy --workspace --all-targets -- -D warnings
	cd console && npm run --silent check && npm run --silent fresh

bench: console
	cargo bench -p regnant-policy --bench large
	cargo bench -p regnant --bench whole_service --bench handshakes --bench flood --bench growth --bench outside --bench workshop

fuzz: setup-build
	tools/fuzz $(SECONDS_EACH)

build: setup-build console
	cargo build -p regnant

console: console/dist/index.html

console/dist/index.html: console/node_modules/.package-lock.json console/index.html console/vite.config.ts \
		$(shell find console/src console/public -type f)
	cd console && npm run --silent build

console/node_modules/.package-lock.json: console/package.json console/package-lock.json | setup-build
	# Not `npm ci`: it wants every platform's optional packages in the lock file,
	# and a registry may carry only some.
	cd console && npm install --ignore-scripts --no-audit --no-fund && touch node_modules/.package-lock.json

# After a change of the API: its description, and the console's client from it.
client: console
	cargo run -q -p regnant-service --example openapi > console/src/api/openapi.json
	cd console && npm run --silent client

# With `make demo` running elsewhere: the pictures that the README shows.
pictures: setup-test build
	REGNANT_TOKEN_FILE=$(DATA)/token cargo run -q -p regnant --example pictures -- docs/screenshots

setup-build:
	@tools/setup build

setup-demo:
	@tools/setup demo

setup-test:
	@tools/setup build demo test
