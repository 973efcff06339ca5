PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
export PIP_DISABLE_PIP_VERSION_CHECK := 1

.PHONY: demo test benchmark clean

$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[dev]'
	# Lark's strict mode needs this; where it can be imported, lark also checks terminals at every start, for half a second.
	$(BIN)/pip install --quiet --target $(VENV)/strict 'interegular>=0.3.3'
	touch $@

demo: $(VENV)/.installed
	$(BIN)/relatum demo hollowmere

test: $(VENV)/.installed
	$(BIN)/ruff check src tests examples benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports
	if [ -f ../shared/tools/own_names.py ]; then $(PYTHON) ../shared/tools/own_names.py .; fi
	$(BIN)/pytest --numprocesses auto

benchmark: $(VENV)/.installed
	$(BIN)/python benchmarks/star.py

clean:
	rm -rf $(VENV) hollowmere
