# Two commands matter: `make demo` and `make test`. Everything is installed into this checkout.
PYTHON ?= python3
BIN := .venv/bin
PORT ?= 8765
# Compiled once, not by each process a test starts.
export PYTHONDONTWRITEBYTECODE =

.PHONY: demo dev test check check-python check-web slow mutants unit browser shots bench types wheel clean

demo: .installed-runtime src/ivory_table/web/index.html
	$(BIN)/ivory-table demo --port $(PORT)

.venv:
	$(PYTHON) -m venv .venv

.installed-runtime: requirements.txt pyproject.toml | .venv
	$(BIN)/pip install -q -r requirements.txt -r requirements-build.txt
	$(BIN)/pip install -q --no-deps --no-build-isolation -e .
	touch $@

.installed-dev: requirements-dev.txt .installed-runtime
	$(BIN)/pip install -q -r requirements-dev.txt
	touch $@

.installed-web: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	touch $@

src/ivory_table/web/index.html: .installed-web $(shell find web/src web/public web/index.html web/vite.config.ts -type f)
	cd web && npx vite build --logLevel warn
	touch $@

# The browser of the tests: Debian's Chromium without its own interface, which would take a third of the time; installed when it
# is missing and we may. The whole Chromium will do.
.installed-browser:
	@command -v chromium-headless-shell >/dev/null || { \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then apt-get update -qq && apt-get install -y -qq chromium-headless-shell >/dev/null; fi; } \
	|| command -v chromium >/dev/null || { \
	  echo "The browser tests need Debian's chromium: install the package 'chromium-headless-shell', then run make test again."; exit 1; }
	touch $@

dev: .installed-dev .installed-web
	$(BIN)/uvicorn --factory ivory_table.cli.serving:dev_app --reload --reload-dir src --port 8765 & \
	trap 'kill %1' EXIT; cd web && npx vite

types: .installed-dev .installed-web
	$(BIN)/ivory-table openapi docs/openapi.json
	cd web && npm run -s types

# Two halves, so that `make -j2` checks them beside one another.
check: check-python check-web

check-python: .installed-dev
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

check-web: .installed-dev .installed-web
	$(BIN)/ivory-table openapi .openapi-now.json && diff -q .openapi-now.json docs/openapi.json && rm .openapi-now.json
	cd web && npx openapi-typescript ../docs/openapi.json -o .schema-now.ts >/dev/null && diff -q .schema-now.ts src/api/schema.d.ts && rm .schema-now.ts
	cd web && npx tsc --noEmit && npx biome check src && npx vitest run

# One thread for each process: their matrices are small. Three processes on two cores: a test waits for a browser or a machine now and then.
test: check src/ivory_table/web/index.html .installed-browser
	OMP_NUM_THREADS=1 $(BIN)/pytest -q -n 3 --dist worksteal tests

slow: .installed-dev
	$(BIN)/pytest -q -n 2 -m slow tests
	$(BIN)/pip install -q "atheris>=3"
	$(BIN)/python -m tests.fuzz.job_reader -max_total_time=600

mutants: .installed-dev
	$(BIN)/pip install -q "mutmut>=3.8"
	$(BIN)/mutmut run
	$(BIN)/mutmut results

unit: .installed-dev
	$(BIN)/pytest -q -n 2 tests/core tests/store tests/paper tests/stations

browser: .installed-dev src/ivory_table/web/index.html .installed-browser
	$(BIN)/pytest -q tests/browser

shots: .installed-dev src/ivory_table/web/index.html .installed-browser
	$(BIN)/python docs/take_screenshots.py

bench: .installed-dev src/ivory_table/web/index.html
	$(BIN)/pytest -q benchmarks --benchmark-columns=median,mean,max
	$(BIN)/ivory-table trial --station tram --machines 200 --workers 2
	$(BIN)/python benchmarks/serving.py
	$(BIN)/python benchmarks/stop.py
	$(BIN)/python benchmarks/history.py
	$(BIN)/python benchmarks/job.py
	$(BIN)/python -m benchmarks.fewest_moves
	$(BIN)/python -m benchmarks.fewest_proofs
	$(BIN)/python benchmarks/kill.py
	$(BIN)/python -m benchmarks.together
	$(BIN)/python -m benchmarks.paint
	$(BIN)/python benchmarks/soak.py
	$(BIN)/ivory-table trial --machines 200 --seed 7

wheel: .installed-dev src/ivory_table/web/index.html
	$(BIN)/python -m build --wheel --no-isolation --outdir dist

clean:
	rm -rf .venv .installed-* web/node_modules src/ivory_table/web dist
