# make demo and make test work on a fresh clone: they make .venv and install into it what they need.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: help demo test test-quick test-long test-installs check bench clean

help: ## list these targets
	@grep -E '^[a-z-]+:.*## ' Makefile | sed -E 's/^([a-z-]+):[^#]*## /\1\t/' | expand -t 16

demo: .venv/demo ## the whole story on a made-up town's tree register, on SQLite
	$(BIN)/rmend demo

test: .venv/dev ## every test, in parallel, on real database servers too
	$(BIN)/python -m pytest -n auto --dist worksteal

test-quick: .venv/dev ## the tests that need no database server, and no patience
	$(BIN)/python -m pytest -n auto --dist worksteal -m "not postgresql and not mariadb and not slow"

test-long: .venv/dev ## every test from a new seed, with twenty times as many examples; kills, crowds, other versions (some hours)
	RMEND_TEST_TIMES=20 RMEND_TEST_SEED=$${RMEND_TEST_SEED:-$$(date +%s)} $(BIN)/python -m pytest -n auto --dist worksteal
	$(BIN)/python -m tests.long 6
	$(BIN)/python -m tests.installs

test-installs: .venv/dev ## the demo and the examples with the lowest and the newest versions of what is needed (some minutes)
	$(BIN)/python -m tests.installs

check: .venv/dev ## ruff and mypy
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy

bench: .venv/bench ## the benchmarks at full size, kept in docs/benchmarks.md (some ten minutes)
	$(BIN)/python -m benchmarks --keep --rest 10

.venv/base:
	$(PYTHON) -c 'import sys; sys.exit("Rapid Mender needs Python 3.11 or newer" if sys.version_info < (3, 11) else 0)'
	$(PYTHON) -m venv .venv
	touch $@

.venv/demo: .venv/base pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	touch $@

.venv/dev: .venv/base pyproject.toml
	$(BIN)/python -m pip install --quiet --no-compile --disable-pip-version-check -e '.[dev]'
	touch $@

.venv/bench: .venv/base pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[bench]'
	touch $@

clean: ## remove what the others made
	rm -rf .venv harrowmere .pytest_cache .mypy_cache .ruff_cache .hypothesis
