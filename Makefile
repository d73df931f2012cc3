# Rust Gauge. `make help` lists the targets.
SHELL := /bin/bash
export PATH := $(CURDIR)/.venv/bin:$(PATH)
.PHONY: help demo serve test lint bench fuzz attack clean cluster failover processes openapi client days screenshots lock

help: ## this list
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

demo: ## set everything up and start Rust Gauge with demo data; Ctrl-C stops it
	@tools/setup.sh run
	@exec .venv/bin/rustgauged demo

serve: ## set everything up and start Rust Gauge for real use (settings: RUSTGAUGE_..., rust-gauge.toml)
	@tools/setup.sh run
	@exec .venv/bin/rustgauged run

# Tests of the service wait for databases and processes a third of the time: half as many workers again as cores.
test: ## set everything up and run every test: Python, console, browser
	@tools/setup.sh test
	cd console && npm run --silent test
	.venv/bin/python -m pytest -n $$(( $$(nproc) * 3 / 2 > 8 ? 8 : $$(nproc) * 3 / 2 ))

lint: ## linters and types: ruff, mypy, layers, eslint, tsc, generated files
	@tools/setup.sh test
	.venv/bin/ruff check src tests tools bench attack
	.venv/bin/ruff format --check src tests tools bench attack
	.venv/bin/mypy
	.venv/bin/mypy -p bench -p attack
	.venv/bin/lint-imports --no-cache
	.venv/bin/python tools/openapi.py --check
	.venv/bin/python tools/audit_rules.py --check
	.venv/bin/python tools/sync_client.py --check
	.venv/bin/python tools/cli_reference.py --check
	.venv/bin/python tools/dead_code.py
	.venv/bin/python tools/language.py
	cd console && npm run --silent lint && npm run --silent types

bench: ## measure the figures of docs/performance.md
	@tools/setup.sh test
	.venv/bin/python -m bench

fuzz: ## run every parser on mutated inputs (SECONDS=60)
	@tools/setup.sh test
	.venv/bin/python -m tests.fuzz $(or $(SECONDS),60)

attack: ## attack an installation of its own for an hour: schema, roles, bombs, kills, soak (docs/reliability.md)
	@tools/setup.sh test
	.venv/bin/python -m attack

cluster: ## run a cluster of three MariaDB nodes on this machine, with HAProxy in front (docs/operations.md)
	@tools/setup.sh cluster
	@exec .venv/bin/rustgauged cluster

failover: ## kill, stop, freeze and cut off the writer of such a cluster, 30 times at random (docs/scale.md)
	@tools/setup.sh cluster
	.venv/bin/python -m attack.failover

processes: ## four services behind HAProxy, a random one killed every ten seconds (docs/scale.md)
	@tools/setup.sh cluster
	.venv/bin/python -m attack.processes

openapi: ## write the OpenAPI document, the console's types and docs/api.md anew
	@tools/setup.sh test
	.venv/bin/python tools/openapi.py
	cd console && npm run --silent generate

client: ## write the synchronous client from the asynchronous one anew
	@tools/setup.sh test
	.venv/bin/python tools/sync_client.py

days: ## walk through the twelve pieces of work on a demo of its own, and write docs/days anew
	@tools/setup.sh test
	.venv/bin/python -m tests.days

screenshots: ## take the pictures of docs/screenshots from a demo that runs (PASSWORD=...)
	.venv/bin/python tools/screenshots.py

lock: ## resolve the Python lock files anew (needs pip-tools)
	cd requirements && for f in base build node dev; do \
	  pip-compile -q --generate-hashes --no-emit-index-url --no-emit-find-links --no-emit-trusted-host \
	    --strip-extras --allow-unsafe -o $$f.txt $$f.in; done

clean: ## remove what was built or installed here; the data under var/ stays
	rm -rf .venv console/node_modules src/rust_gauge/service/console_files build src/*.egg-info
	rm -rf .pytest_cache .mypy_cache .ruff_cache .hypothesis .import_linter_cache
	find src tests bench tools -name __pycache__ -prune -exec rm -rf {} + 2>/dev/null || true
