# Each target does what it needs; `make demo` and `make test` are enough on a fresh Debian machine.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
TESTED := $(VENV)/.ready-for-tests
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
DEMO := demo/orrel-sound

# what is compiled is kept between the many processes that the tests start, whatever the environment says
export PYTHONDONTWRITEBYTECODE :=

.PHONY: setup demo demo-run test test-long check bench reliability fidelity exactness golden shots handbook docs dist deb try-deb clean

setup: $(TESTED)

$(READY): pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[python-pane]'
	touch $(READY)

# what the tests need beside
$(TESTED): $(READY)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
	touch $(TESTED)

# where there is a display, what Debian must have for the window is named first; SYSTEM=1 installs it
demo: $(READY)
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ] && [ -z "$$QT_QPA_PLATFORM" ]; then \
	  lacks=$$(packaging/system_packages); \
	  if [ -n "$$lacks" ] && [ "$(SYSTEM)" = 1 ]; then $(SUDO) apt-get update -qq && $(SUDO) apt-get install -y $$lacks; \
	  elif [ -n "$$lacks" ]; then \
	    echo "The window needs some Debian packages. Install them, or have it done with: make demo SYSTEM=1"; \
	    echo "  sudo apt-get install $$lacks"; exit 1; \
	  fi; \
	fi
	@$(BIN)/eskret demo $(DEMO) || \
	  { [ -n "$$DISPLAY$$WAYLAND_DISPLAY$$QT_QPA_PLATFORM" ] && exit 1 || echo "Run the demo headless with: make demo-run"; }

demo-run: $(READY)
	$(BIN)/eskret demo $(DEMO) --run

test: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest -n auto --dist worksteal
	@command -v xvfb-run >/dev/null && xvfb-run -a env QT_QPA_PLATFORM=xcb $(BIN)/python -m pytest -m screen tests/desktop \
	  || { command -v xvfb-run >/dev/null && exit 1 || echo "xvfb-run is not installed: the pass on a real screen was left out"; }

# the same, with more examples, all cases of long tables and the suites that the short pass takes a part of
test-long: setup
	ESKRET_LONG_TESTS=1 $(MAKE) test

check: setup
	$(BIN)/ruff check src tests benchmarks docs packaging
	$(BIN)/ruff format --check src tests benchmarks docs packaging
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: setup
	$(BIN)/python benchmarks/run.py
	$(BIN)/python benchmarks/kernels.py
	$(BIN)/python benchmarks/publish.py
	$(BIN)/python benchmarks/again.py
	$(BIN)/python benchmarks/globe.py

# about two hours on two cores; what it found stands in docs/reliability.md
reliability: setup
	$(BIN)/python benchmarks/reliability/kills.py 1000
	$(BIN)/python benchmarks/reliability/pushes.py 100
	$(BIN)/python benchmarks/reliability/together.py 25
	$(BIN)/python benchmarks/reliability/fuzz.py
	$(BIN)/python benchmarks/reliability/soak.py 30

# what each format keeps, told by trying it: docs/fidelity.md
fidelity: setup
	$(BIN)/python -W ignore -m tests.fidelity

# what a move of the code must not change, held against a commit: make golden REF=main~1
golden: setup
	$(BIN)/python -W ignore -m tests.golden $(or $(REF),HEAD)

# how far operations are from references outside the program: docs/exactness.md
exactness: setup
	$(BIN)/python -W ignore -m tests.exact

shots: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/python docs/take_lesson_pictures.py
	QT_QPA_PLATFORM=offscreen $(BIN)/python docs/take_screenshots.py

handbook: setup
	$(BIN)/python -c "from eskret.workflow.faces.handbook import write_handbook; from pathlib import Path; write_handbook(Path('docs/handbook'))"
	$(BIN)/python -c "from eskret.workflow.faces.python_help import write_stub; write_stub()"
	$(BIN)/python docs/make_notebook.py
	$(BIN)/python packaging/make_shell_files.py

# the documents as a site, in build/site/index.html; needs no network
docs: setup
	$(BIN)/mkdocs build --quiet
	@echo "build/site/index.html"

# wheel and sdist, tried in a fresh venv; AT=https://… is where pictures of the README can be seen
dist: setup
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[packaging]'
	packaging/build_dist

# a Debian package with its environment inside; try-deb installs it on a clean root, as root
deb: dist
	packaging/build_deb

try-deb:
	packaging/try_deb

clean:
	rm -rf $(VENV) build dist demo
