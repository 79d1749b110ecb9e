# Everything from a bare checkout with Python 3.11+ and make: `make demo`, `make test`.
PYTHON ?= python3
VENV   ?= .venv
BIN     = $(VENV)/bin

.PHONY: demo test lint lint-scripts bench clean

# Two stamps, so that `make demo` does not wait for the developers' packages.
$(VENV)/.demo: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable '.[demo]'
	touch $@

$(VENV)/.develop: $(VENV)/.demo
	$(BIN)/pip install --quiet --editable '.[demo,test,lint]'
	touch $@

demo: $(VENV)/.demo
	$(BIN)/humble demo

# Hundreds of programs are started: where nothing compiled is kept, each compiles all modules anew.
test: $(VENV)/.develop lint
	PYTHONDONTWRITEBYTECODE= $(BIN)/python -m pytest -n 4 --dist loadgroup

lint: $(VENV)/.develop lint-scripts
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

# The scripts of the report; where there is no npm they are checked by CI alone.
lint-scripts:
	@if command -v npm >/dev/null 2>&1; then \
	  npm install --silent --no-package-lock --no-audit --no-fund && npm run --silent lint; \
	elif [ -n "$$CI" ]; then echo "npm is missing: the report's scripts are not checked."; exit 1; \
	else echo "npm is missing: the report's scripts are not checked here."; fi

bench: $(VENV)/.develop
	$(BIN)/python -m benchmarks

clean:
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache .pytest_cache .hypothesis node_modules
