# Accurate Aperture. `make help` lists what there is.
PYTHON ?= python3.11
PORT ?= 8000
V := .venv/bin
STAMP := .venv/.installed
TESTS := .venv/.tests-installed

help: ## list these targets
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:[^#]*## /	/' | expand -t 14

setup: $(STAMP) ## install what running needs, into .venv

$(STAMP): requirements/app.txt
	@command -v $(PYTHON) >/dev/null || { echo "$(PYTHON) is needed: apt-get install python3.11 python3.11-venv"; exit 1; }
	@test -x $(V)/pip || $(PYTHON) -m venv .venv || { rm -rf .venv; apt-get update -qq && apt-get install -y -qq python3.11-venv && $(PYTHON) -m venv .venv; } \
		|| { echo "A virtual environment is needed: apt-get install python3.11-venv"; exit 1; }
	$(V)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/app.txt
	$(V)/python -m aperture warm
	touch $(STAMP)

demo: export APERTURE_LOCAL = 1
demo: $(STAMP) ## start the application with the demo show on 127.0.0.1:8000 (PORT= changes it)
	@$(V)/python manage.py migrate --verbosity 0
	@$(V)/python -m demo
	@echo "Accurate Aperture: http://127.0.0.1:$(PORT)/"
	@bash web/config/serve.sh $(PORT)

$(TESTS): $(STAMP) requirements/test.txt
	$(V)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/test.txt
	touch $(TESTS)

lint: $(TESTS) ## check how the code is written: ruff, types, templates, who imports whom, migrations; scripts, where `npm ci` was run
	$(V)/ruff check .
	$(V)/ruff format --check .
	$(V)/lint-imports --no-cache
	@data=$$(mktemp -d) && trap "rm -rf $$data" EXIT && APERTURE_DATA=$$data $(V)/mypy --no-error-summary
	$(V)/djlint web --lint --quiet
	@test ! -x node_modules/.bin/biome || node_modules/.bin/biome check web tests/scripts
	@data=$$(mktemp -d) && trap "rm -rf $$data" EXIT && APERTURE_DATA=$$data $(V)/python manage.py makemigrations --check --dry-run

setup-tests: $(TESTS) ## install what tests need: packages of the system (as root), and into .venv
	bash tests/setup.sh

test: setup-tests ## install what tests need where it is missing, and run all of them
	bash tests/run.sh

fuzz: setup-tests ## odd requests and odd files, fifty times as many as in `make test` (FUZZ= changes that)
	FUZZ=$${FUZZ:-50} bash tests/run.sh tests.web.test_odd_requests tests.core.test_odd_files

bench: $(STAMP) ## print the benchmarks
	$(V)/python -m bench

docs: $(STAMP) ## build the documents and the reference of the core into docs/_build
	$(V)/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/docs.txt
	$(V)/sphinx-build -q -b html docs docs/_build/html
	@echo "docs/_build/html/index.html"

assets: ## rebuild styles, fonts and scripts with npm (running needs none of it)
	npm ci --ignore-scripts
	bash web/ui/styles/build.sh

lock: ## compile requirements/*.in to pinned files with hashes
	$(V)/pip install --quiet pip-tools
	for part in app test docs; do $(V)/pip-compile --quiet --generate-hashes --allow-unsafe --strip-extras --no-emit-index-url --no-emit-find-links \
		--no-emit-trusted-host requirements/$$part.in -o requirements/$$part.txt; done

.PHONY: help setup setup-tests demo lint test fuzz bench docs assets lock
