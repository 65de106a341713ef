# On a fresh machine `make demo` and `make test` do all their own set-up.
VENV ?= .venv
BIN = $(VENV)/bin

# Tests start hundreds of processes, each of which would compile every module anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test test-core mutants corpus soak lint types bench wheel samples screenshots clean

demo: $(VENV)/.ready-
	@$(BIN)/catenum demo --into demo-output

test: $(VENV)/.ready-dev-embedded
	$(BIN)/python -m pytest -n 4

# The samples that ship, held to what they say; the results are valid for build servers.
samples: $(VENV)/.ready-dev-embedded
	mkdir -p dist
	$(BIN)/catenum check src/catenum/samples --quiet --junit dist/junit.xml --sarif dist/catenum.sarif
	$(BIN)/python tests/valid.py dist/junit.xml dist/catenum.sarif

# What runs without any server; what a contributor runs first.
test-core: $(VENV)/.ready-dev-embedded
	CATENUM_TESTS_WITHOUT_SERVERS=1 $(BIN)/python -m pytest -n 4

# Small changes of meaning in core, each held against the tests that need no server.
COUNT ?= 200
mutants: $(VENV)/.ready-dev-embedded
	$(BIN)/python tests/mutants.py --count $(COUNT) --first $(FIRST)

# What real servers said, taken anew, and what is printed of it: read the difference before it is committed.
corpus: $(VENV)/.ready-dev-embedded
	for server in postgresql mariadb mysql; do $(BIN)/catenum local start --quiet --target local:$$server; done
	$(BIN)/python tests/corpus.py --servers
	for server in postgresql mariadb mysql; do $(BIN)/catenum local stop --quiet --target local:$$server; done

# Generated scenarios, every order walked by hand beside what explore says; SECONDS, FIRST and the servers can be given.
SECONDS ?= 3600
FIRST ?= 1
soak: $(VENV)/.ready-dev-embedded
	$(BIN)/python tests/soak.py --server postgresql --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mariadb --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mysql --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server postgresql --make locks --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mariadb --make locks --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mysql --make locks --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server postgresql --make state --reduced --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mariadb --make state --reduced --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mysql --make state --reduced --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server postgresql --make queues --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mariadb --make queues --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mysql --make queues --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server postgresql --make clients --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mariadb --make clients --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/soak.py --server mysql --make clients --seconds $(SECONDS) --first $(FIRST)
	$(BIN)/python tests/moments.py --server postgresql --seconds 600 --first $(FIRST)
	$(BIN)/python tests/moments.py --server mariadb --seconds 600 --first $(FIRST)
	$(BIN)/python tests/moments.py --server mysql --seconds 600 --first $(FIRST)
	$(BIN)/python tests/watches.py --server postgresql --first $(FIRST)
	$(BIN)/python tests/watches.py --server mariadb --first $(FIRST)
	$(BIN)/python tests/watches.py --server mysql --first $(FIRST)
	$(BIN)/python tests/overtaking.py --server postgresql
	$(BIN)/python tests/overtaking.py --server mariadb
	$(BIN)/python tests/overtaking.py --server mysql
	CATENUM_TESTS_EVERYWHERE=1 $(BIN)/python -m pytest -n 4 -m soak
	$(BIN)/python tests/kills.py
	$(BIN)/python tests/proposals.py

lint: $(VENV)/.ready-dev-embedded
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/lint-imports

types: $(VENV)/.ready-dev-embedded
	$(BIN)/mypy

bench: $(VENV)/.ready-dev-embedded
	$(BIN)/python benchmarks/run.py
	$(BIN)/python benchmarks/exploring.py
	$(BIN)/python benchmarks/watching.py
	$(BIN)/python benchmarks/crowd.py
	$(BIN)/python benchmarks/mysql.py
	$(BIN)/python benchmarks/intake.py
	$(BIN)/python benchmarks/proposing.py
	$(BIN)/python benchmarks/sweeping.py
	$(BIN)/python benchmarks/profiles.py
	$(BIN)/python benchmarks/scale.py
	$(BIN)/python benchmarks/pace.py

# The wheel: the same when built twice, and at work in a bare environment of each Python there is.
wheel: $(VENV)/.ready-dev-embedded
	scripts/wheel.sh

screenshots: $(VENV)/.ready-dev-embedded
	@command -v xterm >/dev/null && command -v Xvfb >/dev/null && command -v import >/dev/null && command -v chromium >/dev/null \
	  || scripts/setup.sh --packages xterm xvfb imagemagick fonts-dejavu-core chromium
	PATH="$(abspath $(BIN)):$$PATH" scripts/screenshots.sh docs/screenshots

$(VENV)/.ready-: pyproject.toml scripts/setup.sh
	@scripts/setup.sh $(VENV) ""

$(VENV)/.ready-dev-embedded: pyproject.toml scripts/setup.sh
	@scripts/setup.sh $(VENV) dev,embedded

clean:
	rm -rf $(VENV) demo-output dist .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache
