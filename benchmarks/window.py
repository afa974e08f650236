"""How soon the window shows a picture, and how soon the picture of a chosen step."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benchmarks.surveying import capture_setts

Row = tuple[str, str, str]
DEMO = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data" / "depot.wend"

# Each runs in a process of its own, so that every start is a first one.
_START = """
import json, sys, time
started = time.time() - time.process_time()  # of the process, its imports counted
from pathlib import Path
from PySide6.QtCore import QSettings, QTimer
from wendascope.desktop.window.application import make_application
app = make_application()
from wendascope.desktop.window.garbage import GarbageKeeper
from wendascope.desktop.window.main_window import MainWindow
garbage = GarbageKeeper(app)
window = MainWindow(QSettings(sys.argv[2], QSettings.Format.IniFormat), opening=True)
window.show()
first = []
captured = window.picture.show_captured
def seen(picture):
    captured(picture)
    window.picture.view.repaint()
    first.append(time.time() - started)
window.picture.show_captured = seen
window.open_files([Path(sys.argv[1])])
opened = time.time() - started
document = window.workspace.current
"""
_FIRST = (
    _START
    + """
from wendascope.desktop.models.commands import JobName
from wendascope.measure.times import prefix_ms
runner = window.work.runner(document)
def wait(step):
    document.selection.choose(step)
    while f"after step {step:,}" not in window.picture.title.text():
        app.processEvents()
        time.sleep(0.001)
camera = int(document.frame.passes.first[1])
wait(camera)
rest = []
for step in range(camera + 1, camera + 6):
    replaying = runner.replay_of(JobName.PICTURE).run(prefix_ms.asked(step=step))
    begun = time.perf_counter()
    wait(step)
    rest.append(time.perf_counter() - begun - replaying / 1000)
window.close()
print(json.dumps([first[0], sorted(rest)[2]]))
"""
)
_STILL = (
    _START
    + """
import random
from PySide6.QtCore import Qt
from wendascope.desktop.models.tree import TREES
chance = random.Random(35)
turns, last = [], time.perf_counter()
def turn():
    global last
    now = time.perf_counter()
    turns.append((now - last, what))
    last = now
what = "opened"
watch = QTimer()
watch.timeout.connect(turn)
watch.start(1)
steps = len(document.frame.steps)
def page():
    window.show_page(chance.choice(window.page_titles()[1:]))
def lens():
    window.picture.lens.setCurrentIndex(chance.randrange(2))
def grouping():
    window.workspace.set_grouping(chance.choice(list(TREES)))
def zoom():
    window.picture.view.zoom_by(chance.choice((0.8, 1.25)))
actions = {
    "step": lambda: window.choose_step(chance.randrange(steps)), "next step": lambda: window.move_step(1),
    "pass": lambda: window.move_pass(1), "page": page, "lens": lens, "grouping": grouping, "zoom": zoom,
    "back": lambda: window.go_in_history(-1), "finished": lambda: window.choose_step(None),
    "large": window.switch_picture, "strip": window.strip.show_all,
    "pin": lambda: document.pin.put((chance.randrange(99), chance.randrange(99))),
}
def rest(seconds):
    until = time.perf_counter() + seconds
    while time.perf_counter() < until:
        app.processEvents()
rest(1.0)
for _ in range(200):
    what = chance.choice(list(actions))
    actions[what]()
    rest(0.1)
turns.sort(reverse=True)
print(json.dumps([first[0], opened, turns[0][0], sum(t > 0.05 for t, _ in turns), turns[:12]]), flush=True)
import os
os._exit(0)
"""
)


def _run(code: str, frame: Path) -> list[float]:
    environment = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    with tempfile.TemporaryDirectory() as folder:  # settings are files that a rename replaces: never a device
        command = [sys.executable, "-c", code, str(frame), str(Path(folder) / "settings.ini")]
        done = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
    return list(json.loads(done.stdout.splitlines()[-1]))


def first_picture() -> Iterator[Row]:
    rows = [_run(_FIRST, DEMO) for _ in range(5)]
    first, steps = np.median(np.array(rows), axis=0)
    yield "window to first picture, imports counted", f"{first:.2f} s", "<= 1.5 s"
    yield "choosing a step to its picture, replaying up to it apart", f"{1000 * steps:.0f} ms", "<= 100 ms"


def large_frame() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "setts.wend"
        capture_setts(path)
        first, opened, longest, over, _ = _run(_STILL, path)
    yield "100,489 draws: window to first picture", f"{first:.2f} s", "<= 1.5 s"
    yield "100,489 draws: window to its tables", f"{opened:.1f} s", ""
    yield "100,489 draws: longest stillness in 200 random actions", f"{1000 * longest:.0f} ms", "<= 50 ms"
    yield "100,489 draws: times that it stood still for more than 50 ms", f"{over:.0f}", "0"


BENCHMARKS = {"window": first_picture, "window-setts": large_frame}
