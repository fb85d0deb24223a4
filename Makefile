# `make demo` and `make test` do all the set-up themselves.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test check bench screenshots clean

demo: .venv/installed
	$(BIN)/daskel demo

test: .venv/installed
	tools/packages
	$(BIN)/pytest

check: .venv/installed
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: .venv/installed
	$(BIN)/python bench/tftp.py
	$(BIN)/python bench/http_files.py
	$(BIN)/python bench/dhcp.py
	$(BIN)/python bench/nfs.py
	$(BIN)/python bench/site.py

screenshots: .venv/installed
	$(BIN)/python tools/screenshots

.venv/installed: pyproject.toml
	tools/packages python3-venv
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

clean:
	rm -rf .venv .cache build src/*.egg-info
