"""What is cleared again before anybody reads it has no effect: against a fold that follows every pixel."""

from __future__ import annotations

import dataclasses
from typing import NamedTuple

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.test_liveness import FLAT, SHOW, _frame
from wendascope.analysis.draws.liveness import without_effect
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.state.tracker import InitialState
from wendascope.registry import GL

SIZE = 8
Rectangle = tuple[int, int, int, int]
ALL: Rectangle = (0, 0, SIZE, SIZE)


class Step(NamedTuple):
    """A clear within a scissor, or a draw within a viewport that may sample another image; framebuffer 0 is the
    window.
    """

    kind: str
    into: int
    place: Rectangle = ALL
    reads: int = 0
    scissored: bool = True


def _made(steps: list[Step], before: str = "", masked: bool = False) -> OpenGLFrame:
    batch = CallBatch()
    if before:
        batch.call(before, 1, GL.QUERY_WAIT)
    for step in steps:
        x0, y0, x1, y1 = step.place
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, step.into)
        if step.kind == "clear":
            if step.scissored:
                batch.call("glEnable", GL.SCISSOR_TEST)
                batch.call("glScissor", x0, y0, x1 - x0, y1 - y0)
            if masked:
                batch.call("glColorMask", 1, 1, 1, 0)
            batch.call("glClear", GL.COLOR_BUFFER_BIT)
            batch.call("glDisable", GL.SCISSOR_TEST)
            continue
        batch.call("glViewport", x0, y0, x1 - x0, y1 - y0)
        if step.reads:
            batch.call("glBindTexture", GL.TEXTURE_2D, step.reads)
        batch.call("glUseProgram", SHOW if step.reads else FLAT)
        batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
    frame = _frame(batch)
    whole = tuple(int(np.float32(v).view(np.uint32)) for v in ALL)
    state: InitialState = {
        "color_mask": {(i, 0): (1, 1, 1, 1) for i in range(8)},
        "scissor_test_enabled": {(i, 0): (0,) for i in range(16)},
        "scissor": {(i, 0): ALL for i in range(16)},
        "viewport": {(i, 0): whole for i in range(16)},
    }
    return dataclasses.replace(frame, state={**frame.state, **state})


def _dead(*steps: Step, before: str = "", masked: bool = False) -> list[bool]:
    return list(without_effect(_made(list(steps), before, masked)).tolist())


LEFT, RIGHT = (0, 0, 4, SIZE), (4, 0, SIZE, SIZE)


def test_what_is_cleared_before_it_is_read_is_dead() -> None:
    first, again, shown = Step("draw", 1), Step("draw", 1), Step("draw", 0, reads=1)
    clear = Step("clear", 1)
    assert _dead(clear, first, clear, again, shown) == [True, True, False, False, False]
    assert _dead(clear, first, shown, clear, again) == [False] * 5, "it is read before, and the rest a frame later"
    assert _dead(clear, first, clear, again, shown, masked=True) == [False] * 5, "alpha stays"
    assert _dead(clear, first, clear, again, shown, before="glBeginConditionalRender") == [False] * 5


def test_tiles_are_followed_by_themselves() -> None:
    def tile(place: Rectangle) -> tuple[Step, Step]:
        return Step("clear", 1, place), Step("draw", 1, place)

    shown = Step("draw", 0, reads=1)
    assert _dead(*tile(LEFT), *tile(RIGHT), *tile(LEFT), *tile(RIGHT), shown) == [True] * 4 + [False] * 5
    assert _dead(*tile(LEFT), *tile(RIGHT), *tile(LEFT), shown) == [True] * 2 + [False] * 5, "the right one stays"
    wide = Step("draw", 1, (2, 0, 6, SIZE))
    assert _dead(wide, *tile(LEFT), *tile(RIGHT), shown)[0] is False, "no clear by itself replaces all of it"
    assert _dead(wide, Step("clear", 1, scissored=False), shown)[0] is True


def test_a_dead_reader_keeps_nothing_alive() -> None:
    made, copied = Step("draw", 1), Step("draw", 2, reads=1)
    shown = Step("draw", 0, reads=2)
    again = [Step("clear", 1), Step("draw", 1), Step("clear", 2), Step("draw", 2, reads=1)]
    assert _dead(made, copied, *again, shown) == [True, True] + [False] * 5
    assert _dead(made, copied, shown, *again) == [False] * 7


places = st.tuples(st.integers(0, 3), st.integers(0, 3), st.integers(4, SIZE), st.integers(4, SIZE))
tiles = st.sampled_from([ALL, LEFT, RIGHT, (0, 0, 4, 4), (4, 4, SIZE, SIZE)])
made_steps = st.one_of(
    st.builds(Step, st.just("clear"), st.integers(1, 3), tiles, st.just(0), st.booleans()),
    st.builds(Step, st.just("draw"), st.integers(0, 3), st.one_of(tiles, places), st.integers(0, 3)),
)


def _seen(steps: list[Step]) -> set[int]:
    """Steps whose work is part of a pixel of the window in this frame or the next: every draw adds to what is there."""
    images = {name: [[frozenset[int]() for _ in range(SIZE)] for _ in range(SIZE)] for name in range(4)}
    for number, step in enumerate([*steps, *steps]):
        here = frozenset([number % len(steps)])
        x0, y0, x1, y1 = ALL if step.kind == "clear" and not step.scissored else step.place
        read = frozenset[int]()
        if step.reads and step.kind == "draw":
            read = read.union(*(pixel for row in images[step.reads] for pixel in row))
        for y in range(y0, y1):
            for x in range(x0, x1):
                images[step.into][y][x] = here if step.kind == "clear" else images[step.into][y][x] | here | read
    return set().union(*(pixel for row in images[0] for pixel in row))


@settings(max_examples=400, deadline=None)
@given(st.lists(made_steps, min_size=1, max_size=14))
def test_nothing_that_is_seen_is_called_dead(steps: list[Step]) -> None:
    dead = _dead(*steps)
    assert not _seen(steps) & {step for step, gone in enumerate(dead) if gone}


def test_viewports_are_told_in_pixels_whatever_set_them() -> None:
    frame = _made([Step("draw", 1, (2, 1, 6, 5)), Step("draw", 0)])
    assert frame.setting_text(0, "viewport") == "4 x 4 at 2, 1" and frame.setting_text(1, "viewport") == "8 x 8 at 0, 0"
    assert "x 2, y 1, width 4, height 4" in [text for s in frame.step_facts(0) for _, text in s.rows]


@pytest.mark.parametrize("steps", [[], [Step("clear", 1)]])
def test_frames_with_nothing_to_replace(steps: list[Step]) -> None:
    assert len(_dead(*steps)) == len(steps)
