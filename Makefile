# The README's two commands. Each makes a virtual environment in .venv, installs what it needs, and runs.
.PHONY: demo test sweep lint format pictures clean

demo:
	@scripts/environment
	@.venv/bin/yl demo --remove demo-site 2>/dev/null || true
	.venv/bin/yl demo demo-site

test:
	@scripts/environment dev
	@scripts/servers
	.venv/bin/pytest

# Every kill point of every mode, each test named as it ends; takes some three hours on two cores. With
# YELLOW_LADDER_START_ANEW=1 the program is started from nothing at each call besides, which takes several times as long.
sweep:
	@scripts/environment dev
	@scripts/servers
	YELLOW_LADDER_NEED_SERVERS=1 YELLOW_LADDER_SWEEP=1 .venv/bin/pytest -vv

lint:
	@scripts/environment dev
	.venv/bin/ruff format --check .
	.venv/bin/ruff check .
	.venv/bin/mypy
	.venv/bin/lint-imports --no-logo

format:
	@scripts/environment dev
	.venv/bin/ruff format .
	.venv/bin/ruff check --fix .

pictures:
	@scripts/environment dev
	scripts/pictures

clean:
	@.venv/bin/yl demo --remove demo-site 2>/dev/null || true
	rm -rf .venv .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache
