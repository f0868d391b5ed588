# Each goal sets up what it needs: `make demo` and `make test` work on a fresh clone.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo quick test test-long mutants lint bench manual site screenshots clean

demo: $(READY)
	$(BIN)/reservoir demo ferry-line

# The loop: lint of what is changed, and all tests that need no service and no minute.
quick: $(READY)
	tests/lint-changed $(BIN)
	RESERVOIR_EXAMPLES=few $(BIN)/python -m pytest -n auto --dist worksteal -m fast

test: $(READY) lint
	tests/system-packages
	$(BIN)/python -m pytest -n auto --dist worksteal

test-long: $(READY)
	tests/system-packages
	RESERVOIR_EXAMPLES=long $(BIN)/python -m pytest -n auto --dist worksteal

# Whether a change in the core is noticed: a sample, in some 20 minutes. `tests/mutants.py --help`.
mutants: $(READY)
	$(BIN)/python -m pip install --quiet --require-hashes -r tests/mutants.lock
	$(BIN)/python tests/mutants.py

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo

bench: $(READY)
	$(BIN)/python bench/run.py
	$(BIN)/python bench/lines.py
	$(BIN)/python bench/agreement.py
	$(BIN)/python bench/reserved.py

manual: $(READY)
	$(BIN)/reservoir explain --all --format markdown --out docs/checks.md
	$(BIN)/python -m reservoir.cli.manual_page > docs/reservoir.1
	$(BIN)/python -m reservoir.cli.sheet_page > docs/sheet-tables.md

# The documentation as pages, in site/.
site: $(READY)
	$(BIN)/mkdocs build --quiet

screenshots: $(READY)
	docs/screenshots/make

clean:
	rm -rf $(VENV) ferry-line site build dist

# The program is installed as it stands in src/; compiling it once spares every later start.
$(READY): requirements.lock pyproject.toml $(shell find src -name '*.py')
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --no-deps --no-build-isolation --editable .
	$(BIN)/python -m compileall -q src
	touch $(READY)
