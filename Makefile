PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
export PIP_DISABLE_PIP_VERSION_CHECK := 1
# Tests start many processes: each would compile every module again.
export PYTHONDONTWRITEBYTECODE :=
# Nor do they multiply matrices: threads for that take each of them time.
export OPENBLAS_NUM_THREADS := 1

# One more than there are cores: many tests wait for a server, a browser or a limit of time.
WORKERS := $(shell echo $$(( $$(nproc 2>/dev/null || echo 2) + 1 )))

.PHONY: demo check unit servers test test-spark docs page benchmark clean

# Lark's strict mode, which a test uses, needs interegular. It lies beside the environment: where lark can import it,
# lark checks the grammar's terminals at every start, for half a second.
$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[dev]'
	$(BIN)/pip install --quiet --upgrade --target $(VENV)/strict 'interegular>=0.3.3'
	touch $@

# What the page's script is bundled, linted and tested with.
web/node_modules/.installed: web/package.json web/package-lock.json
	tests/install_browser.sh
	npm ci --prefix web --silent --no-audit --no-fund
	touch $@

demo: $(VENV)/.installed
	$(BIN)/relatum demo hollowmere

# Lint, types, layers and names: what is quick to check.
check: $(VENV)/.installed
	$(BIN)/ruff check src tests examples benchmarks docs
	$(BIN)/ruff format --check --quiet src tests examples benchmarks docs
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo
	if [ -f ../shared/tools/own_names.py ]; then $(PYTHON) ../shared/tools/own_names.py .; fi

# The tests of the core, for while one works: no server, no browser, no process of its own.
unit: $(VENV)/.installed
	$(BIN)/pytest --numprocesses $(WORKERS) -m "not outside"

# What the tests start: PostgreSQL and a browser. One after the other, since Debian installs one thing at a time.
servers:
	tests/install_postgresql.sh
	tests/install_browser.sh
	$(MAKE) --no-print-directory web/node_modules/.installed

# Everything but Spark. What is installed is waited for while types are checked.
test: $(VENV)/.installed
	$(MAKE) --no-print-directory --jobs 2 check servers
	$(BIN)/pytest --numprocesses $(WORKERS) --dist loadgroup

$(VENV)/.spark: $(VENV)/.installed
	$(BIN)/pip install --quiet --editable '.[dev,spark]'
	touch $@

# The same model on Spark: apart, so that a newcomer does not wait for it.
test-spark: $(VENV)/.spark
	tests/install_java.sh
	$(BIN)/pytest tests/engine/on_spark.py

# The documentation, as pages that need no network: build/site/index.html.
docs: $(VENV)/.installed
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --quiet --strict

# The script and style of a grid's page, bundled anew from web/src into the package.
page: web/node_modules/.installed
	cd web && npm run --silent build

benchmark: $(VENV)/.installed
	$(BIN)/pip install --quiet 'tpchgen-cli>=4.0'
	$(BIN)/python benchmarks/star.py
	$(BIN)/python benchmarks/decisions.py
	$(BIN)/python benchmarks/language.py
	$(BIN)/python benchmarks/star.py --engine duckdb
	$(BIN)/python benchmarks/language.py --engine duckdb
	$(BIN)/python benchmarks/jumps.py
	$(BIN)/python benchmarks/grids.py
	$(BIN)/python benchmarks/draft.py
	$(BIN)/python benchmarks/page.py
	$(BIN)/python benchmarks/view.py

clean:
	rm -rf $(VENV) hollowmere
