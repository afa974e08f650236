"""Which steps are seen: with and without calls between them, behind others, cut, stencilled, counted, or with
effects of another kind.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import BLUE, FLAT, GREEN, GREY, HEIGHT, RED, WHITE, WIDTH, Painter, clear, make_program, onto, target

INDEXED_VERTEX = """#version 330
layout(location=0) in vec2 corner;
layout(location=1) in vec3 tint;
out vec3 colour;
void main() { colour = tint; gl_Position = vec4(corner, 0.0, 1.0); }
"""
INDEXED_FRAGMENT = "#version 330\nin vec3 colour;\nout vec4 result;\nvoid main() { result = vec4(colour, 1.0); }\n"


def _quads(rows: list[tuple[float, float, float, float, tuple[float, float, float]]]) -> int:
    """A vertex array of two triangles for each (x0, y0, x1, y1, colour) in pixels: draws of it need no call in
    between.
    """
    vertices = []
    for x0, y0, x1, y1, colour in rows:
        a, b, c, d = 2 * x0 / WIDTH - 1, 2 * y0 / HEIGHT - 1, 2 * x1 / WIDTH - 1, 2 * y1 / HEIGHT - 1
        for x, y in ((a, b), (c, b), (a, d), (a, d), (c, b), (c, d)):
            vertices.append((x, y, *colour))
    data = np.array(vertices, np.float32)
    array, buffer = int(GL.glGenVertexArrays(1)), int(GL.glGenBuffers(1))
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    from ctypes import c_void_p

    for index, size, offset in ((0, 2, 0), (1, 3, 8)):
        GL.glVertexAttribPointer(index, size, GL.GL_FLOAT, False, 20, c_void_p(offset))
        GL.glEnableVertexAttribArray(index)
    return array


def _average(layers: float, waste: int):
    def check(looked) -> None:
        found = looked.examined.drawn.passes[-1]
        assert abs(found.average - layers) < 0.001, found.average
        assert found.wasted == waste, found.wasted

    return check


SHEET_VERTEX = """#version 330 core
void main() { gl_Position = vec4(gl_VertexID == 1 ? 3 : -1, gl_VertexID == 2 ? 3 : -1, 0.0, 1.0); }"""
_SHEET = """#version 330 core
out vec4 colour;
void main() { bool shown = %s; colour = vec4(0.2, 0.9, 0.4, shown ? 0.5 : 0.0); }"""
_CORNER = "all(greaterThan(gl_FragCoord.xy, vec2(10.0))) && all(lessThan(gl_FragCoord.xy, vec2(50.0, 40.0)))"
CORNER_FRAGMENT = _SHEET % _CORNER
EMPTY_FRAGMENT = _SHEET % "gl_FragCoord.x < 0.0"
CORNERS_FRAGMENT = _SHEET % "gl_FragCoord.x + gl_FragCoord.y < 9.0 || gl_FragCoord.x + gl_FragCoord.y > 250.0"


@known(
    checks=(_average(1 + 2 * 40 * 30 / (WIDTH * HEIGHT), 2 * 40 * 30),),
    finds={"covered-clear": {0}},
    allow=("mergeable",),
)
def draws_without_a_call_between() -> Draw:
    """A ground and two smaller quads on it, three draws with no call between them: the two are the topmost, all
    three are seen.
    """
    program = make_program(INDEXED_VERTEX, INDEXED_FRAGMENT)
    _quads([(0, 0, WIDTH, HEIGHT, (0.2, 0.2, 0.2)), (10, 10, 50, 40, (1, 0, 0)), (60, 50, 100, 80, (0, 1, 0))])

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        for k in range(3):
            GL.glDrawArrays(GL.GL_TRIANGLES, 6 * k, 6)

    return draw


@known(
    checks=(_average(3.0, 2 * WIDTH * HEIGHT),),
    finds={"covered-clear": {0}, "not-visible": {1, 2}},
    allow=("mergeable",),
)
def equal_draws_without_a_call_between() -> Draw:
    """The same quad in the same colour, three times with no call between: three layers, two thirds of them wasted,
    the last one seen.
    """
    program = make_program(INDEXED_VERTEX, INDEXED_FRAGMENT)
    _quads([(0, 0, WIDTH, HEIGHT, (0.2, 0.6, 0.2))] * 3)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        for k in range(3):
            GL.glDrawArrays(GL.GL_TRIANGLES, 6 * k, 6)

    return draw


@known(checks=(_average(3.0, 0),), allow=("mergeable",))
def blended_draws_without_a_call_between() -> Draw:
    """Three equal quads that add up, with no call between them: nothing is hidden."""
    program = make_program(INDEXED_VERTEX, INDEXED_FRAGMENT)
    _quads([(0, 0, WIDTH, HEIGHT, (0.1, 0.2, 0.1))] * 3)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        for k in range(3):
            GL.glDrawArrays(GL.GL_TRIANGLES, 6 * k, 6)

    return draw


@known(finds={"not-visible": {2}})
def behind_by_depth() -> Draw:
    """A near quad first, a far one behind it: the far one, step 2, is hidden. A third at the side is seen."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        paint.use().rect(20, 20, 120, 100, RED, -0.5)
        paint.rect(30, 30, 110, 90, BLUE, 0.5)
        paint.rect(125, 20, 150, 60, GREEN, 0.5)

    return draw


