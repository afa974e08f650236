"""The state tracker against a fold that goes call by call."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.backends.opengl.calls.packed import CallBatch, CallStream
from wendascope.backends.opengl.state.state_table import PATTERNS
from wendascope.backends.opengl.state.tracker import UNKNOWN, StateHistory
from wendascope.registry import GL, tables

UNITS = [GL.TEXTURE0, GL.TEXTURE0 + 1]
Call = tuple[str, tuple[int, ...]]
calls_strategy = st.lists(
    st.one_of(
        st.tuples(st.just("glUseProgram"), st.tuples(st.integers(0, 3))),
        st.tuples(st.just("glActiveTexture"), st.tuples(st.sampled_from(UNITS))),
        st.tuples(
            st.just("glBindTexture"), st.tuples(st.sampled_from([GL.TEXTURE_2D, GL.TEXTURE_3D]), st.integers(0, 4))
        ),
        st.tuples(
            st.just("glBindFramebuffer"),
            st.tuples(st.sampled_from([GL.FRAMEBUFFER, GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER]), st.integers(0, 3)),
        ),
        st.tuples(st.just("glEnable"), st.tuples(st.sampled_from([GL.DEPTH_TEST, GL.BLEND]))),
        st.tuples(st.just("glDisable"), st.tuples(st.sampled_from([GL.DEPTH_TEST, GL.BLEND]))),
        st.tuples(
            st.just("glStencilFuncSeparate"),
            st.tuples(
                st.sampled_from([GL.FRONT, GL.BACK, GL.FRONT_AND_BACK]),
                st.just(GL.LESS),
                st.integers(0, 9),
                st.just(255),
            ),
        ),
        st.tuples(
            st.just("glBindBuffer"),
            st.tuples(st.sampled_from([GL.ARRAY_BUFFER, GL.ELEMENT_ARRAY_BUFFER]), st.integers(0, 5)),
        ),
        st.tuples(st.just("glBindVertexArray"), st.tuples(st.integers(0, 2))),
        st.tuples(st.just("glUniform1i"), st.tuples(st.integers(0, 2), st.integers(0, 9))),
    ),
    max_size=60,
)


def stream_of(calls: list[Call]) -> CallStream:
    batch = CallBatch()
    for name, arguments in calls:
        batch.call(name, *arguments)
    return CallStream.parse(np.array(batch.words, np.uint64), np.frombuffer(bytes(batch.arena), np.uint8))


def fold(calls: list[Call]) -> list[dict[tuple[str, int, int], int]]:  # noqa: C901 - one case a command, as GL says
    """State before each call and after the last, the slow way."""
    state: dict[tuple[str, int, int], int] = {("active_texture", 0, 0): GL.TEXTURE0}
    states = [dict(state)]
    for name, a in calls:
        match name:
            case "glUseProgram":
                state["program", 0, 0] = a[0]
            case "glActiveTexture":
                state["active_texture", 0, 0] = a[0]
            case "glBindTexture":
                state["texture", state["active_texture", 0, 0], a[0]] = a[1]
            case "glBindFramebuffer":
                for target in (GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER):
                    if a[0] in (target, GL.FRAMEBUFFER):
                        state["framebuffer", target, 0] = a[1]
            case "glEnable" | "glDisable":
                if a[0] == GL.BLEND:  # has a pattern of its own
                    for i in range(8):
                        state["blend_enabled", i, 0] = int(name == "glEnable")
                else:
                    state["capability", a[0], 0] = int(name == "glEnable")
            case "glStencilFuncSeparate":
                for face in (GL.FRONT, GL.BACK):
                    if a[0] in (face, GL.FRONT_AND_BACK):
                        state["stencil_func", face, 0] = a[1]
            case "glBindBuffer":
                state["buffer", a[0], 0] = a[1]
                if a[0] == GL.ELEMENT_ARRAY_BUFFER:
                    state["element_buffer", state.get(("vertex_array", 0, 0), 0), 0] = a[1]
            case "glBindVertexArray":
                state["vertex_array", 0, 0] = a[0]
            case "glUniform1i":
                state["uniform", state.get(("program", 0, 0), 0), a[0]] = a[1]
        states.append(dict(state))
    return states


@settings(max_examples=150, deadline=None)
@given(calls_strategy)
def test_history_equals_the_slow_fold(calls: list[Call]) -> None:
    history = StateHistory(stream_of(calls), {"active_texture": {(0, 0): (GL.TEXTURE0,)}})
    for at, state in enumerate(fold(calls)):
        for (pattern, i, j), value in state.items():
            found = history.value(pattern, at, i, j)
            assert found is not None and found[0] == value, (pattern, i, j, at)


@settings(max_examples=50, deadline=None)
@given(calls_strategy)
def test_columns_equal_single_values(calls: list[Call]) -> None:
    history = StateHistory(stream_of(calls), {})
    where = np.arange(len(calls) + 1)
    for pattern in ("program", "vertex_array"):
        column = history.column(pattern, where, missing=-7)
        for at in where.tolist():
            found = history.value(pattern, at)
            assert column[at] == (-7 if found is None else found[0])


@settings(max_examples=50, deadline=None)
@given(calls_strategy)
def test_setters_and_changes_tell_the_same_as_single_answers(calls: list[Call]) -> None:
    history = StateHistory(stream_of(calls), {"active_texture": {(0, 0): (GL.TEXTURE0,)}})
    where = np.arange(len(calls) + 1)
    for pattern in ("program", "buffer", "active_texture"):
        for i, j in history.keys(pattern):
            column = history.setters(pattern, where, i, j)
            for at in where.tolist():
                found = history.setter(pattern, at, i, j)
                assert column[at] == (UNKNOWN if found is None else found)
    changes = history.changes(0, len(calls))
    assert changes == sorted(changes)
    for call, pattern, i, j in changes:
        assert history.setter(pattern, call + 1, i, j) == call
    assert history.change_calls("program").tolist() == sorted(
        {c for c, pattern, _, _ in changes if pattern == "program"}
    )


def test_keys_below_zero_stay_below_zero() -> None:
    """A location of -1 is a key like any other."""
    history = StateHistory(stream_of([("glUseProgram", (3,)), ("glUniform1i", (-1, 5))]), {})
    assert history.keys("uniform") == [(3, -1)]
    assert history.changes(0, 2) == [(0, "program", 0, 0), (1, "uniform", 3, -1)]


def test_the_table_names_real_commands_and_parameters() -> None:
    by_name = tables().by_name
    for pattern in PATTERNS.values():
        for command, setter in pattern.setters.items():
            names = {p.name for p in by_name[command].parameters}
            sources = [s for s in (*setter.values, *setter.index) if isinstance(s, str)]
            assert all(s[0] in "@+" or s.partition("[")[0] in names for s in sources), (pattern.name, command)
        assert not pattern.write or pattern.write in by_name


def test_setter_tells_which_call_set_a_value() -> None:
    history = StateHistory(stream_of([("glUseProgram", (1,)), ("glUseProgram", (2,))]), {"program": {(0, 0): (9,)}})
    check: Callable[[int], int | None] = lambda call: history.setter("program", call)  # noqa: E731
    assert [check(0), check(1), check(2)] == [-1, 0, 1]


def test_a_condition_that_nothing_meets_leaves_the_key_unknown() -> None:
    history = StateHistory(stream_of([("glBindBuffer", (GL.ARRAY_BUFFER, 1))]), {})
    assert history.value("element_buffer", 1, 0) is None and history.keys("element_buffer") == []
