# The two commands of the README: `make demo` and `make test`. Each makes .venv first when it is not there.
PYTHON ?= $(shell command -v python3.13 >/dev/null 2>&1 && python3.13 -c '' 2>/dev/null && echo python3.13 || \
            (command -v python3.12 >/dev/null 2>&1 && python3.12 -c '' 2>/dev/null && echo python3.12) || \
            (command -v python3.11 >/dev/null 2>&1 && python3.11 -c '' 2>/dev/null && echo python3.11) || echo python3)
BIN := .venv/bin

.PHONY: demo test test-long check docs site package bench clean

demo: .venv/.installed
	$(BIN)/chaff demo

test: .venv/.installed-dev
	$(BIN)/python -m pytest -n 2 --dist worksteal -m "not long" $(COVER)

# Simulations, whole runs that are held against each other, programs that are killed: what takes minutes. CI runs both.
test-long: .venv/.installed-dev
	$(BIN)/python -m pytest -n 2 --dist worksteal -m long

check: .venv/.installed-dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	@if [ -f .coverage ]; then $(BIN)/coverage report --fail-under=92 --format=total; \
	else echo "no coverage measured: make test COVER='--cov --cov-report=' does, CI too"; fi

docs: .venv/.installed
	$(BIN)/python docs/make_tables.py

# The site, to be read from disk: docs/_site/index.html. Warnings are errors, every link is followed.
site: .venv/.installed-site docs
	$(BIN)/python -m sphinx -W --keep-going -q -b html docs docs/_site
	$(BIN)/python docs/check_links.py docs/_site

# An sdist and a wheel, looked through, and the wheel in an empty environment: it has to select.
package: .venv/.installed-dev
	rm -rf dist build/wheel-venv
	$(BIN)/python -m build --outdir dist . > /dev/null
	$(BIN)/python -m twine check --strict dist/*
	$(BIN)/python -m venv build/wheel-venv
	build/wheel-venv/bin/python -m pip install --quiet dist/*.whl
	cd build && wheel-venv/bin/python -c 'import chaff; chaff.demo.lots(rows=200).to_csv("lots.csv", index=False)'
	cd build && wheel-venv/bin/chaff help dates > /dev/null
	cd build && wheel-venv/bin/chaff select lots.csv --target loaf_volume --plan quick --no-state --out wheel --force > /dev/null
	@du -sh build/wheel-venv | cut -f1 | sed 's/^/installed: /'

bench: .venv/.installed-dev
	$(BIN)/python benchmarks/forward_search.py
	$(BIN)/python benchmarks/inflation.py
	$(BIN)/python benchmarks/start_up.py

.venv/bin/python:
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "chaff needs Python 3.11 or newer")'
	$(PYTHON) -m venv .venv

KERNELS := hatch_build.py $(wildcard src/chaff/kernels/*.pyx src/chaff/kernels/*.pxd)

.venv/.installed: .venv/bin/python pyproject.toml $(KERNELS)
	$(BIN)/python -m pip install --quiet --editable .
	touch $@

.venv/.installed-dev: .venv/bin/python pyproject.toml $(KERNELS)
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	touch $@ .venv/.installed

.venv/.installed-site: .venv/bin/python pyproject.toml $(KERNELS)
	$(BIN)/python -m pip install --quiet --editable '.[site]'
	touch $@

clean:
	rm -rf .venv chaff-demo docs/_site docs/_made docs/gallery docs/reference/calls
