"""Edits of packed calls and messages of the replay process: what is not touched stays as it is, byte for byte."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.synthetic import draw, frame_of, objects
from wendascope.backends.edit import Edit, Insertion
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, stream_of
from wendascope.backends.opengl.running.edit import EditedCalls, apply_edit
from wendascope.frame.blobs import BlobStore
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL
from wendascope.replay import wire
from wendascope.trials.remedies import change_of

_counts = st.integers(0, 12)


def _frame(count: int) -> CallStream:
    batch = CallBatch()
    for i in range(count):
        if i % 3:
            batch.call("glUniform1i", i, i)
        else:
            batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, 8, bytes([i] * 8))
    return stream_of(batch)


def _batch(mark: int) -> CallBatch:
    batch = CallBatch()
    batch.call("glUniform1f", mark, 0.5)
    batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, 4, bytes([mark] * 4))
    batch.call("glGetIntegerv", GL.VIEWPORT, batch.out(16))
    return batch


def _told(edited: EditedCalls) -> list[tuple[object, ...]]:
    """Command and arguments of every call, data by value."""
    calls = CallStream(edited.words, edited.arena, edited.offsets)
    return [
        (calls.command(i).name, *(calls.argument(i, p.name) for p in calls.command(i).parameters))
        for i in range(len(calls))
    ]


@given(_counts)
def test_no_edit_changes_nothing(count: int) -> None:
    calls = _frame(count)
    edited = apply_edit(calls, Edit())
    assert np.array_equal(edited.words, calls.words) and edited.origin.tolist() == list(range(count))
    assert edited.arena[: len(calls.arena)].tobytes() == calls.arena.tobytes() and edited.out_size == 0


@given(st.data(), _counts)
def test_dropping_all_at_once_is_dropping_one_after_the_other(data: st.DataObject, count: int) -> None:
    calls = _frame(count)
    drop = np.array(data.draw(st.lists(st.booleans(), min_size=count, max_size=count)), bool)
    at_once = apply_edit(calls, Edit(drop=drop))
    now, left = calls, list(range(count))
    for call in data.draw(st.permutations(np.flatnonzero(drop).tolist())):
        one = apply_edit(now, Edit(drop=np.arange(len(now)) == left.index(call)))
        now = CallStream(one.words, one.arena, one.offsets)
        left.remove(call)
    assert _told(at_once) == _told(apply_edit(now, Edit())) and at_once.origin.tolist() == left


@given(st.data(), _counts)
def test_insertions_at_different_places_commute(data: st.DataObject, count: int) -> None:
    calls = _frame(count)
    places = data.draw(st.lists(st.integers(0, count), unique=True, max_size=5))
    insertions = [Insertion(place, _batch(mark)) for mark, place in enumerate(places)]
    told = _told(apply_edit(calls, Edit(insertions)))
    shuffled = data.draw(st.permutations(insertions))
    assert _told(apply_edit(calls, Edit(list(shuffled)))) == told
    assert len(told) == count + 3 * len(places)


@given(st.data(), _counts)
def test_every_insertion_has_output_memory_of_its_own(data: st.DataObject, count: int) -> None:
    calls = _frame(count)
    places = data.draw(st.lists(st.integers(0, count), min_size=1, max_size=5))
    edited = apply_edit(calls, Edit([Insertion(place, _batch(mark)) for mark, place in enumerate(places)]))
    starts = sorted(edited.out_starts)
    assert all(b - a >= 16 for a, b in zip(starts, [*starts[1:], edited.out_size], strict=True))


@given(_counts, _counts)
def test_what_is_cut_off_takes_its_insertions_along(count: int, end: int) -> None:
    edited = apply_edit(_frame(count), Edit([Insertion(count, _batch(1))], keep_until=end))
    kept = min(count, end)
    assert edited.origin.tolist() == list(range(kept)) + [-1] * (3 if kept == count else 0)


@given(_counts, _counts)
def test_what_undoes_runs_however_the_frame_is_cut(count: int, end: int) -> None:
    """At its own place where that is there, else last; pieces that ask for it find it by its owner."""
    edited = apply_edit(_frame(count), Edit([Insertion(count, _batch(1), undoes=True)], keep_until=end))
    assert edited.origin.tolist() == [*range(min(count, end)), -1, -1, -1]
    assert edited.owner.tolist()[-3:] == [count] * 3


def test_what_closes_comes_first_and_runs_with_the_call_before() -> None:
    edited = apply_edit(_frame(3), Edit([Insertion(2, _batch(1)), Insertion(2, _batch(2), closes=True)]))
    calls = CallStream(edited.words, edited.arena, edited.offsets)
    marks = [calls.argument(i, "location") for i in range(len(calls)) if calls.command(i).name == "glUniform1f"]
    assert marks == [2, 1]
    assert edited.owner.tolist() == [0, 1, 1, 1, 1, 2, 2, 2, 2]


# ---- messages --------------------------------------------------------------------------------------------


@given(st.text(max_size=20), st.binary(max_size=40))
def test_requests_come_back_as_they_were(job: str, arguments: bytes) -> None:
    request = wire.Request(job, arguments, 1)
    assert wire.decode_request(wire.encode(request)) == request


@given(st.binary(max_size=60))
def test_any_bytes_are_a_message_or_refused(data: bytes) -> None:
    for decode in (wire.decode_request, wire.decode_reply, lambda d: wire.unpack(d, np.ndarray)):
        try:
            decode(data)
        except (ValueError, TypeError) as error:  # msgspec's errors are ValueErrors
            assert str(error)


@pytest.mark.parametrize("dtype", ["u1", "<i4", "<f4", "<f8", "?"])
def test_arrays_keep_type_and_shape(dtype: str) -> None:
    for shape in ((0,), (3,), (2, 0, 4), (2, 3)):
        array = np.arange(int(np.prod(shape))).reshape(shape).astype(dtype)
        back = wire.unpack(wire.pack(array), np.ndarray)
        assert back.dtype == array.dtype and back.shape == array.shape and np.array_equal(back, array)
    assert np.array_equal(wire.unpack(wire.pack(array.T), np.ndarray), array.T), "not contiguous"


def test_what_is_no_plain_value_is_not_sent() -> None:
    with pytest.raises(TypeError, match="cannot send"):
        wire.pack(object())
    with pytest.raises(ValueError):
        wire.unpack(wire.pack([1, 2]), np.ndarray)
    assert wire.unpack(wire.pack(np.float32(1.5)), float) == 1.5


@pytest.mark.parametrize("gone", [[], [0], [5], [0, 1, 5], [2], [0, 1, 2, 3, 4]])
def test_steps_left_out_are_so_wherever_they_come_in_an_order(gone: list[int]) -> None:
    batch, blobs = CallBatch(), BlobStore()
    for mesh in range(6):
        draw(batch, 1, mesh + 1, 1, model=float(mesh))
    frame = frame_of(batch, objects(blobs, meshes=6), blobs)
    order = [0, 1, 3, 2, 4, 5]
    remedies = [Remedy("batch", order, orders=[order]), Remedy("drop-steps", gone)]
    edited = apply_edit(frame.calls, change_of(frame, remedies).edit())
    calls = CallStream(edited.words, edited.arena, edited.offsets)
    array, drawn = 0, []
    for call in range(len(calls)):
        name = calls.command(call).name
        array = int(calls.argument(call, "array")) if name == "glBindVertexArray" else array
        drawn += [array] if name.startswith("glDraw") else []
    assert drawn == [step + 1 for step in order if step not in gone]
