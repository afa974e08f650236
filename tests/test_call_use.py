"""Calls classed by use: against frames of a known kind, and against a slow fold of what every step sees."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.frame.call_use import KINDS, NO_STATE, NOBODY, OVERWRITTEN, REPEATS, STEP, USED
from wendascope.registry import GL

from .synthetic import MODEL, SURFACE, TINT, crowded, draw, frame_of, objects

UNITS = (GL.TEXTURE0, GL.TEXTURE0 + 1)


def _frame(batch: CallBatch) -> OpenGLFrame:
    from wendascope.frame.blobs import BlobStore

    blobs = BlobStore()
    return frame_of(batch, objects(blobs, programs=2, meshes=2, textures=3), blobs)


def test_what_a_naive_program_sets_again_is_found_with_the_call_that_set_it() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 1, model=1.0)
    draw(batch, 1, 1, 1, model=2.0)
    frame = _frame(batch)
    found = frame.call_use()
    second = [frame.calls.command(c).name for c in range(8, 16) if found.use[c] == REPEATS]
    assert second == [
        "glUseProgram",
        "glActiveTexture",
        "glBindTexture",
        "glUniform1i",
        "glUniform4f",
        "glBindVertexArray",
    ]
    assert found.use[12] == USED, "the matrix differs"
    assert found.because[8] == 0 and found.because[10] == 2 and found.because[1] == -1, "-1: as it was before the frame"
    assert found.use[7] == found.use[15] == STEP
    assert KINDS[found.kind[12]] == "uniform" and KINDS[found.kind[10]] == "texture, sampler"
    assert set(found.because[found.use == USED].tolist()) == {NOBODY}


def test_what_is_replaced_before_a_step_is_overwritten() -> None:
    batch = CallBatch()
    batch.call("glDepthFunc", GL.EQUAL)
    batch.call("glDepthFunc", GL.GREATER)
    batch.call("glUseProgram", 2)
    draw(batch, 1, 1, 1)
    found = _frame(batch).call_use()
    assert found.use[0] == OVERWRITTEN and found.because[0] == 1 and found.use[1] == USED
    assert found.use[2] == OVERWRITTEN and found.because[2] == 3


def test_uploads_copies_and_unknown_calls_use_what_they_work_on() -> None:
    for between in (
        ("glTexParameteri", GL.TEXTURE_2D, GL.TEXTURE_WRAP_S, GL.REPEAT),
        ("glGenerateMipmap", GL.TEXTURE_2D),
    ):
        batch = CallBatch()
        batch.call("glBindTexture", GL.TEXTURE_2D, 2)
        batch.call(*between)
        batch.call("glBindTexture", GL.TEXTURE_2D, 3)
        draw(batch, 1, 1, 3)
        found = _frame(batch).call_use()
        assert found.use[0] == USED, between
    batch = CallBatch()
    batch.call("glBindTexture", GL.TEXTURE_2D, 2)
    batch.call("glBindTexture", GL.TEXTURE_2D, 3)
    draw(batch, 1, 1, 3)
    assert _frame(batch).call_use().use[0] == OVERWRITTEN


def test_after_calls_that_nobody_tracks_nothing_is_a_repeat() -> None:
    for barrier in (
        ("glCallList", 3),
        ("glDeleteTextures", 1, np.array([1], np.uint32).tobytes()),
    ):
        batch = CallBatch()
        draw(batch, 1, 1, 1)
        batch.call(*barrier)
        batch.call("glBindTexture", GL.TEXTURE_2D, 1)
        draw(batch, 1, 1, 1)
        found = _frame(batch).call_use()
        assert found.use[8] == NO_STATE and found.use[9] == USED


def test_binding_several_textures_at_once_is_followed() -> None:
    for name, expected in ((2, OVERWRITTEN), (1, REPEATS)):
        batch = CallBatch()
        draw(batch, 1, 1, 1)
        batch.call("glBindTextures", 0, 1, np.array([name], np.uint32).tobytes())
        batch.call("glBindTexture", GL.TEXTURE_2D, 1)
        draw(batch, 1, 1, 1)
        found = _frame(batch).call_use()
        assert found.use[8] == expected and found.use[9] == REPEATS, "once the other one is gone"


def test_array_uniforms_set_whole_and_in_parts_are_left_alone() -> None:
    batch = CallBatch()
    draw(batch, 1, 1, 1)
    for location in (10, 11, 10):
        batch.call("glUniform1f", location, 1.0)
    draw(batch, 1, 1, 1)
    frame = _frame(batch)
    from wendascope.backends.opengl.objects.records import UniformRecord

    frame.objects.programs[0].uniforms = [
        *frame.objects.programs[0].uniforms,
        UniformRecord("weights[0]", GL.FLOAT, 2, [10, 11]),
    ]
    assert (frame.call_use().use[8:11] != REPEATS).all()


def test_left_out_steps_make_their_own_calls_needless() -> None:
    batch = CallBatch()
    for k in range(3):
        draw(batch, 1, 1, 1, model=float(k))
    frame = _frame(batch)
    alive = np.array([True, False, True])
    assert frame.call_use().use[12] == USED
    assert frame.call_use(alive).use[12] == OVERWRITTEN
    nowhere = np.zeros(len(frame.calls), bool)
    kept = frame.call_use(alive, {REPEATS: nowhere, OVERWRITTEN: nowhere})
    assert not kept.redundant.any()


_steps = st.lists(
    st.one_of(
        st.tuples(st.just("glUseProgram"), st.tuples(st.integers(1, 2))),
        st.tuples(st.just("glActiveTexture"), st.tuples(st.sampled_from(UNITS))),
        st.tuples(st.just("glBindTexture"), st.tuples(st.just(GL.TEXTURE_2D), st.integers(0, 3))),
        st.tuples(st.just("glUniform1i"), st.tuples(st.just(SURFACE), st.integers(0, 1))),
        st.tuples(
            st.just("glUniform4f"),
            st.tuples(st.just(TINT), st.sampled_from([0.0, 1.0]), st.just(0.0), st.just(0.0), st.just(0.0)),
        ),
        st.tuples(
            st.just("glUniformMatrix4fv"),
            st.tuples(st.just(MODEL), st.just(1), st.just(0), st.sampled_from([bytes(64), b"\1" * 64])),
        ),
        st.tuples(st.just("glBindVertexArray"), st.tuples(st.integers(1, 2))),
        st.tuples(
            st.sampled_from(["glEnable", "glDisable"]),
            st.tuples(st.sampled_from([GL.DEPTH_TEST, GL.BLEND, GL.CULL_FACE])),
        ),
        st.tuples(st.just("glDepthFunc"), st.tuples(st.sampled_from([GL.LESS, GL.EQUAL]))),
        st.tuples(st.just("glViewport"), st.tuples(st.just(0), st.just(0), st.integers(1, 2), st.just(1))),
        st.tuples(
            st.just("glBindBuffer"), st.tuples(st.sampled_from([GL.ARRAY_BUFFER, GL.UNIFORM_BUFFER]), st.integers(0, 2))
        ),
        st.tuples(
            st.just("glBufferSubData"), st.tuples(st.just(GL.UNIFORM_BUFFER), st.just(0), st.just(4), st.just(bytes(4)))
        ),
        st.tuples(st.just("glClear"), st.tuples(st.just(GL.COLOR_BUFFER_BIT))),
        st.tuples(
            st.just("glDrawElements"),
            st.tuples(st.just(GL.TRIANGLES), st.just(36), st.just(GL.UNSIGNED_SHORT), st.just(Raw(0))),
        ),
    ),
    max_size=50,
)


def _seen(calls: list[tuple[str, tuple]], kept: list[int]) -> list[dict]:
    """What every step and upload sees, folded call by call over the calls that are kept."""
    state: dict = {
        "active": GL.TEXTURE0,
        ("cap", GL.DEPTH_TEST): True,
        ("cap", GL.BLEND): None,
        ("cap", GL.CULL_FACE): None,
        "func": GL.LESS,
    }
    seen = []
    for number in kept:
        name, a = calls[number]
        match name:
            case "glUseProgram":
                state["program"] = a[0]
            case "glActiveTexture":
                state["active"] = a[0]
            case "glBindTexture":
                state["texture", state["active"]] = a[1]
            case "glUniform1i" | "glUniform4f" | "glUniformMatrix4fv":
                state["uniform", state.get("program"), a[0]] = a[1:]
            case "glBindVertexArray":
                state["array"] = a[0]
            case "glEnable" | "glDisable":
                state["cap", a[0]] = name == "glEnable"
            case "glDepthFunc":
                state["func"] = a[0]
            case "glViewport":
                state["viewport"] = a
            case "glBindBuffer":
                state["buffer", a[0]] = a[1]
            case "glBufferSubData":
                seen.append({"buffer": state.get(("buffer", a[0]))})
            case "glClear":
                seen.append({"viewport": state.get("viewport")})
            case "glDrawElements":
                program = state.get("program")
                unit = state.get(("uniform", program, SURFACE), (0,))[0]
                seen.append(
                    {
                        "program": program,
                        "texture": state.get(("texture", GL.TEXTURE0 + unit)),
                        "array": state.get("array"),
                        "func": state["func"],
                        **{
                            str(key): value
                            for key, value in state.items()
                            if isinstance(key, tuple) and (key[0] == "cap" or key[:2] == ("uniform", program))
                        },
                        "viewport": state.get("viewport"),
                    }
                )
    return seen


@settings(max_examples=300, deadline=None)
@given(_steps)
def test_without_the_needless_calls_every_step_sees_the_same(calls: list[tuple[str, tuple]]) -> None:
    batch = CallBatch()
    for name, arguments in calls:
        batch.call(name, *arguments)
    frame = _frame(batch)
    everything = np.ones(len(calls), bool)
    nothing = np.zeros(len(calls), bool)
    for allowed in (None, {REPEATS: everything, OVERWRITTEN: nothing}, {REPEATS: nothing, OVERWRITTEN: everything}):
        redundant = frame.call_use(allowed=allowed).redundant
        assert _seen(calls, np.flatnonzero(~redundant).tolist()) == _seen(calls, list(range(len(calls))))


def test_a_crowded_frame_is_judged_whole() -> None:
    frame = crowded(1000)
    found = frame.call_use()
    assert len(found.use) == len(frame.calls) and int((found.use == STEP).sum()) == 1000
    assert found.redundant.sum() > 2000
