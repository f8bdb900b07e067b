# The house's commands. A fresh machine needs only Python 3.11 or newer and make.
PYTHON ?= python3
BIN := .venv/bin
# Lines in a hundred that the tests must reach.
FLOOR := 95
# Problems of `make laws`.
N ?= 2000

# Python keeps its compiled modules: without them every process compiles 280 files again.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test check bench coverage intervals laws docs docs-shots matrix clean

demo: .venv/ready
	$(BIN)/molino demo

test: .venv/ready
	$(BIN)/python -m pytest

check: .venv/ready
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/mypy --strict examples/typed_use.py
	$(BIN)/lint-imports

bench: .venv/ready
	$(BIN)/python benchmarks/run.py
	$(BIN)/python benchmarks/growth.py

coverage: .venv/ready
	$(BIN)/python -m pytest --cov=molino --cov-report=term:skip-covered --cov-fail-under=$(FLOOR)

intervals: .venv/ready
	$(BIN)/python examples/interval_coverage.py
	$(BIN)/python examples/laboratory_coverage.py
	$(BIN)/python examples/observed_vessels.py 400

# Random problems by the thousand against the laws in tests/laws: make laws N=20000
laws: .venv/ready
	cd tests && ../$(BIN)/python -m laws $(N)

# The tests on every Python from 3.11 to 3.14 that is here, and with the lowest versions allowed (pyproject.toml, tool.tox).
matrix: .venv/ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check 'tox>=4.22'
	$(BIN)/tox run

docs: .venv/docs-ready
	PATH="$(CURDIR)/$(BIN):$$PATH" NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --quiet

docs-shots: .venv/ready
	$(BIN)/python docs/make_screenshots.py

# Installs the package and its tools; done again when pyproject.toml changes.
.venv/ready: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit("Molino needs Python 3.11 or newer; say which: make PYTHON=python3.12" if sys.version_info < (3, 11) else 0)'
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	$(BIN)/python -m compileall -q src
	touch $@

# The tools of the documentation site.
.venv/docs-ready: .venv/ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[docs]'
	touch $@

clean:
	rm -rf .venv .tox molino-demo site
