"""State that few programs set, and that decides all the same what a draw does."""

from __future__ import annotations

import contextlib
import dataclasses

import numpy as np
from OpenGL import GL

from wendascope.backends.opengl.calls.packed import merge_streams
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.backends.opengl.tables.step_inputs import step_inputs
from wendascope.frame.remedy import Remedy
from wendascope.trials.proofs.outcomes import judge_remedies

from ._case import Draw, known
from ._draw import HEIGHT, TEXTURED, VERTEX, WIDTH, Painter, clear, link, onto, target, vertex_array

CHOOSES = """#version 400
subroutine vec4 Shade();
subroutine uniform Shade shade;
uniform vec4 colour;
out vec4 result;
subroutine(Shade) vec4 plain() { return colour; }
subroutine(Shade) vec4 swapped() { return colour.bgra; }
void main() { result = shade(); }
"""
EVALUATION = """#version 400
layout(triangles, equal_spacing, ccw) in;
void main() {
    vec4 at = gl_TessCoord.x * gl_in[0].gl_Position + gl_TessCoord.y * gl_in[1].gl_Position
        + gl_TessCoord.z * gl_in[2].gl_Position;
    float bulge = gl_TessCoord.x * gl_TessCoord.y * gl_TessCoord.z;
    gl_Position = vec4(at.xy + vec2(8.0 * bulge), 0.0, 1.0);
}
"""
FLAT_400 = "#version 400\nout vec4 result;\nvoid main() { result = vec4(0.9, 0.5, 0.2, 1.0); }\n"
CORNERS = """#version 400
layout(location = 0) in vec2 corner;
void main() { gl_Position = vec4(corner * 1.6 - 0.8, 0.0, 1.0); }
"""


def _differ(looked) -> None:
    numbers, known_ones = step_inputs(looked.frame)
    draws = [s for s in range(len(looked.frame.steps)) if looked.frame.steps.kind_name(s) == "draw"]
    assert known_ones[draws].all()
    assert len({int(numbers[s]) for s in draws[::2]}) == 1 and len({int(numbers[s]) for s in draws[1::2]}) == 1
    assert numbers[draws[0]] != numbers[draws[1]]


@known(checks=(_differ,), allow=("repeated-state", "not-visible", "mergeable", "untested-overdraw"))
def subroutines_in_turns() -> Draw:
    """Sixteen draws that are equal but for the subroutine that their shader runs: two kinds, and no batch of all."""
    paint = Painter(CHOOSES, VERTEX.replace("330", "400"))
    names = [GL.glGetSubroutineIndex(paint.program, GL.GL_FRAGMENT_SHADER, name) for name in (b"plain", b"swapped")]

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(20, 20, 60, 60).set("colour", 0.9, 0.4, 0.1, 1)
        for k in range(16):
            GL.glUniformSubroutinesuiv(GL.GL_FRAGMENT_SHADER, 1, np.array([names[k % 2]], np.uint32))
            paint.draw()

    return draw


def _patches(inside: bool) -> Draw:
    program = link(
        {GL.GL_VERTEX_SHADER: CORNERS, GL.GL_TESS_EVALUATION_SHADER: EVALUATION, GL.GL_FRAGMENT_SHADER: FLAT_400}
    )
    vertex_array(np.array([0, 0, 1, 0, 0, 1]))

    def levels(inner: float, outer: float) -> None:
        GL.glPatchParameterfv(GL.GL_PATCH_DEFAULT_OUTER_LEVEL, np.full(4, outer, np.float32))
        GL.glPatchParameterfv(GL.GL_PATCH_DEFAULT_INNER_LEVEL, np.full(2, inner, np.float32))

    levels(6, 5)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        GL.glPatchParameteri(GL.GL_PATCH_VERTICES, 3)
        if inside:
            levels(9, 7)
        GL.glDrawArrays(GL.GL_PATCHES, 0, 3)
        if inside:
            levels(2, 3)

    return draw


@known(allow=("repeated-state", "overwritten-state"))
def tessellation_levels_from_before_the_frame() -> Draw:
    """Patches without a control shader, by default levels that were set once."""
    return _patches(False)


@known(allow=("repeated-state", "overwritten-state"))
def tessellation_levels_in_the_frame() -> Draw:
    """The same, with levels that the frame sets, and leaves otherwise."""
    return _patches(True)


def _holds_nothing_up(looked) -> None:
    """As in a sequence, which keeps no contents of what a frame draws over: another order leaves nothing behind."""
    frame = dataclasses.replace(looked.frame, following=merge_streams([]))
    for record in frame.objects.renderbuffers:
        record.contents = None
    view = [s for s in range(12 + 2) if frame.steps.kind_name(s) == "draw"]
    with contextlib.closing(OpenGLSession(frame)) as session:
        outcome = judge_remedies(session, [Remedy("reorder-steps", view, order=view[::-1])])
    assert outcome.same, outcome


@known(
    allow=("repeated-state", "mergeable", "small-batches", "not-visible", "back-to-front", "covered-clear"),
    checks=(_holds_nothing_up,),
)
def a_stencil_that_nothing_clears() -> Draw:
    """A view with a packed depth and stencil buffer, of which frames clear the depth alone: what the stencil holds was
    never defined, and holds nothing up.
    """
    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target(depth=True)

    def draw(number: int) -> None:
        onto(framebuffer)
        clear(0, 0, 0, 1)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glClear(GL.GL_DEPTH_BUFFER_BIT)
        for k in range(12):
            paint.use().rect(0, 0, WIDTH - 5 * k, HEIGHT, (k / 12, 0.4, 0.3, 1), depth=0.5 - k / 30)
        GL.glDisable(GL.GL_DEPTH_TEST)
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()
        paint.use().rect(number % 100, 100, number % 100 + 9, 110, (1, 0, 0, 1))

    return draw
