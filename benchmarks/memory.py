"""What following every object costs a target, and how soon a frame of many objects is seen."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benchmarks.tap import Row, ratio_of
from tests.synthetic import frame_of, objects
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.frame.blobs import BlobStore
from wendascope.frame.file import save
from wendascope.registry import GL

_OBJECTS = 10_000
_SHOWN = """
import json, sys, time
from pathlib import Path
from PySide6.QtCore import QSettings
from wendascope.desktop.window.application import make_application
from wendascope.desktop.window.main_window import MainWindow
app = make_application()
window = MainWindow(QSettings(sys.argv[2], QSettings.Format.IniFormat))
window.resize(1280, 800)
window.show()
window.show_page("Memory")
page = window.page("Memory")
app.processEvents()
begun = time.perf_counter()
window.open_files([Path(sys.argv[1])])
while not page.table.rows.rows:
    app.processEvents()
page.treemap.repaint()
opened = time.perf_counter() - begun
times = []
for _ in range(20):
    begun = time.perf_counter()
    page.treemap.repaint()
    times.append(time.perf_counter() - begun)
laid = []
for _ in range(10):
    begun = time.perf_counter()
    page.treemap._lay_out()
    page.treemap.repaint()
    laid.append(time.perf_counter() - begun)
print(json.dumps([opened, sorted(times)[10], sorted(laid)[5]]))
import os
window.work.close_all()
os._exit(0)
"""


def followed() -> Iterator[Row]:
    """Objects made, filled and deleted, with the tap and without it in turns."""
    program = Path(tempfile.mkdtemp()) / "creating"
    source = Path(__file__).with_name("creating.c")
    subprocess.run(["gcc", "-O2", str(source), "-o", str(program), "-l:libEGL.so.1", "-l:libOpenGL.so.0"], check=True)
    os.environ.setdefault("EGL_PLATFORM", "surfaceless")

    def figure(text: str) -> float:
        found = re.search(r"([\d.]+) ms a frame", text)
        assert found is not None, text
        return float(found[1])

    median, low, high = ratio_of([str(program), "300"], figure, 21)
    yield "tap, 1,000 objects made a frame, with/without", f"{median:.3f} ({low:.3f} to {high:.3f})", "<= 1.02"


def seen() -> Iterator[Row]:
    """From opening a file to the Memory page, and its areas painted anew."""
    blobs, batch = BlobStore(), CallBatch()
    made = objects(blobs, 1, _OBJECTS // 4, _OBJECTS // 2, side=4)
    sides = np.random.default_rng(1).integers(1, 40, len(made.textures))
    for texture, side in zip(made.textures, sides.tolist(), strict=True):
        data = np.zeros((side, side, 4), np.uint8).tobytes()
        texture.images[0].width = texture.images[0].height = side
        texture.images[0].contents = blobs.put(data)
    batch.call("glUseProgram", 1)
    for mesh in range(1, _OBJECTS // 4 + 1, 3):
        batch.call("glBindTexture", GL.TEXTURE_2D, mesh)
        batch.call("glBindVertexArray", mesh)
        batch.call("glDrawElements", GL.TRIANGLES, 36, GL.UNSIGNED_SHORT, Raw(0))
    frame = frame_of(batch, made, blobs)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "many.wend"
        save(frame, path)
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
        command = [sys.executable, "-c", _SHOWN, str(path), f"{folder}/settings.ini"]
        rows = [
            json.loads(subprocess.run(command, capture_output=True, text=True, check=True, env=environment).stdout)
            for _ in range(3)
        ]
    opened, painted, laid = np.median(np.array(rows), axis=0)
    yield f"open {len(frame.memory):,} objects, to the Memory page", f"{opened:.2f} s", "<= 1 s"
    yield "areas painted again", f"{1000 * painted:.1f} ms", "<= 16 ms"
    yield "areas laid out and painted", f"{1000 * laid:.1f} ms", "<= 16 ms"


BENCHMARKS = {"memory-followed": followed, "memory-seen": seen}
