PYTHON ?= $(shell command -v python3.11 || command -v python3)
BIN := .venv/bin

.PHONY: demo test check bench fuzz mutants soak storm shots release-check clean compiled

demo: .venv/ready compiled
	$(BIN)/kanaleto demo

test: check .venv/tmux compiled
	$(BIN)/python -m tests

check: .venv/ready-dev
	$(BIN)/ruff format --check --quiet src tests scripts
	$(BIN)/ruff check --quiet src tests scripts
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: .venv/ready compiled
	MALLOC_MMAP_THRESHOLD_=67108864 $(BIN)/python -m scripts.bench

fuzz: .venv/ready
	$(BIN)/python -m tests.fuzz
	$(BIN)/python -m tests.mutations
	$(BIN)/python -m tests.fuzzfiles

mutants: .venv/ready-dev .venv/tmux
	$(BIN)/python -m tests.mutants

soak: .venv/ready
	$(BIN)/python -m tests.soak
	$(BIN)/python -m tests.bridged 10000 1 10000000
	$(BIN)/python -m tests.bridgeturns
	KANALETO_STEPS=36000 $(BIN)/python -m unittest tests.test_moving.TheDemo

storm: .venv/ready .venv/tmux
	$(BIN)/python -m tests.storm --seconds 120 --times 3
	$(BIN)/python -m tests.noisy 60 1

release-check: check .venv/tmux compiled
	KANALETO_PAGES=all $(BIN)/python -m unittest tests.test_pages
	$(BIN)/python -m tests.page_commands
	$(BIN)/python -m tests.checkout
	sh scripts/release.sh

shots: .venv/ready
	sh scripts/shots.sh

compiled: .venv/ready
	@$(BIN)/python -m compileall -q src  # whatever the environment says of bytecode: half of a start is compiling

clean:
	rm -rf .venv build .mypy_cache .ruff_cache .import_linter_cache .hypothesis

.venv/ready: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Kanaleto needs Python 3.11 or newer; set PYTHON=…")'
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	@touch $@

.venv/ready-dev: .venv/ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	@touch $@

.venv/tmux: .venv/ready
	@command -v tmux >/dev/null || { [ "$$(id -u)" = 0 ] && apt-get update -q && apt-get install -y -q tmux; } \
	  || { echo "the tests drive the application in tmux: install it first"; exit 1; }
	@touch $@