@known(finds={"not-visible": {1}}, allow=("untested-overdraw",))
def covered_later() -> Draw:
    """A quad, then a larger one over it without a depth test: the first, step 1, is covered."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(30, 30, 110, 90, BLUE)
        paint.rect(20, 20, 120, 100, RED)

    return draw


@known()
def covered_but_blended_with() -> Draw:
    """A quad, then one over it that lets it through by blending: both are seen."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(30, 30, 110, 90, BLUE)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        paint.rect(20, 20, 120, 100, (1, 0, 0, 0.5))
        GL.glDisable(GL.GL_BLEND)

    return draw


@known()
def covered_in_one_channel() -> Draw:
    """A quad, then one over it that writes red alone: green and blue of the first are seen."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(30, 30, 110, 90, (0.2, 0.5, 0.7, 1))
        GL.glColorMask(True, False, False, True)
        paint.rect(20, 20, 120, 100, WHITE)
        GL.glColorMask(True, True, True, True)

    return draw


@known()
def covered_by_discard_with_holes() -> Draw:
    """A quad, then one over it whose shader discards every other pixel: both are seen."""
    paint = Painter()
    holes = Painter(
        FLAT.replace("result = colour;", "if (mod(floor(gl_FragCoord.x), 2.0) < 0.5) discard; result = colour;")
    )

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(30, 30, 110, 90, BLUE)
        holes.use().rect(20, 20, 120, 100, RED)

    return draw


@known(finds={"not-visible": {2}}, checks=(lambda looked: _evidence(looked, "cut by the scissor"),))
def cut_by_the_scissor() -> Draw:
    """A quad wholly outside the scissor rectangle is not seen, and is not hidden behind anything: the finding says
    so.
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(20, 20, 120, 100, RED)
        GL.glEnable(GL.GL_SCISSOR_TEST)
        GL.glScissor(0, 0, 20, 20)
        paint.rect(60, 60, 110, 90, BLUE)
        GL.glScissor(50, 50, 20, 20)
        paint.rect(40, 40, 110, 90, GREEN)
        GL.glDisable(GL.GL_SCISSOR_TEST)

    return draw


def _evidence(looked, words: str) -> None:
    finding = looked.of("not-visible")[0]
    assert finding.evidence[f"steps {words}"] == len(finding.steps), finding.evidence
    assert "steps hidden behind others" not in finding.evidence


@known(finds={"not-visible": {2}}, checks=(lambda looked: _evidence(looked, "discarded by their shader"),))
def discarded_wholly() -> Draw:
    """A quad whose shader discards every fragment is not seen, and nothing is in front of it."""
    paint = Painter()
    nothing = Painter(FLAT.replace("result = colour;", "if (colour.a < 2.0) discard; result = colour;"))

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(20, 20, 120, 100, RED)
        nothing.use().rect(60, 60, 110, 90, BLUE)

    return draw


