"""Which frame of a sequence is slow, and why: on made-up numbers and on calls that were really made."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.test_liveness import FLAT, _draw, _frame
from wendascope.analysis.over_time import FrameInTime, frame_in_time, over_time, same_again, same_results
from wendascope.demo.data import demo_files
from wendascope.frame.file import load, save
from wendascope.frame.side_work import SideKind, SideWork
from wendascope.measure.pass_results import pass_results
from wendascope.opengl.codec import load_opengl
from wendascope.opengl.packed import CallBatch, stream_of
from wendascope.registry import GL
from wendascope.replay.client import Replay


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


def test_passes_with_the_same_result_are_told() -> None:
    names = [
        ["shadow", "view", "blur", "blur"],
        ["shadow", "view", "blur", "blur"],
        ["shadow", "mirror", "view", "blur"],
    ]
    results = [["s", "v1", "a", "b"], ["s", "v2", "a", "c"], ["s", "m", "v2", "x"]]
    found = {(p.name, k): (p.alike, p.frames) for k, p in enumerate(same_results(results, names, {"shadow": 30.0}))}
    assert found == {
        ("shadow", 0): (3, 3),
        ("view", 1): (2, 3),
        ("blur", 2): (2, 3),
        ("blur", 3): (1, 2),
        ("mirror", 4): (1, 1),
    }
    told = same_again(same_results(results, names, {"shadow": 30.0}), 3)
    assert told.startswith("1 pass of 5 gives the same result in all 3 frames, 30.0 ms per frame: shadow.")
    assert same_again(same_results([["a"], ["b"]], [["view"], ["view"]]), 2).startswith(
        "Every pass comes out otherwise"
    )


@given(st.lists(st.sampled_from("abc"), min_size=2, max_size=9), st.integers(0, 8))
def test_one_other_result_is_never_called_the_same(digests: list[str], at: int) -> None:
    results, names = [[d] for d in digests], [["view"]] * len(digests)
    (found,) = same_results(results, names)
    assert (found.alike == len(digests)) == (len(set(digests)) == 1)
    changed = [*digests]
    changed[at % len(digests)] = "other"
    (other,) = same_results([[d] for d in changed], names)
    assert other.alike < len(digests) and "Every pass" in same_again([other], len(digests))


@pytest.mark.driver
def test_results_of_passes_are_those_of_their_contents(tmp_path: Path) -> None:
    """The same frame gives the same digests in another process; one draw less changes what comes after it, no more."""
    frame = load_opengl(demo_files()[1])
    index = frame.passes.names.index("rain")
    step = int(frame.passes.first[index])
    with Replay(demo_files()[1]) as replay:
        first = replay.run(pass_results.asked())
    with Replay(demo_files()[1]) as replay:
        again = replay.run(pass_results.asked())
    assert first == again and len(first) == len(frame.passes)
    batch = CallBatch()
    for call in range(len(frame.calls)):
        if call != int(frame.steps.call[step]):
            batch.copy(frame.calls, call)
    path = tmp_path / "less.wend"
    save(dataclasses.replace(frame, calls=stream_of(batch)), path)
    with Replay(path) as replay:
        less = replay.run(pass_results.asked())
    assert less[:index] == first[:index] and less[index] != first[index]
