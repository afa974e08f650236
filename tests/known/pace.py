"""Who bounds a frame: the thread that computes, the thread that sleeps, or the work that it waits for."""

from __future__ import annotations

import time

import numpy as np
from OpenGL import GL

from wendascope.analysis.time.frame_bound import CPU, ELSEWHERE, GPU, frame_bound

from ._case import Draw, known
from ._draw import FLAT, HEIGHT, RED, WIDTH, Painter, clear, onto

_OWN_SECONDS = 0.025
EXPENSIVE = FLAT.replace(
    "result = colour;",
    "vec4 c = colour; for (int k = 0; k < 600; k++) c += sin(c + gl_FragCoord.x) * 0.01; result = fract(c);",
)


def _bound(*who: str, own_ms: float | None = None):
    def check(looked) -> None:
        from wendascope.report.survey import survey_document

        found = frame_bound(looked.frame)
        assert found is not None and found.who in who, found
        document = survey_document(looked.frame, looked.survey, 16.7)
        if own_ms is not None:
            assert looked.frame.cpu_lane.own_ms > own_ms, looked.frame.cpu_lane.own_ms
            assert document.late == {CPU: "CPU", GPU: "GPU", ELSEWHERE: "elsewhere"}[found.who], document.sentence
        if document.late in ("CPU", "GPU"):
            other = "GPU-bound" if document.late == "CPU" else "CPU-bound"
            assert other not in document.sentence + document.paced_by, "no two sentences that contradict"

    return check


def _compute(seconds: float) -> None:
    until = time.thread_time() + seconds
    while time.thread_time() < until:
        pass


def _with(before: bool, between: bool, after: bool, how) -> Draw:
    paint = Painter()

    def draw(_: int) -> None:
        if before:
            how(_OWN_SECONDS)
        onto(0)
        clear()
        paint.use().rect(20, 20, 60, 60, RED)
        if between:
            how(_OWN_SECONDS)
        paint.rect(80, 20, 120, 60, RED)
        if after:
            how(_OWN_SECONDS)

    return draw


@known(checks=(_bound(CPU, own_ms=20),), allow=("mergeable",))
def computes_before_the_first_call() -> Draw:
    """25 ms of the program's own work before its first call: CPU-bound, and over a budget of 16.7 ms."""
    return _with(True, False, False, _compute)


@known(checks=(_bound(CPU, own_ms=20),), allow=("mergeable",))
def computes_between_two_draws() -> Draw:
    """The same between two draws."""
    return _with(False, True, False, _compute)


@known(checks=(_bound(CPU, own_ms=20),), allow=("mergeable",))
def computes_after_the_last_call() -> Draw:
    """The same after the last call."""
    return _with(False, False, True, _compute)


@known(checks=(_bound(ELSEWHERE, own_ms=20),), allow=("mergeable",))
def sleeps() -> Draw:
    """25 ms of sleep: neither CPU nor GPU is busy, and the frame is late all the same."""
    return _with(True, False, False, time.sleep)


@known(checks=(_bound(CPU),), allow=("mergeable", "copies", "repeated-state", "not-visible", "untested-overdraw"))
def many_small_draws() -> Draw:
    """A thousand draws of one pixel: the thread that issues them computes nearly all of the time."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(1000):
            paint.rect(k % WIDTH, k // WIDTH, k % WIDTH + 1, k // WIDTH + 1, RED)

    return draw


@known(checks=(_bound(GPU),), allow=("covered-clear",), finds={"long-loop": lambda found: True})
def one_expensive_draw() -> Draw:
    """One draw whose shader runs a long loop: the program waits for it."""
    paint = Painter(EXPENSIVE)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(0, 0, WIDTH, HEIGHT, RED)

    return draw


@known(checks=(_bound(GPU),), allow=("covered-clear", "long-loop"))
def polls_until_the_gpu_is_done() -> Draw:
    """An expensive draw, counted by a query, which the program asks again and again whether it is there: its thread
    runs all the time, and only waits.
    """
    paint = Painter(EXPENSIVE)
    query = int(np.ravel(GL.glGenQueries(1))[0])

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glBeginQuery(GL.GL_SAMPLES_PASSED, query)
        paint.rect(0, 0, WIDTH, HEIGHT, RED)
        GL.glEndQuery(GL.GL_SAMPLES_PASSED)
        GL.glFlush()
        while not GL.glGetQueryObjectuiv(query, GL.GL_QUERY_RESULT_AVAILABLE):
            pass

    return draw
