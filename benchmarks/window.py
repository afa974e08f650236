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

Row = tuple[str, str, str]
DEMO = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data" / "depot.wend"

# Run in a process of its own, so that every start is a first one. Times begin after the imports.
_FIRST = """
import json, sys, time
from pathlib import Path
from PySide6.QtCore import QSettings
from wendascope.measure.times import prefix_ms
from wendascope.desktop.window.application import make_application
from wendascope.desktop.window.main_window import MainWindow
started = time.perf_counter()
app = make_application()
window = MainWindow(QSettings(sys.argv[2], QSettings.Format.IniFormat))
window.show()
window.open_files([Path(sys.argv[1])])
while window.picture.view.image is None:
    app.processEvents()
window.picture.view.repaint()
app.processEvents()
first = time.perf_counter() - started
document = window.workspace.current
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
    replaying = runner._looking.replay.run(prefix_ms.asked(step=step))
    begun = time.perf_counter()
    wait(step)
    rest.append(time.perf_counter() - begun - replaying / 1000)
window.close()
print(json.dumps([first, sorted(rest)[2]]))
"""


def first_picture() -> Iterator[Row]:
    rows = []
    environment = {**os.environ, "QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
    for _ in range(5):
        with tempfile.TemporaryDirectory() as folder:  # settings are files that a rename replaces: never a device
            command = [sys.executable, "-c", _FIRST, str(DEMO), str(Path(folder) / "settings.ini")]
            done = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
        rows.append(json.loads(done.stdout))
    first, steps = np.median(np.array(rows), axis=0)
    yield "window to first picture, after imports", f"{first:.2f} s", "<= 1.5 s"
    yield "choosing a step to its picture, replaying up to it apart", f"{1000 * steps:.0f} ms", "<= 100 ms"


BENCHMARKS = {"window": first_picture}
