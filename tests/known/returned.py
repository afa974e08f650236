"""What the program gets to read is a result, though nothing shows it in this frame."""

from __future__ import annotations

import numpy as np
from OpenGL import GL

from wendascope.analysis.remedy import Remedy
from wendascope.trials.outcomes import judge_remedies

from ._case import Draw, known
from ._draw import HEIGHT, RED, WIDTH, Painter, clear, onto, target

IDS = """#version 330
uniform float number;
out vec4 result;
void main() { result = vec4(number + floor(gl_FragCoord.x) * 201.0, 0.0, 0.0, 1.0); }
"""
"""Numbers that eleven bits do not hold."""
VIEW = range(12)
"""The steps of the view, in all of these programs."""


def _is_needed(steps: range, what: str):  # type: ignore[no-untyped-def]
    """Leaving out these steps leaves something else behind, and no finding says otherwise."""

    def check(looked) -> None:  # type: ignore[no-untyped-def]
        outcome = judge_remedies(looked.replay.session, [Remedy("drop-steps", steps=list(steps))])
        assert any(what in store for store in outcome.left_behind), outcome
        for finding in looked.findings:
            if finding.remedy is not None and finding.remedy.kind == "drop-steps":
                assert not set(steps) <= set(finding.steps), finding

    return check


def _holds_numbers(looked) -> None:  # type: ignore[no-untyped-def]
    assert not looked.of("narrower-target"), looked.of("narrower-target")


def _view(paint: Painter, framebuffer: int) -> None:
    onto(framebuffer)
    clear()
    paint.use()
    for k in range(11):
        paint.set("number", k).place(14 * k, 0, 14 * k + 14, HEIGHT).draw()


def _show(paint: Painter, picked: float) -> None:
    onto(0)
    clear(picked % 1.0, 0.5, 0.5, 1)
    paint.use().rect(20, 20, 60, 60, RED)


@known(allow=("covered-clear", "mergeable", "small-batches"), checks=(_is_needed(VIEW, "read back"), _holds_numbers))
def pixels_are_picked() -> Draw:
    """A view of numbers is read by glReadPixels into the program's memory and chooses the next frame's background: it
    can neither go nor lose bits.
    """
    ids, paint = Painter(IDS), Painter()
    framebuffer, _ = target(internal=GL.GL_RGBA32F)
    picked = [0.0]

    def draw(_: int) -> None:
        _view(ids, framebuffer)
        picked[0] = float(np.frombuffer(GL.glReadPixels(100, 50, 1, 1, GL.GL_RED, GL.GL_FLOAT), np.float32)[0]) / 7000
        _show(paint, picked[0])

    return draw


@known(allow=("covered-clear", "mergeable", "small-batches"), checks=(_is_needed(VIEW, "texture"), _holds_numbers))
def a_texture_is_read() -> Draw:
    """The same, read by glGetTexImage."""
    ids, paint = Painter(IDS), Painter()
    framebuffer, image = target(internal=GL.GL_RGBA32F)

    def draw(_: int) -> None:
        _view(ids, framebuffer)
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        values = GL.glGetTexImage(GL.GL_TEXTURE_2D, 0, GL.GL_RED, GL.GL_FLOAT)
        _show(paint, float(np.ravel(values)[50 * WIDTH + 100]) / 7000)

    return draw


@known(allow=("mergeable", "small-batches", "repeated-state"), checks=(_is_needed(range(1, 9), "query"),))
def primitives_are_counted() -> Draw:
    """Draws outside of the view are counted by a query for primitives, whose result is shown: they cannot go."""
    paint = Painter()
    query = int(np.ravel(GL.glGenQueries(1))[0])
    shown = [0]

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glBeginQuery(GL.GL_PRIMITIVES_GENERATED, query)
        for k in range(8):
            paint.rect(WIDTH + 10 * k + 5, 10, WIDTH + 10 * k + 9, 50, (k / 8, 0.2, 0.2, 1))
        GL.glEndQuery(GL.GL_PRIMITIVES_GENERATED)
        shown[0] = int(GL.glGetQueryObjectuiv(query, GL.GL_QUERY_RESULT))
        paint.rect(10, 10, 10 + shown[0], 60, RED)

    return draw
