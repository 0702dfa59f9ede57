PY := .venv/bin/python
export QT_QPA_PLATFORM_TEST := offscreen

.PHONY: setup demo test check bench parts doubt faults mutants manual screenshots clean

setup: .venv/.ready

.venv/.ready: constraints.txt pyproject.toml scripts/setup.sh
	bash scripts/setup.sh

demo: setup
	.venv/bin/lucid-anvil demo

test: setup
	QT_QPA_PLATFORM=offscreen OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 $(PY) -m pytest -n 2 --dist worksteal

check: setup
	.venv/bin/ruff check src tests scripts
	.venv/bin/lint-imports
	.venv/bin/mypy

bench: setup
	QT_QPA_PLATFORM=offscreen $(PY) scripts/bench.py

parts: setup
	$(PY) scripts/parts.py

doubt: setup
	$(PY) scripts/doubt.py
	$(PY) scripts/doubt_at_rest.py
	$(PY) scripts/doubt_frame.py

mutants: setup
	.venv/bin/python -m pip install -q --disable-pip-version-check -c constraints.txt -e '.[mutants]'
	QT_QPA_PLATFORM=offscreen OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1 $(PY) scripts/mutants.py

faults: setup
	$(PY) scripts/faults.py

manual: setup
	$(PY) scripts/manual.py

screenshots: setup
	QT_QPA_PLATFORM=offscreen $(PY) scripts/screenshots.py

clean:
	rm -rf .venv build out .pytest_cache .mypy_cache .ruff_cache
