# Everything happens in a virtual environment of this tree; Python 3.11+ and make are enough.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
# pip install -e with the pinned versions, plus the extras each target names
INSTALL = $(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e

.PHONY: demo test deep lowest faults fuzz lint bench format clean

demo: $(VENV)/installed
	$(BIN)/zembrel demo --out demo/ --replace

test: $(VENV)/test $(VENV)/samples
	$(BIN)/python -m compileall -q src
	$(BIN)/python -m pytest $(PYTEST)

# what the suite leaves out, and properties with twenty times the examples; DEEP=K/N does the K-th part of N
DEEP ?= 1
deep: $(VENV)/test $(VENV)/samples
	ZEMBREL_DEEP=$(DEEP) $(BIN)/python -m pytest $(PYTEST)

# every call to the file system cut, not only some of each run
faults: $(VENV)/test
	ZEMBREL_CUTS=1000000 $(BIN)/python -m pytest tests/faults

# damaged files of every format for so many seconds; what goes wrong is kept in fuzz-found/
SECONDS ?= 600
fuzz: $(VENV)/test
	$(BIN)/python tools/fuzz.py $(SECONDS) fuzz-found 1

# the lowest versions that pyproject.toml allows, in an environment of their own: each verb, well and badly called
lowest: $(VENV)/lowest/installed $(VENV)/test
	ZEMBREL_PROGRAM=$(CURDIR)/$(VENV)/lowest/bin/zembrel $(BIN)/python -m pytest tests/cli/test_receipts.py

$(VENV)/lowest/installed: pyproject.toml constraints.txt $(shell find src -name '*.py') | $(VENV)/installed
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt uv
	$(BIN)/uv venv --quiet --clear --python $(BIN)/python $(VENV)/lowest
	$(BIN)/uv pip compile --quiet --resolution lowest-direct --python $(BIN)/python --extra film --extra cluster \
		--no-emit-package zembrel pyproject.toml --output-file $(VENV)/lowest/versions.txt
	$(BIN)/uv pip install --quiet --python $(VENV)/lowest/bin/python -c $(VENV)/lowest/versions.txt ".[film,cluster]"
	@touch $@

lint: $(VENV)/lint $(VENV)/test
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

format: $(VENV)/lint
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

bench: $(VENV)/bench
	$(BIN)/python bench/run.py $(BENCH)

$(VENV)/installed: pyproject.toml constraints.txt
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
		{ echo "error: $(PYTHON) is too old; Zembrel needs Python 3.11 or newer (make PYTHON=...)"; exit 1; }
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(INSTALL) .
	$(BIN)/zembrel shell man --out $(VENV)/share/man/man1/ --quiet
	@touch $@

$(VENV)/test $(VENV)/lint $(VENV)/bench: $(VENV)/installed
	$(INSTALL) ".[$(notdir $@)]"
	@touch $@

# TIFFs of many writers for the tests, out of the source archive of the picture package
$(VENV)/samples: constraints.txt | $(VENV)/installed
	rm -rf $@ $@.part && mkdir $@.part
	$(BIN)/pip download --quiet --disable-pip-version-check --no-deps --no-binary :all: --dest $@.part \
		"$$(grep '^pillow==' constraints.txt)"
	tar -xzf $@.part/pillow-*.tar.gz -C $@.part --strip-components=3 --wildcards '*/Tests/images/*.tif*'
	rm $@.part/pillow-*.tar.gz && mv $@.part $@

clean:
	rm -rf $(VENV) demo build dist src/*.egg-info
