# Two commands do everything on a fresh machine: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PACKAGES := gcc g++ libc6-dev procps python3-venv libgl1-mesa-dri mesa-vulkan-drivers libvulkan1 libegl1 libgl1 libgles2 libopengl0 xvfb mesa-utils mesa-utils-extra glmark2-x11 glmark2-es2-x11 x11-utils glslang-tools \
	libxkbcommon-x11-0 libxcb-cursor0 libxcb-icccm4 libxcb-keysyms1 libxcb-image0 libxcb-render-util0 libxcb-shape0 \
	libxcb-xinerama0 libxcb-randr0 libxcb-sync1 libxcb-xfixes0 libdbus-1-3 libfontconfig1 libglib2.0-0 libx11-6 libxrandr2 libxi6 \
	libxcursor1 libxinerama1 libxkbcommon0 fonts-dejavu-core \
	appstream debhelper desktop-file-utils lintian libx11-xcb1 libxcb-shm0 libxcb-xkb1 man-db shared-mime-info

.PHONY: setup packages browser demo test quick lint bench attack sanitize screenshots wheel sdist install uninstall deb clean

setup: $(VENV)/ready

# Debian packages, where this may install them; elsewhere the programs say what they miss.
packages:
	@missing=""; for p in $(PACKAGES); do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then \
	  if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null; then \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	  else echo "missing packages:$$missing (install them with your package manager)"; fi; fi

$(VENV)/ready: pyproject.toml setup.py $(wildcard src/wendascope/registry/*.py src/wendascope/tap/native/*)
	@$(MAKE) --no-print-directory packages
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install -q --disable-pip-version-check -e '.[dev]'
	touch $@

demo: setup
	$(BIN)/wendascope demo

lint: setup
	$(BIN)/ruff format --check --quiet .
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports

# The browser that reports are tried in; those tests are left out where there is none.
browser:
	@command -v chromedriver >/dev/null || { [ "$$(id -u)" = 0 ] && DEBIAN_FRONTEND=noninteractive \
	  apt-get install -y -qq --no-install-recommends chromium chromium-driver >/dev/null; } \
	  || echo "chromium and its driver are missing: reports are not tried in a browser"

# Two files at a time; what fails beside another one is run once more by itself, unless it did so already (5: no tests),
# as one does whose process ended. What hangs as a whole is ended with the stacks of the process that leads the others.
test: setup lint browser
	timeout --foreground --signal=ABRT 3600 $(BIN)/python -m pytest -n 2 --max-worker-restart 2 --durations 60; first=$$?; \
	if [ $$first = 1 ]; then $(BIN)/python -m pytest --last-failed --last-failed-no-failures none; again=$$?; \
	  [ $$again = 0 ] || [ $$again = 5 ]; \
	else exit $$first; fi

# Without a driver or a display.
quick: setup
	$(BIN)/python -m pytest -n 2 -m 'not driver'

bench: setup
	$(BIN)/python -m benchmarks

# Everything that files, targets and sockets are attacked with (the tests try a part of it), then what names, texts,
# shaders and confinement are attacked with.
attack: setup
	$(BIN)/python tools/attack.py
	$(BIN)/python -m pytest -q tests/test_hostile_names.py tests/test_prints.py tests/test_shader_bombs.py \
		tests/test_confinement.py

# The tap under the thread, address and undefined-behaviour sanitizers.
sanitize: setup
	$(BIN)/python tools/sanitize.py

screenshots: setup
	$(BIN)/python tools/screenshots.py

# ---- what is handed out ----

wheel:
	rm -rf build/lib* build/bdist* $(DIST)/wendascope-*.whl && $(PYTHON) -m venv --clear build/venv
	build/venv/bin/pip wheel -q --disable-pip-version-check --no-deps --wheel-dir $(DIST) .

sdist: setup
	$(BIN)/python -m build --sdist --outdir $(DIST) .

# The program with all that it needs in a folder of its own, a command, and what makes desktop and shell know it.
# DESTDIR is for packagers.
PREFIX ?= /usr/local
DIST ?= dist
OWN = $(PREFIX)/lib/wendascope
install: wheel
	rm -rf "$(DESTDIR)$(OWN)"
	$(PYTHON) -m venv --clear "$(DESTDIR)$(OWN)"
	"$(DESTDIR)$(OWN)/bin/python" -m pip install -q --disable-pip-version-check $(DIST)/wendascope-*.whl
	"$(DESTDIR)$(OWN)/bin/python" -m pip uninstall -q -y pip setuptools
	find "$(DESTDIR)$(OWN)/bin" -type f -delete
	sed -i /^command/d "$(DESTDIR)$(OWN)/pyvenv.cfg"
	install -d "$(DESTDIR)$(PREFIX)/bin"
	printf '#!%s/bin/python\nfrom wendascope.cli import main\n\nmain()\n' "$(OWN)" > "$(DESTDIR)$(PREFIX)/bin/wendascope"
	chmod 755 "$(DESTDIR)$(PREFIX)/bin/wendascope"
	"$(DESTDIR)$(OWN)/bin/python" -m wendascope.cli integrate --program wendascope --prefix "$(PREFIX)" $(if $(DESTDIR),--root "$(DESTDIR)")

uninstall:
	"$(DESTDIR)$(OWN)/bin/python" -m wendascope.cli integrate --remove --prefix "$(PREFIX)" $(if $(DESTDIR),--root "$(DESTDIR)")
	rm -rf "$(DESTDIR)$(OWN)" "$(DESTDIR)$(PREFIX)/bin/wendascope"

# A package for Debian and what comes of it, beside this folder.
deb:
	dpkg-buildpackage -b -us -uc

clean:
	rm -rf $(VENV) src/wendascope/_built build dist
