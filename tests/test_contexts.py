"""Frames that several contexts draw, as one stream: names apart, state as each context has it, and no advice across."""

from __future__ import annotations

import copy

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.backends.opengl.calls.contexts import ContextReading, ContextSettler, OtherContext, owners
from wendascope.backends.opengl.calls.packed import FLAG_SWITCH, CallBatch, CallStream, merge_streams, stream_of
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import FramebufferRecord, Objects, VertexArrayRecord
from wendascope.backends.opengl.state.state_table import PATTERNS
from wendascope.backends.opengl.state.tracker import InitialState, StateHistory
from wendascope.errors import DamagedFileError
from wendascope.frame.context import ContextInfo
from wendascope.frame.file import load
from wendascope.measure.pictures import verify
from wendascope.registry import GL
from wendascope.replay.client import Replay

from .conftest import Capture, program
from .synthetic import draw, frame_of

CORE = ContextInfo(major=4, minor=5)
Call = tuple[str, tuple[int, ...]]
UNITS = (GL.TEXTURE0, GL.TEXTURE0 + 1)
_name = st.integers(0, 3)
a_call: st.SearchStrategy[Call] = st.one_of(
    st.tuples(st.just("glUseProgram"), st.tuples(_name)),
    st.tuples(st.just("glActiveTexture"), st.tuples(st.sampled_from(UNITS))),
    st.tuples(st.just("glBindTexture"), st.tuples(st.sampled_from([GL.TEXTURE_2D, GL.TEXTURE_3D]), _name)),
    st.tuples(st.just("glBindFramebuffer"), st.tuples(st.sampled_from([GL.FRAMEBUFFER, GL.READ_FRAMEBUFFER]), _name)),
    st.tuples(st.just("glEnable"), st.tuples(st.sampled_from([GL.DEPTH_TEST, GL.BLEND]))),
    st.tuples(st.just("glDisable"), st.tuples(st.sampled_from([GL.DEPTH_TEST, GL.BLEND]))),
    st.tuples(st.just("glBindVertexArray"), st.tuples(_name)),
    st.tuples(st.just("glBindBuffer"), st.tuples(st.sampled_from([GL.ARRAY_BUFFER, GL.COPY_READ_BUFFER]), _name)),
    st.tuples(st.just("glBindBufferBase"), st.tuples(st.just(GL.UNIFORM_BUFFER), st.integers(0, 1), _name)),
    st.tuples(st.just("glViewport"), st.tuples(_name, _name, st.just(8), st.just(9))),
    st.tuples(st.just("glDrawArrays"), st.tuples(st.just(GL.TRIANGLES), st.just(0), st.just(3))),
)
turns = st.lists(st.tuples(st.sampled_from([7, 9, 12]), st.lists(a_call, max_size=6)), max_size=8)


def _initial(lit: int) -> InitialState:
    return {
        "capability": {(GL.DEPTH_TEST, 0): (lit,)},
        "blend_enabled": {(i, 0): (lit,) for i in range(8)},
        "active_texture": {(0, 0): (GL.TEXTURE0 + lit,)},
        "viewport": {(i, 0): tuple(int(np.float32(v).view(np.uint32)) for v in (0, 0, lit, 5)) for i in range(16)},
        "texture": {(GL.TEXTURE0, GL.TEXTURE_2D): (lit + 1,)},
    }


def _reading(lit: int) -> ContextReading:
    nothing = merge_streams([])
    objects = Objects(framebuffers=[FramebufferRecord(2)], vertex_arrays=[VertexArrayRecord(1)], queries=[3])
    return ContextReading(CORE, _initial(lit), objects, nothing, nothing, [])


def _recorded(parts: list[tuple[int, list[Call]]], main: int = 7) -> tuple[CallStream, list[int]]:
    """What the tap records of such turns, and the order in which contexts are met. It ends with the frame's own."""
    batch, current, met = CallBatch(), main, []
    for number, calls in [*parts, (main, [])]:
        if number != current:
            batch.call("wendaContext", number)
            met.append(number)
            current = number
        for name, arguments in calls:
            batch.call(name, *arguments)
    return stream_of(batch), met


def _settler(objects: Objects, met: list[int]) -> ContextSettler:
    settler = ContextSettler(7, CORE, _initial(0), objects)
    for number in met:
        settler.meet(number, merge_streams([]) if settler.known(number) else _reading(1))
    return settler


def _whole(values: tuple[int, ...]) -> list[float]:
    """Sides of a viewport, which are integers or the bits of floats, as the command takes them; all here are small."""
    return [float(np.uint32(v).view(np.float32)) if v > 1 << 20 else float(v) for v in values]


