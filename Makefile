# `make demo` and `make test` do all the set-up themselves.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test test-machines test-extended check docs deb wheel hostile bench bench-works screenshots clean

demo: .venv/installed
	$(BIN)/daskel demo

test: .venv/installed
	tools/packages
	$(BIN)/pytest -m "not machine and not extended" -n auto --dist loadfile

test-machines: .venv/installed
	tools/packages
	$(BIN)/pytest -m "machine and not extended"

test-extended: .venv/installed
	tools/packages
	$(BIN)/pytest -m extended

check: .venv/installed
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

docs: .venv/installed
	$(BIN)/python tools/reference
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build
	@echo "docs: build/docs/index.html"

wheel: .venv/installed
	rm -rf build/wheel
	$(BIN)/pip wheel --quiet --disable-pip-version-check --no-deps --wheel-dir build/wheel .

deb:
	tools/packages debhelper dpkg-dev python3-venv
	packaging/build-deb

hostile: .venv/installed
	tools/packages
	$(BIN)/python tools/hostile

BENCHES := tftp http_files loss dhcp servers nfs private blocks multicast mop site apply record forecast start
PAGE := docs/performance.md

bench: export BENCH := build/bench.jsonl
bench: build/bench/installed
	rm -f $(BENCH)
	for file in $(BENCHES); do build/bench/bin/python bench/$$file.py || exit 1; done
	build/bench/bin/python bench/growth.py $(PAGE) docs/growth.png
	build/bench/bin/python bench/capacity.py $(PAGE)
	build/bench/bin/python bench/table.py $(BENCH) $(PAGE)
	build/bench/bin/python bench/picture.py $(BENCH) docs/screenshots/bench.png

bench-works: export BENCH_QUICK := 1
bench-works: .venv/installed
	for file in $(BENCHES) growth capacity; do $(BIN)/python bench/$$file.py || exit 1; done
	$(BIN)/python bench/where.py lookup

# The distribution's own Python, which users have: one that was built without optimisation is slower.
build/bench/installed: pyproject.toml constraints.txt
	tools/packages python3-venv
	/usr/bin/python3 -m venv build/bench
	build/bench/bin/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[plot,postgresql]' hypothesis pytest
	touch $@

screenshots: .venv/installed
	$(BIN)/python tools/screenshots

.venv/installed: pyproject.toml constraints.txt
	tools/packages python3-venv
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev]'
	touch $@

clean:
	rm -rf .venv .cache build src/*.egg-info
