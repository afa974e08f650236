"""Marks of a running program: the tap's own book-keeping against what the driver says, and what grows between marks."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import program
from tests.test_cli import result, run
from tests.test_session import Yard
from wendascope.desktop.models.session import KEPT_MOMENTS, SessionModel
from wendascope.desktop.views.marks_view import MarksView
from wendascope.errors import DamagedFileError, FileError, TargetError
from wendascope.frame.memory import MemoryKind
from wendascope.frame.memory_mark import MarkedObject, MemoryMark, load_mark, marked_items, save_mark
from wendascope.tap.channel import MessageKind, read_memory_file
from wendascope.tap.client import SessionClient
from wendascope.tap.launch import Target, Trigger
from wendascope.tap.memory_table import marked_objects
from wendascope.tap.messages import Beat, Beats, Do, Marked

_STORE = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--view", "store", "--size", "160x90"]


def _object(name: int, size: int = 100, place: str = "", **more: Any) -> MarkedObject:
    return MarkedObject("texture", 1, name, "RGBA8", 5, 5, 1, 1, 0, size, 0, 0, 1, place, **more)


@given(st.binary(max_size=600))
def test_what_a_target_tells_is_rows_or_a_clear_error(data: bytes) -> None:
    try:
        found = marked_objects(data)
    except TargetError:
        return
    assert len(found) <= len(data) // 128


def test_a_mark_is_read_as_it_was_written(tmp_path: Path) -> None:
    mark = MemoryMark(["yard"], 2, 30, 5, [_object(1, stack=["f (lib.so+0x1)"]), _object(2, place="shed")])
    path = tmp_path / "mark.json"
    save_mark(mark, path)
    assert load_mark(path) == mark and mark.bytes == 200
    first, second = marked_items(mark)
    assert first.place == "f (lib.so+0x1)" and second.place == "shed" and first.kind == MemoryKind.TEXTURE
    assert not first.followed, "a mark does not tell who uses what"
    for text in ("", "{", "[1, 2]", '{"objects": 3}', "[" * 100_000):
        path.write_text(text)
        with pytest.raises(DamagedFileError):
            load_mark(path)
    with pytest.raises(FileError, match="No such file"):
        load_mark(tmp_path / "none.json")
    save_mark(MemoryMark([], 1, 1, 1, [], version=99), path)
    with pytest.raises(FileError, match="update Wendascope"):
        load_mark(path)


def test_a_long_session_is_remembered_whole() -> None:
    model = SessionModel()
    for k in range(5 * KEPT_MOMENTS):
        model.take_in(Beats([Beat(k, 1, 1, 1, 1, 1, 10 * k, 0, 0, 3)]))
    history = model.memory
    assert KEPT_MOMENTS / 4 < len(history) < KEPT_MOMENTS
    assert history[0, 0] == 0 and history[-1, 0] > 4.9 * KEPT_MOMENTS and (history[:, 1] == 10 * history[:, 0]).all()


@pytest.mark.driver
@pytest.mark.parametrize("name", ["shapes", "everything", "multisample", "gles"])
def test_the_table_is_what_the_driver_says(name: str) -> None:
    """Object by object, of programs that make textures, renderbuffers and buffers in every way there is."""
    with Target(program(name)) as target:
        frame = target.capture(Trigger(frame=4), 120.0)
        assert target.channel is not None
        target.channel.ask_for_objects()
        message = target.channel.expect(MessageKind.MEMORY, 20.0)
        told = marked_objects(bytes(read_memory_file(message.fds[0], message.values[2])[0]))
        message.close()
    mine = {(row.object_class, row.name): row.bytes for row in told if row.bytes}
    theirs = {(i.object_class, i.name): i.size for i in frame.memory if i.object_class != "window" and i.size}
    assert mine == theirs and mine


@pytest.mark.driver
def test_a_leak_is_found_after_three_marks(runtime: Path, tmp_path: Path) -> None:
    yard = Yard("store", tmp_path / "out", [*_STORE, "--flaws", "leak"])
    try:
        with SessionClient("store") as client:  # a program that has drawn nothing yet cannot be marked
            next(e for e in client.events(20) if isinstance(e, Beats))
        marks: list[Path] = []
        frame = 0
        while len(marks) < 3:
            made = result("mark", "store")
            if made["frame"] >= frame + 70:  # one texture comes in 60 frames
                marks.append(Path(made["file"]))
                frame = made["frame"]
        found = result("memory", marks[2], "--against", marks[0], "--against", marks[1])
        (growing,) = found["growing"]
        assert growing["kind"] == "texture 256 x 256 RGBA8, made in delivery note" and growing["objects"] >= 2
        assert growing["bytes"] == growing["objects"] * sum(4 * (256 >> k) ** 2 for k in range(9))
        assert {row["place"] for row in found["changes"]} == {"delivery note"}
        told = run("memory", marks[2], "--against", marks[1])
        assert "objects came" in told.stdout or "1 object came" in told.stdout
        assert run("memory", marks[0]).returncode == 2, "alone it tells nothing of uses"
    finally:
        yard.end()
    assert run("mark", "store").returncode != 0


_LEAKING = r"""
#define GL_GLEXT_PROTOTYPES
#include <EGL/egl.h>
#include <GL/gl.h>
#include <GL/glext.h>
__attribute__((noinline, visibility("default"))) void fills_a_shelf(void) {
  GLuint name; glGenBuffers(1, &name); glBindBuffer(GL_ARRAY_BUFFER, name);
  glBufferData(GL_ARRAY_BUFFER, 5000, 0, GL_STATIC_DRAW);
}
int main(void) {
  EGLDisplay d = eglGetDisplay(EGL_DEFAULT_DISPLAY); eglInitialize(d, 0, 0); eglBindAPI(EGL_OPENGL_API);
  EGLint c[] = {EGL_SURFACE_TYPE, EGL_PBUFFER_BIT, EGL_RENDERABLE_TYPE, EGL_OPENGL_BIT, EGL_NONE};
  EGLConfig g; EGLint n;
  eglChooseConfig(d, c, &g, 1, &n);
  EGLint p[] = {EGL_WIDTH, 16, EGL_HEIGHT, 16, EGL_NONE}; EGLSurface s = eglCreatePbufferSurface(d, g, p);
  EGLContext x = eglCreateContext(d, g, 0, 0); eglMakeCurrent(d, s, s, x);
  for (int i = 0; i < 1000000; i++) { fills_a_shelf(); glClear(GL_COLOR_BUFFER_BIT); glFinish(); eglSwapBuffers(d, s); }
}
"""


@pytest.mark.driver
def test_stacks_name_the_function(tmp_path: Path) -> None:
    source, binary = tmp_path / "leaking.c", tmp_path / "leaking"
    source.write_text(_LEAKING)
    subprocess.run(["gcc", "-rdynamic", "-o", binary, source, "-lEGL", "-lGL"], check=True)
    import os

    environment = {**os.environ, "WENDASCOPE_STACKS": "1", "EGL_PLATFORM": "surfaceless"}
    with Target([str(binary)], environment=environment) as target:
        target.capture(Trigger(frame=3), 60.0)
        assert target.channel is not None
        target.channel.ask_for_objects()
        message = target.channel.expect(MessageKind.MEMORY, 20.0)
        told = marked_objects(bytes(read_memory_file(message.fds[0], message.values[2])[0]))
        message.close()
    assert told and all("fills_a_shelf" in row.stack[0] for row in told), told[0].stack


@pytest.mark.driver
def test_the_view_compares_marks(tmp_path: Path, qtbot: Any) -> None:
    model = SessionModel()
    view = MarksView(model)
    qtbot.addWidget(view)
    for number in range(1, 4):
        objects = [_object(k, place="shed") for k in range(1, 3 + number)]
        path = tmp_path / f"{number}.json"
        save_mark(MemoryMark(["yard"], number, 10 * number, 1, objects), path)
        model.take_in(Marked(str(path), number, 10 * number, 100 * len(objects), len(objects)))
    view.refresh()
    qtbot.waitUntil(lambda: "Grows at every mark" in view.answer.text(), timeout=20_000)
    assert "made in shed, 2 more" in view.answer.text() and len(view.changes.rows.rows) == 1
    view.marks.selectAll()
    assert len(view.changes.rows.rows) == 2 and view.answer.text().startswith("Marks 1 and 3")
    assert "+100 bytes" in view.marks.as_text()
    asked: list[bool] = []
    view.asked.connect(lambda: asked.append(True))
    model.state = "running"
    view.refresh()
    view.mark.click()
    assert asked and Do("mark").what == "mark"
