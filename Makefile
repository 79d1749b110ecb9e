# Everything from a bare checkout with Python 3.11+ and make: `make demo`, `make test`.
PYTHON ?= python3
VENV   ?= .venv
BIN     = $(VENV)/bin

.PHONY: demo test lint bench clean

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

test: $(VENV)/.develop lint
	$(BIN)/python -m pytest -n 3 --dist loadgroup

lint: $(VENV)/.develop
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/.develop
	$(BIN)/python -m benchmarks

clean:
	rm -rf $(VENV) build dist .mypy_cache .ruff_cache .pytest_cache .hypothesis