@settings(max_examples=150)
@given(turns, turns)
def test_every_call_finds_the_state_of_its_own_context(first: list, second: list) -> None:
    """The property that all rests on, over a frame and the frame after it: the one stream gives each call what the
    context had that made it, its containers under names of their own.
    """
    settler = _settler(Objects(), [])
    own: dict[int, list[Call]] = {7: [], 9: [], 12: []}
    whole: list[CallStream] = []
    for parts in (first, second):
        calls, met = _recorded(parts)
        for number in met:
            settler.meet(number, merge_streams([]) if settler.known(number) else _reading(1))
        settled = settler.settle(calls)
        made = (settled.flags & FLAG_SWITCH) == 0
        assert [settled.command(int(c)).name for c in np.flatnonzero(made)] == [
            calls.command(c).name for c in range(len(calls))
        ]
        whole.append(settled)
        for number, some in parts:
            own[number] += some
    stream_ = merge_streams(whole)
    history = StateHistory(stream_, _initial(0))
    others = {o.number: o.first_name for o in settler.others}
    alone = {n: StateHistory(_recorded([(7, calls)])[0], _initial(0 if n == 7 else 1)) for n, calls in own.items()}
    reached = dict.fromkeys(own, 0)
    rows = [7, *others]
    for call in range(len(stream_)):
        if stream_.flags[call] & FLAG_SWITCH or stream_.command(call).name == "wendaContext":
            continue
        number = rows[int(owners(stream_, settler.others)[call])]
        at, reached[number] = reached[number], reached[number] + 1
        for name, key in (
            ("program", (0, 0)), ("active_texture", (0, 0)), ("vertex_array", (0, 0)),
            *(("texture", (unit, target)) for unit in UNITS for target in (GL.TEXTURE_2D, GL.TEXTURE_3D)),
            ("framebuffer", (GL.DRAW_FRAMEBUFFER, 0)), ("framebuffer", (GL.READ_FRAMEBUFFER, 0)),
            ("capability", (GL.DEPTH_TEST, 0)), ("blend_enabled", (3, 0)), ("viewport", (5, 0)),
            ("buffer", (GL.ARRAY_BUFFER, 0)), ("buffer", (GL.UNIFORM_BUFFER, 0)),
            ("indexed_buffer", (GL.UNIFORM_BUFFER, 1)),
        ):  # fmt: skip
            nothing = (0,) * len(PATTERNS[name].kinds)
            expected = alone[number].value(name, at, *key) or nothing
            class_name = PATTERNS[name].object_class
            if number != 7 and (class_name == "vertex array" or (class_name == "framebuffer" and expected[0])):
                expected = (expected[0] + others[number],)
            found = history.value(name, call, *key) or nothing
            same = _whole(found) == _whole(expected) if name == "viewport" else found == expected
            assert same, (name, key, number, at, found, expected)


def test_containers_of_the_same_names_stay_apart() -> None:
    objects = Objects(framebuffers=[FramebufferRecord(2)], vertex_arrays=[VertexArrayRecord(4)], queries=[3])
    calls, met = _recorded(
        [(9, [("glBindFramebuffer", (GL.FRAMEBUFFER, 2)), ("glBeginQuery", (GL.SAMPLES_PASSED, 3))])]
    )
    settler = _settler(objects, met)
    settled = settler.settle(calls)
    (other,) = settler.others
    assert other.first_name == 100 and other.description == "OpenGL 4.5 core"
    assert [f.name for f in objects.framebuffers] == [2, 102] and objects.queries == [3, 103]
    assert [v.name for v in objects.vertex_arrays] == [4, 101]
    bound = [int(settled.argument(c, "framebuffer")) for c in settled.calls_of("glBindFramebuffer").tolist()]
    assert bound == [102, 0, 0], "the program's, and ours that goes back to the window for drawing and reading"
    assert int(settled.argument(int(settled.calls_of("glBeginQuery")[0]), "id")) == 103


def test_a_frame_of_one_context_stays_as_it_is() -> None:
    calls, _ = _recorded([(7, [("glEnable", (GL.BLEND,)), ("glDrawArrays", (GL.TRIANGLES, 0, 3))])])
    settler = _settler(Objects(), [])
    assert settler.settle(calls) is calls and settler.others == [] and settler.caveats == []


