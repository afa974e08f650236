"""The one table of what commands do."""

from __future__ import annotations

import numpy as np
import pytest

from wendascope.frame.steps import KINDS
from wendascope.opengl.steps import derive_steps
from wendascope.opengl.tracker import StateHistory
from wendascope.registry import GL, STEPS, Role, tables

from .test_tracker import stream_of

KIND_ROLES = (Role.DRAW, Role.CLEAR, Role.DISPATCH, Role.BLIT, Role.COPY, Role.MIPMAPS)


@pytest.mark.parametrize("role", list(Role))
def test_every_role_is_that_of_a_command(role: Role) -> None:
    assert any(tables().having(role))


def test_a_step_is_of_one_kind() -> None:
    for command in tables().commands:
        assert sum(command.has(role) for role in KIND_ROLES) == command.has(STEPS), command.name


@pytest.mark.parametrize(
    ("name", "has", "lacks"),
    [
        ("glDrawElementsInstancedBaseVertex", Role.DRAW | Role.DRAWS_IN_LIST, Role.HARMLESS),
        ("glTexSubImage2D", Role.WRITES_TEXTURE, Role.REDEFINES_TEXTURE),
        ("glTexImage2D", Role.WRITES_TEXTURE | Role.REDEFINES_TEXTURE | Role.KEEPS_ORDER, STEPS),
        ("glCopyTexImage2D", Role.COPY | Role.REDEFINES_TEXTURE, Role.READS_BACK),
        ("glGenTextures", Role.MAKES_NAMES | Role.HARMLESS | Role.NOT_REPLAYED, Role.MIPMAPS),
        ("glGenerateMipmap", Role.MIPMAPS | Role.WRITES_TEXTURE, Role.HARMLESS | Role.NOT_REPLAYED),
        ("glClearBufferfv", Role.CLEAR | Role.CLEARS_BOUND, Role.WRITES_BUFFER),
        ("glClearNamedFramebufferfv", Role.CLEAR, Role.CLEARS_BOUND),
        ("glBufferSubData", Role.WRITES_BUFFER | Role.NOT_IN_LISTS, Role.COPIES_TO_BUFFER),
        ("glCopyBufferSubData", Role.COPIES_TO_BUFFER | Role.COPY, Role.WRITES_BUFFER),
        ("glMapBufferRange", Role.MAPS | Role.WRITES_BUFFER | Role.WAITS, Role.WRITES_CLIENT_MEMORY),
        ("glReadPixels", Role.READS_PIXELS | Role.WAITS | Role.WRITES_CLIENT_MEMORY, Role.READS_BACK),
        ("glGetTexImage", Role.READS_BACK | Role.WAITS | Role.HARMLESS, Role.READS_PIXELS),
        ("glUniform4fv", Role.SETS_UNIFORM | Role.SETS_NUMBERS | Role.WRITES_PROGRAM, Role.STATE_UNKNOWN_AFTER),
        ("glUniformBlockBinding", Role.WRITES_PROGRAM, Role.SETS_UNIFORM),
        ("glDeleteLists", Role.MAKES_LISTS | Role.STATE_UNKNOWN_AFTER, Role.NOT_REPLAYED),
        ("wendaIndirect", Role.WITH_DRAW, STEPS),
    ],
)
def test_commands_have_their_roles(name: str, has: Role, lacks: Role) -> None:
    command = tables()[name]
    assert Role(command.roles) & has == has and not command.has(lacks)


def test_streams_are_asked_by_role_and_by_command() -> None:
    calls = stream_of(
        [("glUseProgram", (3,)), ("glClear", (GL.COLOR_BUFFER_BIT,)), ("glFinish", ()), ("glUseProgram", (4,))]
    )
    assert calls.having(Role.CLEAR).tolist() == [False, True, False, False]
    assert np.flatnonzero(calls.having(Role.WAITS)).tolist() == [2]
    assert {command.name: rows.tolist() for command, rows in calls.by_command()} == {
        "glUseProgram": [0, 3],
        "glClear": [1],
        "glFinish": [2],
    }
    assert calls.calls_to(tables()["glUseProgram"].id).tolist() == [0, 3]
    steps = derive_steps(calls, StateHistory(calls, {}), stream_of([]))
    assert [KINDS[k] for k in steps.kind.tolist()] == ["clear"] and steps.call.tolist() == [1]
    nothing = stream_of([])
    assert list(nothing.by_command()) == [] and nothing.calls_to(0).tolist() == []
