# make demo: a virtual environment, the tool, and the full example.   make test: the same, then everything that is checked.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin

.PHONY: demo test lint environment clean

environment: $(VENV)/.installed

# Made anew when the project's description changes.
$(VENV)/.installed: pyproject.toml
	$(PYTHON) -c 'import sys; assert sys.version_info >= (3, 11), "Python 3.11 or newer is needed (make PYTHON=...)"'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: environment
	$(BIN)/keenharbor demo --dir harbor-demo

lint: environment
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

test: lint
	$(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder --durations 40

clean:
	rm -rf $(VENV) harbor-demo
