# One place for the set-up; every target works on a machine with Python 3.11 and git alone.
PYTHON ?= python3
VENV   ?= .venv

.PHONY: demo test quick lint clean

# What the product itself needs, and no more: enough for the demo.
$(VENV)/runtime: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(VENV)/bin/python -m pip install --quiet --disable-pip-version-check --editable .
	touch $(VENV)/runtime

$(VENV)/installed: $(VENV)/runtime
	$(VENV)/bin/python -m pip install --quiet --disable-pip-version-check --editable '.[test,lint]'
	touch $(VENV)/installed

demo: $(VENV)/runtime
	$(VENV)/bin/keen-matrix demo

# Compiled once, and not by each of the many processes that are tested.
test: $(VENV)/installed
	$(VENV)/bin/python -m compileall -q src
	$(VENV)/bin/python -m pytest

# Nearly all tests in about half of the time, for while one works; `make test` runs all of them.
quick: $(VENV)/installed
	$(VENV)/bin/python -m compileall -q src
	$(VENV)/bin/python -m pytest -m "not long"

lint: $(VENV)/installed
	$(VENV)/bin/ruff check .
	git ls-files -- ':!tests' | xargs $(VENV)/bin/codespell
	$(VENV)/bin/mypy

clean:
	rm -rf $(VENV) ferry-office .keen-matrix