@known(finds={"outside-view": {2}})
def outside_the_view() -> Draw:
    """A quad beyond the right edge of the view."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(20, 20, 120, 100, RED)
        paint.rect(WIDTH + 20, 20, WIDTH + 60, 60, BLUE)

    return draw


@known()
def a_stencil_volume() -> Draw:
    """A volume marks stencil where it fails the depth test and draws no colour; a last quad is seen where it is
    marked. All are needed.
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glClearStencil(0)
        GL.glClearColor(0.1, 0.1, 0.1, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT | GL.GL_STENCIL_BUFFER_BIT)
        paint.use().rect(20, 20, 120, 100, GREY, 0.0)
        GL.glEnable(GL.GL_STENCIL_TEST)
        GL.glStencilFunc(GL.GL_ALWAYS, 1, 0xFF)
        GL.glStencilOp(GL.GL_KEEP, GL.GL_INCR, GL.GL_KEEP)
        GL.glDepthMask(False)
        GL.glColorMask(False, False, False, False)
        paint.rect(40, 40, 100, 80, RED, 0.5)
        GL.glColorMask(True, True, True, True)
        GL.glStencilFunc(GL.GL_NOTEQUAL, 0, 0xFF)
        GL.glStencilOp(GL.GL_KEEP, GL.GL_KEEP, GL.GL_KEEP)
        GL.glDisable(GL.GL_DEPTH_TEST)
        paint.rect(0, 0, WIDTH, HEIGHT, BLUE)
        GL.glDisable(GL.GL_STENCIL_TEST)
        GL.glDepthMask(True)

    return draw


@known(finds={"not-visible": {3}})
def a_writer_of_a_buffer_behind() -> Draw:
    """A hidden quad whose shader counts its fragments into a buffer is needed; another, plain one, step 3, is only
    hidden.
    """
    count = (
        "#version 430\nlayout(std430, binding=0) buffer Counted { uint many; };\nuniform vec4 colour;\nout vec4"
        " result;\nvoid main() { atomicAdd(many, 1u); result = colour; }\n"
    )
    paint, counting = Painter(), Painter(count, vertex=VERTEX_430)
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBufferBase(GL.GL_SHADER_STORAGE_BUFFER, 0, buffer)
    GL.glBufferData(GL.GL_SHADER_STORAGE_BUFFER, 16, np.zeros(4, np.uint32), GL.GL_DYNAMIC_COPY)

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        paint.use().rect(20, 20, 120, 100, RED, -0.5)
        counting.use().rect(30, 30, 110, 90, BLUE, 0.5)
        paint.use().rect(30, 30, 110, 90, GREEN, 0.5)

    return draw


VERTEX_430 = """#version 430
layout(location=0) in vec2 corner;
uniform vec4 rect;
uniform float depth = 0.0;
void main() { gl_Position = vec4(mix(rect.xy, rect.zw, corner), depth, 1.0); }
"""


@known()
def counted_by_a_query() -> Draw:
    """A quad that is hidden and counted by an occlusion query, whose result the program asks for: the count is its
    use.
    """
    paint = Painter()
    query = int(GL.glGenQueries(1)[0]) if not isinstance(GL.glGenQueries(1), int) else int(GL.glGenQueries(1))

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        paint.use().rect(20, 20, 120, 100, RED, -0.5)
        GL.glBeginQuery(GL.GL_SAMPLES_PASSED, query)
        paint.rect(30, 30, 110, 90, BLUE, 0.5)
        GL.glEndQuery(GL.GL_SAMPLES_PASSED)
        GL.glGetQueryObjectuiv(query, GL.GL_QUERY_RESULT)

    return draw


@known(
    finds={
        "depth-prepass": lambda found: (
            len(found) == 1 and "4 depth-only draws ahead of 4 opaque draws" in found[0].title
        )
    },
    allow=("not-visible", "mergeable"),
)
def a_prepass_and_hidden_ones() -> Draw:
    """Four quads of depth alone, then the same four in colour, of which three are hidden by the first: all four of
    each are counted.

    What the pre-pass draws is not shaded: it is no waste, and no layer.
    """
    paint = Painter()
    places = [(20, 20, 120, 100, -0.5), (30, 30, 110, 90, 0.0), (40, 40, 100, 80, 0.2), (50, 50, 90, 70, 0.4)]

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LESS)
        clear(depth=True)
        paint.use()
        GL.glColorMask(False, False, False, False)
        for x0, y0, x1, y1, depth in reversed(places):
            paint.rect(x0, y0, x1, y1, GREY, depth)
        GL.glColorMask(True, True, True, True)
        GL.glDepthFunc(GL.GL_LEQUAL)
        for k, (x0, y0, x1, y1, depth) in enumerate(places):
            paint.rect(x0, y0, x1, y1, (0.2 * k, 0.5, 0.5, 1), depth)

    return draw