def test_what_was_not_read_and_what_is_not_offered_is_said() -> None:
    calls, _ = _recorded([(9, [("glEnable", (GL.BLEND,))])])
    settler = _settler(Objects(), [])
    settler.settle(calls)
    assert settler.caveats == ["the state of context 2 was not read: its calls start from the defaults"]
    old = ContextSettler(7, ContextInfo(major=3, minor=0, profile="compatibility"), _initial(0), Objects())
    calls, met = _recorded([(9, [("glDispatchCompute", (1, 1, 1))])])
    for number in met:
        old.meet(number, _reading(1) if number == 9 else merge_streams([]))
    old.settle(calls)
    assert "which has no glDispatchCompute" in " ".join(old.caveats)


def test_a_core_frame_with_a_compatibility_context_is_replayed_in_one() -> None:
    calls, met = _recorded([(9, [("glLoadIdentity", ())])])
    settler = ContextSettler(7, CORE, _initial(0), Objects())
    reading = _reading(1)
    reading.context = ContextInfo(major=4, minor=5, profile="compatibility")
    reading.state = {**reading.state, "capability": {(GL.LIGHTING, 0): (1,)}}
    for number in met:
        settler.meet(number, reading if number == 9 else merge_streams([]))
    settled = settler.settle(calls)
    assert settler.context.profile == "compatibility" and settler.caveats == []
    switched = [int(settled.argument(c, "cap")) for c in settled.calls_of("glEnable", "glDisable").tolist()]
    assert switched.count(GL.LIGHTING) == 2, "on for its calls, and off again for the frame's own"


def _two_contexts(batch: CallBatch) -> OpenGLFrame:
    frame = frame_of(batch)
    frame.other_contexts = [OtherContext(9, 100, 1)]
    return frame


def test_state_that_another_context_covers_is_neither_repeated_nor_overwritten() -> None:
    """The trap: in one stream the switch sets what the frame's own context had set, but the program does not."""
    batch = CallBatch()
    batch.call("glEnable", GL.CULL_FACE)
    batch.call("wendaContext", 9)
    batch.call("glDisable", GL.CULL_FACE)  # ours, marked below
    draw(batch, 1, 1, 1)
    batch.call("wendaContext", 7)
    batch.call("glEnable", GL.CULL_FACE)  # ours
    draw(batch, 1, 1, 1)
    frame = _two_contexts(batch)
    ours = [2, int(frame.calls.calls_of("glEnable")[1])]
    frame.calls.words[frame.calls.offsets[ours]] |= np.uint64(FLAG_SWITCH << 16)
    frame.calls = CallStream(frame.calls.words, frame.calls.arena, frame.calls.offsets)
    found = frame.call_use()
    assert found.use[0] == 1 or found.use[0] not in found.use[ours], "the first glEnable serves the last draw"
    redundant = {int(c) for c in np.flatnonzero(found.because >= -1)}
    assert 0 not in redundant and not redundant & set(ours)
    assert frame.passes.names == ["main view 1/2, 1 draw, context 2", "main view 2/2, 1 draw"]
    assert frame.owners[frame.steps.call].tolist() == [1, 0]


def test_a_damaged_list_of_contexts_is_refused(tmp_path) -> None:
    from wendascope.frame.file import save

    frame = _two_contexts(CallBatch())
    path = tmp_path / "frame.wend"
    save(frame, path)
    kept = load(path)
    assert isinstance(kept, OpenGLFrame) and kept.other_contexts == frame.other_contexts
    bad = copy.copy(frame)
    bad.other_contexts = [OtherContext(-1, 100, 1)]
    save(bad, path)
    with pytest.raises(DamagedFileError):
        load(path)


# ---- programs ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "arguments", "marks"),
    [
        ("two_contexts", (), 6),
        ("two_contexts", ("fixed",), 4),
        ("two_contexts", ("core-fixed",), 4),
        ("loader", (), 2),
    ],
)
def test_programs_with_two_contexts_replay_identically(
    capture: Capture, name: str, arguments: tuple[str, ...], marks: int
) -> None:
    path, frame = capture(program(name, *arguments), 5)
    assert len(frame.calls.calls_of("wendaContext")) >= marks and len(frame.other_contexts) == 1
    assert not [c for c in frame.caveats if "context" in c]
    with Replay(path) as replay:
        found = replay.run(verify.asked())
    assert found.identical, found
    assert any("context 2" in name for name in frame.passes.names) or name == "loader"


def test_advice_on_two_contexts_is_tried_without_mixing_them(capture: Capture) -> None:
    """The same three quads drawn by each of two contexts: no batch joins draws of both."""
    _, frame = capture(program("two_contexts"), 4)
    from wendascope.analysis.draws.batches import find_batches
    from wendascope.analysis.draws.sharing import Sharing

    owner = frame.owners[frame.steps.call]
    for batch in find_batches(Sharing(frame)).batches:
        assert len(set(owner[np.asarray(batch.steps)].tolist())) == 1
