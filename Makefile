# The two commands: `make demo` and `make test`. Each installs what is missing, alone, on a fresh Debian machine.
PYTHON ?= python3
BIN := .venv/bin
CONSOLE_SOURCES := $(shell find console/src console/talk console/index.html console/*.ts console/package.json -type f 2>/dev/null | grep -v schema.d.ts)
.PHONY: demo test wheel bench proof scale talks crash people strangers fuzz words actions faces lint ready console clean

demo: ready console
	@$(BIN)/python demo/run.py $(if $(ONCE),--once)

test: ready console
	@$(BIN)/pytest -n 3 --dist loadfile --no-loadscope-reorder $(ARGS)

wheel: ready console
	@rm -rf dist build
	@$(BIN)/python -m pip wheel -q --disable-pip-version-check --no-deps --no-build-isolation -w dist .
	@rm -rf build
	@ls dist

bench: ready console
	@$(BIN)/python -m bench.run $(ARGS)
	@$(BIN)/python -m bench.talks

proof: ready console
	@$(BIN)/pytest -n 2 --dist loadfile -m long
	@$(BIN)/pytest tests/test_mortal.py --every-write
	@$(BIN)/python -m bench.pages
	@$(BIN)/python -m bench.crash
	@$(BIN)/python -m bench.people
	@$(BIN)/python -m bench.visitors
	@$(BIN)/python -m bench.scale
	@$(BIN)/python -m bench.strangers
	@$(BIN)/python -m bench.files
	@$(BIN)/python -m bench.vault
	@$(BIN)/python -m bench.rates
	@$(MAKE) --no-print-directory fuzz

scale: ready console
	@$(BIN)/python -m bench.scale $(ARGS)

talks: ready console
	@$(BIN)/python -m bench.talks $(ARGS)

crash: ready console
	@$(BIN)/python -m bench.crash $(ARGS)

people: ready console
	@$(BIN)/python -m bench.people $(ARGS)

strangers: ready console
	@$(BIN)/python -m bench.strangers $(ARGS)

fuzz: ready
	@$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt -e '.[fuzz]'
	@$(BIN)/python -m bench.fuzz $(ARGS)

faces: ready
	@$(BIN)/python scripts/faces.py

actions: ready
	@$(BIN)/python scripts/actions.py > docs/actions.md

words: ready
	@$(BIN)/python scripts/words.py > docs/words.txt

lint: ready
	$(BIN)/ruff format --check src tests bench demo
	$(BIN)/ruff check src tests bench demo
	$(BIN)/mypy
	$(BIN)/lint-imports

ready: .build/packages .venv/.ready

.build/packages: scripts/packages.sh
	@mkdir -p .build
	@sh scripts/packages.sh
	@touch $@

.venv/.ready: pyproject.toml constraints.txt
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@$(BIN)/python -m pip install -q --disable-pip-version-check --no-warn-script-location -c constraints.txt -e '.[dev]'
	@touch $@

console: src/oak_relay/service/web/index.html

console/node_modules/.ready: console/package.json console/package-lock.json
	@cd console && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

src/oak_relay/service/web/index.html: .venv/.ready console/node_modules/.ready $(CONSOLE_SOURCES) $(wildcard src/oak_relay/service/*.py)
	@mkdir -p .build
	@$(BIN)/python -c "import json; from oak_relay.service.app import create_app; print(json.dumps(create_app().openapi()))" > .build/openapi.json
	@cd console && npm run --silent types -- --silent >/dev/null && npm run --silent build -- --logLevel error

clean:
	rm -rf .venv .build dist console/node_modules src/oak_relay/service/web data
