# make demo   sets up everything and runs the demo
# make test   sets up everything and runs all tests
# make quick  what a change breaks most likely, in 90 seconds
# make full   all tests, and all rounds of those that are repeated with other numbers each time
# make newest  all tests with the parts that pip gives today; make oldest  with the lowest that pyproject.toml allows
# make servers  an account at every mail server that installs here, and the table of docs/accounts.md
# make manual the manual page, docs/wexagraph.1
# make check  format, lint and types
# make bench  all benchmarks, a table each (see benchmarks/README.md)
PYTHON ?= python3
VENV ?= .venv
BIN = $(VENV)/bin
STAMP = $(VENV)/ready

# compiled once, as an installation is: else every start of the program would compile it anew
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test quick full servers newest oldest manual check bench clean

$(STAMP): pyproject.toml constraints.txt
	./setup.sh $(PYTHON) $(VENV)
	touch $@

demo: $(STAMP)
	$(BIN)/wexagraph demo --into saltmere

# tests/test_house.py runs `make check` beside the other tests
test: $(STAMP)
	PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python -m tests

full: $(STAMP)
	WEXAGRAPH_FULL=1 PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python -m tests

quick: $(STAMP)
	PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python -m tests --quick

servers: $(STAMP)
	PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python -m tests.test_servers

newest oldest:
	./setup.sh $(PYTHON) $(VENV)-$@ $@
	PATH="$(CURDIR)/$(VENV)-$@/bin:$$PATH" $(VENV)-$@/bin/python -m tests

manual: $(STAMP)
	$(BIN)/python -m wexagraph.cli.manual > docs/wexagraph.1

check: $(STAMP)
	$(BIN)/ruff format --check -q src tests benchmarks
	$(BIN)/ruff check -q src tests benchmarks
	$(BIN)/mypy

bench: $(STAMP)
	./setup.sh --bench
	PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python -m benchmarks

clean:
	rm -rf $(VENV) $(VENV)-newest $(VENV)-oldest saltmere build dist benchmarks/data
