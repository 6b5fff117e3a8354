# The two commands of a fresh machine: `make demo` and `make test`.
.PHONY: setup demo test endurance peers check bench api lock check-python check-console

setup:
	@scripts/setup.sh

demo: setup
	@.venv/bin/bricola demo

# One worker more than there are processors: tests wait for processes and hosts a third of their time. Files are given out in their order:
# by the number of their tests the few long ones would come last, with nothing beside them. All is checked beside the tests, which takes three
# minutes; what it says stands at the end.
test: setup
	@($(MAKE) --no-print-directory -k check-python check-console > .make/check.log 2>&1; echo $$? > .make/check.status) & \
	.venv/bin/pytest -n $$(( $$(nproc) + 1 )) --dist loadfile --no-loadscope-reorder; tests=$$?; wait; cat .make/check.log; \
	exit $$(( tests + $$(cat .make/check.status) ))

# What takes long: kills, races and made-up input, many times over. A short and seeded part of it is in `make test`.
endurance: setup
	BRICOLA_AT_LENGTH=1 .venv/bin/pytest -n auto --dist loadfile tests/core tests/server tests/e2e/test_processes.py

# Client stacks that generate code, a compiled one among them, against every service of the demo in every style. A part is in `make test`.
peers: setup
	BRICOLA_AT_LENGTH=1 .venv/bin/pytest -n auto tests/e2e/test_peers.py

# The two halves of it side by side.
check: setup
	@$(MAKE) --no-print-directory --output-sync -j 2 check-console check-python

check-python:
	.venv/bin/ruff check src tests bench
	.venv/bin/mypy
	.venv/bin/lint-imports
	.venv/bin/python scripts/check_names.py
	.venv/bin/python -m bricola.server.api.document | diff -q - console/src/api/openapi.json >/dev/null || { echo "The API changed: run make api, and commit console/src/api/openapi.json"; exit 1; }

# Types first: the linter reads those that are made of the API's document.
check-console:
	cd console && npm run --silent typecheck && npm run --silent lint && npm run --silent test

bench: setup
	.venv/bin/python bench/pool.py
	.venv/bin/python bench/deploy.py
	.venv/bin/python bench/rows.py
	.venv/bin/python bench/calls.py
	.venv/bin/python bench/screens.py
	.venv/bin/python bench/walk.py
	.venv/bin/python bench/overview.py
	.venv/bin/python bench/drafts.py
	.venv/bin/python bench/contracts.py
	.venv/bin/python bench/workflows.py
	.venv/bin/python bench/suites.py
	.venv/bin/python bench/copybooks.py
	.venv/bin/python bench/programs.py

# After a change of the management API: the document that the console's types are made from, and those types.
api:
	.venv/bin/python -m bricola.server.api.document > console/src/api/openapi.json
	cd console && npm run --silent types

# After a change of the dependencies in pyproject.toml.
lock: setup
	.venv/bin/python -m pip install --quiet uv
	.venv/bin/uv pip compile pyproject.toml --extra dev --universal --generate-hashes --no-emit-index-url --no-header -o requirements.lock