@known(finds={"not-visible": {1}}, allow=("untested-overdraw",))
def hidden_in_a_target_that_is_shown() -> Draw:
    """In a texture that the window shows, the first of two quads is covered by the second."""
    from ._draw import TEXTURED

    paint, show = Painter(), Painter(TEXTURED)
    framebuffer, image = target()

    def draw(_: int) -> None:
        onto(framebuffer)
        clear()
        paint.use().rect(30, 30, 110, 90, BLUE)
        paint.rect(20, 20, 120, 100, RED)
        onto(0)
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"untested-overdraw": 1, "not-visible": lambda found: True})
def much_overdraw_without_a_depth_test() -> Draw:
    """Seven screens over each other, opaque, without a depth test: six sevenths are covered, and advice says so."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        paint.use()
        for k in range(7):
            paint.rect(0, 0, WIDTH, HEIGHT, (k / 7, 0.3, 0.6, 1))

    return draw


@known(finds={"late-depth-test": 0}, allow=("not-visible", "back-to-front"))
def discards_behind_something() -> Draw:
    """Fragments behind a near quad belong to a shader that discards some. On this driver testing them early saves
    nothing worth telling.
    """
    paint = Painter()
    holes = Painter(FLAT.replace("result = colour;", "if (gl_FragCoord.x < 1.0) discard; result = colour;"))

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        paint.use().rect(20, 20, 120, 100, RED, -0.5)
        holes.use().rect(25, 25, 150, 95, BLUE, 0.5)

    return draw


@known(allow=("not-visible",))
def depth_that_a_later_step_needs() -> Draw:
    """A quad that is covered in colour by one drawn always in front, but whose depth keeps a third from being seen:
    needed.
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LESS)
        clear(depth=True)
        paint.use().rect(30, 30, 110, 90, BLUE, -0.5)
        GL.glDepthFunc(GL.GL_ALWAYS)
        GL.glDepthMask(False)
        paint.rect(30, 30, 110, 90, RED, 0.0)
        GL.glDepthMask(True)
        GL.glDepthFunc(GL.GL_LESS)
        paint.rect(20, 20, 120, 100, GREEN, 0.2)

    return draw


def _sheet(fragment: str) -> Draw:
    """Something, and a blended sheet over all of it."""
    paint = Painter()
    use = make_program(SHEET_VERTEX, fragment)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(20, 20, 120, 100, RED)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        GL.glUseProgram(use)
        GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3)
        GL.glDisable(GL.GL_BLEND)

    return draw


def _cut_to_a_corner(looked: Any) -> None:
    found = next(f for f in looked.findings if f.rule == "blend-without-effect")
    assert found.remedy is not None and found.remedy.boxes == [(10, 10, 50, 40)]


@known(finds={"blend-without-effect": {2}}, checks=(_cut_to_a_corner,), allow=("fine-full-screen",))
def a_sheet_that_shows_in_a_corner() -> Draw:
    """A blended sheet over everything whose texture is empty but for a corner: cut to it, nothing changes."""
    return _sheet(CORNER_FRAGMENT)


@known(finds={"blend-without-effect": {2}}, allow=("fine-full-screen",))
def a_sheet_of_nothing() -> Draw:
    """The same with no corner: it can be left out."""
    return _sheet(EMPTY_FRAGMENT)


def _refused(looked: Any) -> None:
    found = next(f for f in looked.findings if f.rule == "blend-without-effect")
    assert found.remedy is None and "spread" in found.refused


@known(finds={"blend-without-effect": {2}}, checks=(_refused,), allow=("fine-full-screen",))
def a_sheet_that_shows_in_two_corners() -> Draw:
    """The trap: what it changes is little, but in opposite corners, and no rectangle cuts it."""
    return _sheet(CORNERS_FRAGMENT)
