# Two commands are all a fresh machine needs: `make demo` and `make test`.
PORT ?= 8765
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip --disable-pip-version-check --quiet

# A part of a test's time goes by waiting for a page or a process: three and four workers on two cores both take 265 s.
WORKERS = $(shell echo $$(($$(nproc) * 2)))

.PHONY: setup demo check test soak bench mutate lint format words shots lock clean

setup: $(VENV)/.app

$(VENV)/.app: requirements.lock pyproject.toml
	test -x $(BIN)/python || python3 -m venv $(VENV)
	$(PIP) install --require-hashes -r requirements.lock
	$(PIP) install --require-hashes -r requirements-build.lock
	$(PIP) install --no-deps --no-build-isolation --editable .
	$(BIN)/python -m iterum.core.planning.fast # compiled ahead, two minutes once: the first plan would wait for it
	touch $@

$(VENV)/.test: $(VENV)/.app requirements-test.lock
	$(PIP) install --require-hashes -r requirements-test.lock
	command -v chromium-headless-shell >/dev/null || { apt-get update -qq && apt-get install -y -qq chromium-headless-shell; } \
		|| command -v chromium >/dev/null || apt-get install -y -qq chromium
	touch $@

demo: setup ## start with a made-up meeting, MEETING=club for four pilots; FRESH=1 forgets what was changed, SPEED=20 runs in time-lapse
	$(BIN)/iterum serve --demo $(or $(MEETING),meeting) --port $(PORT) $(if $(FRESH),--fresh) $(if $(SPEED),--speed $(SPEED))

lint: $(VENV)/.test
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/interrogate --quiet src/iterum/core
	$(BIN)/djlint src/iterum/web --check --lint --quiet
	$(BIN)/biome check src/iterum/web/static

format: $(VENV)/.test ## write code, templates, styles and scripts as the tools would
	$(BIN)/ruff format src
	$(BIN)/djlint src/iterum/web --reformat --quiet || true
	$(BIN)/biome check --write src/iterum/web/static

check: $(VENV)/.test lint ## while one works: lint, and the tests that are done in a moment
	$(BIN)/pytest tests --numprocesses $(WORKERS) -m "not slow" -q

test: export PYTHONDONTWRITEBYTECODE = # each file is compiled once, not in each of the processes that the tests start
test: $(VENV)/.test lint
	$(BIN)/pytest tests --numprocesses $(WORKERS) --dist worksteal

soak: $(VENV)/.test ## every law again over many more cases, and every kill; TIMES=10
	ITERUM_SOAK=$(or $(TIMES),10) $(BIN)/pytest tests --numprocesses $(WORKERS) --dist worksteal

bench: $(VENV)/.test ## timings, as ratios; kept out of pass or fail
	$(BIN)/pytest benchmarks --benchmark-only --benchmark-columns=median,iqr,rounds --benchmark-sort=name -p no:cacheprovider -s

mutate: $(VENV)/.test ## put one fault after another into what decides safety; COUNT=24 MODULES="limits size"
	$(BIN)/python -m benchmarks.mutate $(or $(COUNT),24) $(MODULES)

words: $(VENV)/.test ## bring the catalogues of the languages up to the sentences in the code, and list those not translated yet
	@$(BIN)/python -m tests.messages

shots: $(VENV)/.test ## refresh docs/screenshots from the demo data
	$(BIN)/python -m tests.browser.screenshots $(VIEWS)

LOCK = $(BIN)/uv pip compile --generate-hashes --no-header --no-annotate --no-emit-index-url --python-version 3.11 -q
lock: setup ## pin anew: hashes, and no addresses
	$(PIP) install uv # only here: tests and setup need none
	$(LOCK) pyproject.toml -o requirements.lock
	$(LOCK) pyproject.toml --group test -c requirements.lock -o requirements-test.lock
	printf 'hatchling\neditables\n' | $(LOCK) - -c requirements-test.lock -o requirements-build.lock

clean:
	rm -rf $(VENV) dist data
