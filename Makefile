# `make demo` and `make test` need nothing but Python 3.11 or later and, for the screens, Debian's packages.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin
export PIP_DISABLE_PIP_VERSION_CHECK := 1

.PHONY: demo test soak fuzz mutants lint bench screens docs clean

$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable .
	touch $@

# python-ldap is built from source; where that cannot be, the tests on servers are skipped and say so.
$(VENV)/.dev: $(VENV)/.installed
	tools/prepare-tests
	$(BIN)/pip install --quiet --editable ".[dev,ldap]" || $(BIN)/pip install --quiet --editable ".[dev]"
	touch $@

demo: $(VENV)/.installed
	rm -rf demo
	$(BIN)/vandrel demo demo
	@echo "From here:  . $(BIN)/activate && cd demo && vandrel --help"

test: $(VENV)/.dev
	$(BIN)/pytest

# The same tests with every crash point inside a recovery, and twenty times the drawn examples.
soak: $(VENV)/.dev
	VANDREL_SOAK=1 VANDREL_FUZZ_SECONDS=60 $(BIN)/pytest

# An hour of mutated input for every reader; FUZZ_SECONDS for each of them.
FUZZ_SECONDS ?= 360
fuzz: $(VENV)/.dev
	VANDREL_FUZZ_SECONDS=$(FUZZ_SECONDS) $(BIN)/pytest tests/test_fuzz.py

# Small changes to the code, one at a time: which of them no test notices.
mutants: $(VENV)/.dev
	$(BIN)/pip install --quiet "cosmic-ray>=8.4"
	$(BIN)/python tools/mutants.py

lint: $(VENV)/.dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/.dev
	$(BIN)/python benchmarks/startup.py
	$(BIN)/python benchmarks/accounts.py
	$(BIN)/python benchmarks/memberships.py
	$(BIN)/python benchmarks/intake.py
	$(BIN)/python -m benchmarks.keeping
	$(BIN)/python benchmarks/audit.py
	$(BIN)/python benchmarks/servers.py
	$(BIN)/python -m benchmarks.scale --large 100000
	$(BIN)/python -m benchmarks.synchronization

screens: $(VENV)/.dev
	$(BIN)/python tools/screens.py

docs: $(VENV)/.dev
	COLUMNS=100 $(BIN)/python tools/document.py

clean:
	rm -rf $(VENV) demo
