# make demo and make test work on a fresh clone: they make .venv and install into it what they need.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test check bench clean

demo: .venv/demo
	$(BIN)/rmend demo

test: .venv/dev
	$(BIN)/python -m pytest -n auto

check: .venv/dev
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy

bench: .venv/bench
	$(BIN)/python -m benchmarks --keep --rest 10

.venv/base:
	$(PYTHON) -c 'import sys; sys.exit("Rapid Mender needs Python 3.11 or newer" if sys.version_info < (3, 11) else 0)'
	$(PYTHON) -m venv .venv
	touch $@

.venv/demo: .venv/base pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	touch $@

.venv/dev: .venv/base pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $@

.venv/bench: .venv/base pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[bench]'
	touch $@

clean:
	rm -rf .venv harrowmere .pytest_cache .mypy_cache .ruff_cache .hypothesis
