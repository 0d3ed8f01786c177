# Two commands for a fresh machine with Python 3.11 or newer and nothing else:
#   make demo   set up, run the lantern workshop's example into out/
#   make test   set up, run every check and test
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

# Python keeps what it has compiled, whatever the shell says: pip leaves that to it, and every start would pay it
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test spent fool words wounds skins troubled drains heaps dirt bench docs man api clean

demo: $(VENV)/.user
	$(BIN)/bolvek demo out/ --replace

test: $(VENV)/.dev
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python -m bolvek.kernels.warm all
	$(BIN)/pytest -q -n 2 --dist loadgroup --durations=20

# the same tests, and a table of what takes the time
spent: $(VENV)/.dev
	$(BIN)/python -m bolvek.kernels.warm all
	PYTHONPATH=tests $(BIN)/pytest -q -n 2 --dist loadgroup -p spent --durations=60

# six of every kind of model made to fool the proof (make test has one of each)
fool: $(VENV)/.dev
	cd tests && ../$(BIN)/python fool.py --count 6

# ten of every kind of model composed to find false words of survey, walls and overhangs (make test has two of each)
words: $(VENV)/.dev
	cd tests && ../$(BIN)/python compose.py --count 10

# twenty of every wound that mending has to heal, and three hundred mixtures (make test has two of each and 25 mixtures)
wounds: $(VENV)/.dev
	cd tests && ../$(BIN)/python wounds.py --count 20 --mixed 300

# every skin that thickening has to make solid (make test has nine), and forty troubled files from file to print
skins: $(VENV)/.dev
	cd tests && ../$(BIN)/python skins.py

troubled: $(VENV)/.dev
	cd tests && ../$(BIN)/python troubled.py

# voids of known volume, and twelve organic models whose drains place themselves
drains: $(VENV)/.dev
	cd tests && ../$(BIN)/python drains.py

# thirty of every kind of heap of boxes, hollow ones too, fused and carved, whose volume is counted cell by cell
heaps: $(VENV)/.dev
	cd tests && ../$(BIN)/python heaps.py --count 30

dirt: $(VENV)/.dev
	cd tests && ../$(BIN)/python dirt.py --count 20

docs: $(VENV)/.dev
	$(BIN)/python docs/make.py

# manual pages, and the reference of the library, into build/
man: $(VENV)/.user
	$(BIN)/python docs/man.py build/man

api: $(VENV)/.dev
	$(BIN)/pdoc -o build/api bolvek

bench: $(VENV)/.dev
	$(BIN)/python -m bench.run

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/.user: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --only-binary :all: -e .
	touch $@

$(VENV)/.dev: $(VENV)/bin/python pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --only-binary :all: -e '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) out build src/*.egg-info .pytest_cache .hypothesis .mypy_cache .ruff_cache .import_linter_cache
