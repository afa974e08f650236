"""Which frame of a sequence is slow, and why: on made-up numbers and on calls that were really made."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.test_liveness import FLAT, _draw, _frame
from wendascope.analysis.over_time import FrameInTime, frame_in_time, over_time
from wendascope.demo.data import demo_files
from wendascope.frame.file import load
from wendascope.frame.side_work import SideKind, SideWork
from wendascope.opengl.packed import CallBatch
from wendascope.registry import GL


def row(number: int, ms: float = 10.0, side: tuple[SideWork, ...] = (), **more: object) -> FrameInTime:
    made = FrameInTime(number, 100 + number, ms, 4.0, 2.0, ms - 6.0, 500, 40, 3, 9000, list(side))
    return msgspec.structs.replace(made, **more)


UPLOADS = SideWork(SideKind.TEXTURE_UPLOAD, 3, 5 << 20, 21.0)
COMPILED = SideWork(SideKind.COMPILATION, 2, 0, 40.0)


def test_the_hitch_and_its_reasons() -> None:
    rows = [row(1), row(2), row(3, 75.0, (UPLOADS, COMPILED), calls_ms=65.0, own_ms=8.0), row(4, 11.0)]
    found = over_time(rows)
    assert found.slow == 2 and found.sentence == (
        "Frame 3 is slow: 75.0 ms, the others 10.0 ms. It has 2 shader compilations or links in place of 0, 3 texture"
        " uploads (5.00 MiB) in place of 0 and 61.0 ms more inside its calls."
    )
    assert len(found.reasons) == 3, "what takes the most is first, where the time is comes last"


def test_more_steps_and_own_code_are_reasons_too() -> None:
    rows = [row(1), row(2, 40.0, steps=900, passes=4, own_ms=33.0), row(3)]
    found = over_time(rows)
    assert found.reasons == ["900 steps in place of 40", "29.0 ms more in the program's code"]
    known = SideWork(SideKind.BUFFER_UPLOAD, 28, 4096, 0.1)
    same = over_time([row(1, side=(known,)), row(2, 30.0, (known,), own_ms=8.0), row(3, side=(known,))])
    assert same.slow == 1 and same.reasons == [] and same.sentence.endswith("Its calls are those of the others.")


def test_frames_alike_are_not_told_apart() -> None:
    found = over_time([row(1, 10.0), row(2, 10.9), row(3, 9.5)])
    assert found.slow == -1 and found.sentence == "No frame stands out: 3 frames took 9.50 to 10.9 ms while recorded."
    assert over_time([row(1, 0.4), row(2, 0.9)]).slow == -1, "half a millisecond is no hitch"
    assert "--frames" in over_time([row(1)]).sentence and over_time([]).slow == -1


@given(st.lists(st.floats(1, 500), min_size=2, max_size=12))
def test_only_the_longest_can_be_slow(times: list[float]) -> None:
    found = over_time([row(k, ms) for k, ms in enumerate(times, 1)])
    assert found.slow in (-1, times.index(max(times)))
    assert len(found.frames) == len(times) and found.sentence.endswith((".", "recorded."))


def test_work_beside_drawing_is_counted_by_what_calls_do() -> None:
    batch = CallBatch()
    _draw(batch, 1, FLAT)
    batch.call("glBindBuffer", GL.ARRAY_BUFFER, 7)
    batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, 100, bytes(100))
    batch.call("glBufferData", GL.ARRAY_BUFFER, 64, None, GL.STREAM_DRAW)
    batch.call("glTexSubImage2D", GL.TEXTURE_2D, 0, 0, 0, 4, 4, GL.RGBA, GL.UNSIGNED_BYTE, bytes(64))
    batch.call("glTexImage2D", GL.TEXTURE_2D, 0, GL.RGBA8, 4, 4, 0, GL.RGBA, GL.UNSIGNED_BYTE, None)
    batch.call("glGenerateMipmap", GL.TEXTURE_2D)
    batch.call("glTexParameteri", GL.TEXTURE_2D, GL.TEXTURE_MIN_FILTER, GL.LINEAR)
    found = {item.kind: (item.count, item.bytes) for item in _frame(batch).side_work if item.kind != SideKind.WAIT}
    assert found == {
        SideKind.TEXTURE_UPLOAD: (1, 64),
        SideKind.TEXTURE_ALLOCATION: (1, 0),
        SideKind.BUFFER_UPLOAD: (1, 100),
        SideKind.MIPMAPS: (1, 0),
    }
    assert UPLOADS.text == "3 texture uploads (5.00 MiB)" and COMPILED.text == "2 shader compilations or links"


def test_the_demo_in_time() -> None:
    found = frame_in_time(load(demo_files()[0]), 1)
    assert (found.steps, found.passes) == (1073, 10)
    assert found.calls_ms + found.waits_ms + found.own_ms == pytest.approx(found.ms, rel=1e-6)
