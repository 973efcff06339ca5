PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
export PIP_DISABLE_PIP_VERSION_CHECK := 1

.PHONY: demo test benchmark clean

# Lark's strict mode, which a test uses, needs interegular. It lies beside the environment: where lark can import it,
# lark checks the grammar's terminals at every start, for half a second.
$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[dev]'
	$(BIN)/pip install --quiet --upgrade --target $(VENV)/strict 'interegular>=0.3.3'
	touch $@

demo: $(VENV)/.installed
	$(BIN)/relatum demo hollowmere

test: $(VENV)/.installed
	$(BIN)/ruff check src tests examples benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports
	if [ -f ../shared/tools/own_names.py ]; then $(PYTHON) ../shared/tools/own_names.py .; fi
	tests/install_postgresql.sh
	$(BIN)/pytest --numprocesses auto

benchmark: $(VENV)/.installed
	$(BIN)/python benchmarks/star.py
	$(BIN)/python benchmarks/language.py
	$(BIN)/python benchmarks/jumps.py
	$(BIN)/python benchmarks/grids.py
	$(BIN)/python benchmarks/draft.py

clean:
	rm -rf $(VENV) hollowmere
