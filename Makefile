# make demo   sets up everything and runs the demo
# make test   sets up everything and runs all tests
# make check  format, lint and types
PYTHON ?= python3
VENV ?= .venv
BIN = $(VENV)/bin
STAMP = $(VENV)/ready

.PHONY: demo test check clean

$(STAMP): pyproject.toml
	./setup.sh $(PYTHON) $(VENV)
	touch $@

demo: $(STAMP)
	$(BIN)/wexagraph demo --into saltmere

test: $(STAMP) check
	PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python -m tests

check: $(STAMP)
	$(BIN)/ruff format --check -q src tests
	$(BIN)/ruff check -q src tests
	$(BIN)/mypy

clean:
	rm -rf $(VENV) saltmere build dist
