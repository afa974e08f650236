"""What a frame may use: each program is captured while it runs and replays to the identical picture, with no caveat."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import Capture, load_opengl, program
from tests.test_capture import check_identical
from wendascope.backends.opengl.words.facts import step_facts

pytestmark = pytest.mark.driver

OLD = {"MESA_GL_VERSION_OVERRIDE": "2.1"}
OLDEST = {"MESA_GL_VERSION_OVERRIDE": "2.0"}
ES2 = {"MESA_GLES_VERSION_OVERRIDE": "2.0"}
ES30 = {"MESA_GLES_VERSION_OVERRIDE": "3.0"}


@pytest.mark.parametrize(
    ("command", "environment", "context", "steps"),
    [
        (["fixed_function"], {}, "OpenGL 4.5 compatibility", 9),
        (["fixed_function"], OLD, "OpenGL 2.1 compatibility", 9),
        (["fixed_function"], OLDEST, "OpenGL 2.0 compatibility", 9),
        (["client_arrays"], {}, "OpenGL 4.5 compatibility", 10),
        (["client_arrays"], OLD, "OpenGL 2.1 compatibility", 10),
        (["client_arrays", "es"], {}, "OpenGL ES 3.2", 3),
        (["client_arrays", "es"], ES2, "OpenGL ES 2.0", 3),
        (["gles", "3"], {}, "OpenGL ES 3.2", 13),
        (["gles", "3"], ES30, "OpenGL ES 3.0", 13),
        (["gles", "2"], {}, "OpenGL ES 3.2", 8),
        (["gles", "2"], ES2, "OpenGL ES 2.0", 8),
        (["mappings"], {}, "OpenGL 4.5 core", 8),
        (["indirect"], {}, "OpenGL 4.5 core", 6),
        (["stages"], {}, "OpenGL 4.5 core", 5),
    ],
)
def test_replays_to_the_identical_picture(
    capture: Capture, command: list[str], environment: dict[str, str], context: str, steps: int
) -> None:
    for number in (3, 8):
        path, frame = capture(program(*command), number, **environment)
        assert str(frame.context) == context
        assert len(frame.steps) == steps
        check_identical(path)


@pytest.mark.parametrize(
    "command",
    [
        ["glxgears"],
        ["es2gears_x11"],
        ["glmark2-es2", "-b", "shadow:duration=30.0", "-s", "320x240"],
        ["glmark2", "-b", "desktop:duration=30.0", "-s", "320x240"],
    ],
)
def test_programs_nobody_here_wrote(capture: Capture, command: list[str]) -> None:
    path, frame = capture(command, 12)
    assert len(frame.steps) >= 4
    check_identical(path)


def test_the_window_whose_frame_was_asked_for(capture: Capture) -> None:
    """One context draws into two windows in turn; either may be the one that is captured."""
    sizes = set()
    for number in (4, 5):
        path, frame = capture(program("windows"), number)
        assert {t.name for t in frame.passes.targets} == {"window", "another window"}
        sizes.add((frame.default_framebuffer.width, frame.default_framebuffer.height))
        if frame.default_framebuffer.width == 160:
            check_identical(path)
    assert sizes == {(160, 120), (64, 48)}


def test_immediate_mode_and_lists_are_counted(capture: Capture) -> None:
    _, frame = capture(program("fixed_function"), 4)
    steps = frame.steps
    names = [frame.calls.command(c).name for c in steps.call.tolist()]
    assert names == [
        "glClear",
        "glCallList",
        "glCallLists",
        "glEnd",
        "glEnd",
        "glCallList",
        "glCallList",
        "glEndList",
        "glCopyPixels",
    ]
    assert steps.vertices[1:5].tolist() == [4, 12, 3, 5]
    assert steps.triangles[1:5].tolist() == [2, 6, 1, 0]
    # glBegin ... glEnd is one step, from its first call to its last
    assert frame.calls.command(int(steps.begin[3])).name == "glBegin"
    assert steps.begin[3] < steps.call[3] and steps.begin[0] == steps.call[0]
    assert any(
        row == ("what", "immediate mode, 3 vertices") for section in step_facts(frame, 3) for row in section.rows
    )


def test_counts_of_indirect_draws_are_resolved(capture: Capture) -> None:
    path, frame = capture(program("indirect"), 6)
    frame = load_opengl(path)
    kinds = [frame.steps.kind_name(i) for i in range(len(frame.steps))]
    assert kinds == ["clear", "dispatch", "draw", "draw", "draw", "draw"]
    many = 2 + 6 % 5
    assert frame.steps.vertices[2:5].tolist() == [3 * 2 + 3 * 4, 5 * 6, 4 * 3 * many]
    assert frame.steps.instances[2:5].tolist() == [6, 6, 4 * many]


def test_writes_through_mappings_lie_before_the_draws_that_read_them(capture: Capture) -> None:
    _, frame = capture(program("mappings"), 5)
    writes = frame.calls.calls_of("wendaWriteBuffer")
    assert len(writes) == 6
    draws = frame.steps.call
    wait = frame.calls.calls_of("glClientWaitSync")[0]
    assert writes[0] < draws[1], "what was written first is there for the first draw"
    assert np.any((writes > wait) & (writes < draws[3])), "and what was written after the wait is not there before it"
