"""Which frame of a sequence is slow, and why: on made-up numbers and on calls that were really made."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import load_opengl
from tests.test_liveness import FLAT, SHOW, _draw, _frame
from wendascope.advice.findings import Case
from wendascope.advice.findings.unchanged import unchanged
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.sequence.over_time import (
    FrameInTime,
    OtherFrames,
    frame_in_time,
    over_time,
    same_again,
    same_results,
    unchanged_passes,
)
from wendascope.backends.opengl.calls.packed import CallBatch, stream_of
from wendascope.demo.data import demo_files
from wendascope.frame.file import load, save, save_sequence
from wendascope.frame.passes import PassKey
from wendascope.frame.places import frame_path
from wendascope.frame.remedy import Remedy
from wendascope.frame.side_work import SideKind, SideWork
from wendascope.measure.pass_results import pass_results
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.trials.proofs.proof import measured_proof
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.over_frames import sequence_results


def row(number: int, ms: float = 10.0, side: tuple[SideWork, ...] = (), **more: object) -> FrameInTime:
    made = FrameInTime(number, 100 + number, ms, 4.0, 2.0, ms - 6.0, 500, 40, 3, 9000, list(side))
    return msgspec.structs.replace(made, **more)


UPLOADS = SideWork(SideKind.TEXTURE_UPLOAD, 3, 5 << 20, 21.0)
COMPILED = SideWork(SideKind.COMPILATION, 2, 0, 40.0)


def test_the_hitch_and_its_reasons() -> None:
    rows = [row(1), row(2), row(3, 75.0, (UPLOADS, COMPILED), calls_ms=65.0, own_ms=8.0), row(4, 11.0)]
    found = over_time(rows)
    assert found.slow == 2 and found.sentence == "Frame 3 is slow: 75.0 ms in place of 10.0 ms."
    assert found.why == (
        "It alone has 2 shader compilations or links and 3 texture uploads (5.00 MiB). It has 61.0 ms more inside its"
        " calls."
    )
    assert len(found.reasons) == 3, "what takes the most is first, where the time is comes last"


def test_more_steps_and_own_code_are_reasons_too() -> None:
    rows = [row(1), row(2, 40.0, steps=900, passes=4, own_ms=33.0), row(3)]
    found = over_time(rows)
    assert found.reasons == ["900 steps in place of 40", "29.0 ms more in the program's code"]
    known = SideWork(SideKind.BUFFER_UPLOAD, 28, 4096, 0.1)
    same = over_time([row(1, side=(known,)), row(2, 30.0, (known,), own_ms=8.0), row(3, side=(known,))])
    assert same.slow == 1 and same.reasons == [] and same.why.endswith("Its calls are those of the others.")


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


def _keys(names: list[str]) -> list[PassKey]:
    return [(name, names[:index].count(name)) for index, name in enumerate(names)]


def test_passes_with_the_same_result_are_told() -> None:
    names = [
        ["shadow", "view", "blur", "blur"],
        ["shadow", "view", "blur", "blur"],
        ["shadow", "mirror", "view", "blur"],
    ]
    results = [["s", "v1", "a", "b"], ["s", "v2", "a", "c"], ["s", "m", "v2", "x"]]
    keys, ms = list(map(_keys, names)), {("shadow", 0): 30.0}
    found = {(p.name, k): (p.alike, p.frames) for k, p in enumerate(same_results(results, keys, names, ms))}
    assert found == {
        ("shadow", 0): (3, 3),
        ("view", 1): (2, 3),
        ("blur", 2): (2, 3),
        ("blur", 3): (1, 2),
        ("mirror", 4): (1, 1),
    }
    told = same_again(same_results(results, keys, names, ms), 3)
    assert told.startswith("1 pass of 5 gives the same result in all 3 frames, 30.0 ms per frame: shadow.")
    for first, second, words in (("a", "a", "Nothing changes"), ("", "", "Every pass"), ("a", "b", "Every pass comes")):
        again = same_results([[first], [second]], [[("view", 0)]] * 2, [["view"]] * 2)
        assert same_again(again, 2).startswith(words)


@given(st.lists(st.sampled_from("abc"), min_size=2, max_size=9), st.integers(0, 8))
def test_one_other_result_is_never_called_the_same(digests: list[str], at: int) -> None:
    results, names = [[d] for d in digests], [["view"]] * len(digests)
    keys = list(map(_keys, names))
    (found,) = same_results(results, keys, names)
    assert (found.alike == len(digests)) == (len(set(digests)) == 1)
    changed = [*digests]
    changed[at % len(digests)] = "other"
    (other,) = same_results([[d] for d in changed], keys, names)
    assert other.alike < len(digests) and "Every pass" in same_again([other], len(digests))


@given(st.lists(st.lists(st.sampled_from("ab"), min_size=3, max_size=3), min_size=2, max_size=6), st.data())
def test_what_changes_in_one_frame_is_not_unchanged(results: list[list[str]], data: st.DataObject) -> None:
    names = [_keys(["shadow", "view", "view"])] * len(results)
    place = data.draw(st.integers(0, len(results) - 1))
    found = unchanged_passes(results, names, place)
    assert found == [k for k in range(3) if len({row[k] for row in results}) == 1]
    frame, index = data.draw(st.integers(0, len(results) - 1)), data.draw(st.integers(0, 2))
    results[frame][index] = "other"
    assert index not in unchanged_passes(results, names, place)
    unread = [["", *row[1:]] for row in results]
    assert 0 not in unchanged_passes(unread, names, place), "nobody knows what it came to"
    shorter = unchanged_passes([*results, results[0][1:]], [*names, _keys(["view", "view"])], place)
    assert 0 not in shorter, "a frame without the pass does not have its result"


def _case(unchanged_now: list[int], *rows: tuple[int, ...]) -> Case:
    batch = CallBatch()
    for row in rows:
        _draw(batch, *row)
    return Case(_frame(batch), Drawn([], [], []), None, other_frames=OtherFrames(5, 2, unchanged_now))


def test_unchanged_passes_are_found_where_keeping_them_is_possible() -> None:
    shown = ((1,), (2, SHOW, 1), (0, SHOW, 2))  # one image, made into another one, shown
    (found,) = unchanged(_case([0], *shown))
    assert found.steps == [0] and found.remedy is not None and found.remedy.kind == "keep-result"
    assert found.title.endswith("1 draw makes the same image in all 5 frames")
    assert [f.steps for f in unchanged(_case([0, 1], *shown))] == [[0], [1]]
    assert list(unchanged(_case([0, 1, 2], *shown))) == [], "nothing moves: that says nothing of other frames"
    assert list(unchanged(_case([2], *shown))) == [], "the window is drawn every time"
    assert list(unchanged(_case([0], (1,), (0, FLAT)))) == [], "nothing reads it: another finding says so"
    twice = ((1,), (2, SHOW, 1), (1,), (0, SHOW, 1))  # the first image is drawn into twice
    assert list(unchanged(_case([0], *twice))) == [], "what else draws into it would be lost"
    assert [f.steps for f in unchanged(_case([0, 2], *twice))] == [[0, 2]]
    assert list(unchanged(Case(_frame(CallBatch()), Drawn([], [], []), None))) == []


@pytest.mark.driver
def test_unchanged_passes_of_the_demo_can_be_kept(tmp_path: Path) -> None:
    """Two frames, of which the second lacks a drop of rain: what comes before the rain is the same. Kept, the picture
    stays; of what later passes draw over, nothing can be kept.
    """
    frame = load_opengl(demo_files()[1])
    rain = frame.passes.names.index("rain")
    batch = CallBatch()
    for call in range(len(frame.calls)):
        if call != int(frame.steps.call[int(frame.passes.first[rain])]):
            batch.copy(frame.calls, call)
    path = tmp_path / "rain.wend"
    save_sequence([frame, dataclasses.replace(frame, calls=stream_of(batch))], path)
    results = sequence_results(frame_path(path, 2))
    assert sequence_results(path) == results, "they are kept for all frames"
    found = unchanged_passes(results.digests, results.keys, 0)
    names = frame.passes.short_names
    assert names.index("shadow") in found and rain not in found and names.index("depot") in found

    def kept(name: str) -> str:
        index = names.index(name)
        steps = list(range(int(frame.passes.first[index]), int(frame.passes.end[index])))
        return measured_proof(frame, "kept", [Remedy("keep-result", steps)], replay, 0.5).verdict

    with Replay(path) as replay:
        assert kept("shadow") not in (Verdict.CHANGES, Verdict.LEAVES, Verdict.REFUSED)
        assert kept("depot") == Verdict.CHANGES, "the rain is drawn into its image"


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
