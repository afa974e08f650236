"""Advice that no replay can try, or that needs another mesh: what is counted, and where it must not be said."""

from __future__ import annotations

import contextlib
import ctypes

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import (
    FLAT,
    GREEN,
    HEIGHT,
    RED,
    VERTEX,
    WIDTH,
    Painter,
    clear,
    fan,
    make_program,
    onto,
    target,
    vertex_array,
)

_SCREEN = ("covered-clear", "spared-side", "small-branch", "small-power")
"""What else may be said of one rectangle over the whole window."""
_WITH_SINES = """#version 330
in vec2 uv;
out vec4 result;
void main() {
  float dear = sin(uv.x * 3.0) * cos(uv.y) + exp(uv.x) * sin(uv.y * 7.0)
    + tan(uv.x) * sin(uv.y * 3.0) + log(uv.x + 9.0) * atan(uv.x, uv.y);
  float cheap = uv.y;
  LAST
}
"""


def _screen(fragment: str, vertex: str = VERTEX) -> Draw:
    paint = Painter(fragment, vertex)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"spared-side": 1}, allow=_SCREEN)
def a_dear_result_that_half_of_the_fragments_leave() -> Draw:
    """Eight functions for every fragment, used by the left half: a branch would spare the other."""
    return _screen(_WITH_SINES.replace("LAST", "result = vec4(vec3(uv.x < 0.5 ? dear : cheap), 1.0);"))


@known(finds={"spared-side": 0}, allow=_SCREEN)
def a_dear_result_that_is_used_besides() -> Draw:
    """The other half does without it in red, and needs it for its blue: a branch would spare nothing."""
    return _screen(_WITH_SINES.replace("LAST", "result = vec4(uv.x < 0.5 ? dear : cheap, 0.0, dear, 1.0);"))


_BRANCH = """#version 330
in vec2 uv;
uniform float fog;
out vec4 result;
void main() {
  float sum = uv.x;
  if (CONDITION) { sum = sum * 0.5 + 0.1; }
  result = vec4(sum, uv.y, 0.5, 1.0);
}
"""


@known(finds={"small-branch": 1}, allow=_SCREEN)
def a_branch_over_one_product() -> Draw:
    """By where the fragment is: neighbours differ, and both sides are next to nothing."""
    return _screen(_BRANCH.replace("CONDITION", "uv.x > 0.5"))


@known(finds={"small-branch": 0}, allow=(*_SCREEN, "unused-feature"))
def a_branch_that_all_fragments_take_alike() -> Draw:
    """By a uniform: all go the same way, and nothing runs twice."""
    return _screen(_BRANCH.replace("CONDITION", "fog > 0.5"))


_PLACED = """#version 330
uniform mat4 world = mat4(1.0);
uniform vec4 tint = vec4(1.0);
in vec2 uv;
out vec4 result;
void main() { result = world * vec4(uv, 0.0, 1.0) * tint + world * vec4(uv.yx, 1.0, 0.0); }
"""


@known(finds={"per-vertex-work": 1}, allow=_SCREEN)
def products_with_a_matrix_for_every_fragment() -> Draw:
    """Two of them, linear in what the four corners hand over."""
    return _screen(_PLACED)


@known(finds={"per-vertex-work": 0}, allow=_SCREEN)
def products_that_begin_with_a_root() -> Draw:
    """Of roots of what the corners hand over: interpolated products would be others."""
    return _screen(
        _PLACED.replace("vec4(uv, 0.0, 1.0)", "sqrt(vec4(uv, 0.0, 1.0))").replace("vec4(uv.yx", "vec4(sqrt(uv.yx)")
    )


_TWO_OUTPUTS = """#version 330
layout(location = 0) out vec4 result;
layout(location = 1) out vec4 second;
uniform vec4 colour;
void main() { result = colour; second = sin(colour * gl_FragCoord.x); }
"""


def _two_outputs(attached: bool) -> Draw:
    framebuffer, _ = target()
    shown = Painter("#version 330\nout vec4 result;\nvoid main() { result = vec4(0.0, 0.0, 1.0, 1.0); }\n")
    if attached:
        _, other = target()
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
        GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT1, GL.GL_TEXTURE_2D, other, 0)
        GL.glDrawBuffers(2, [GL.GL_COLOR_ATTACHMENT0, GL.GL_COLOR_ATTACHMENT1])
    paint = Painter(_TWO_OUTPUTS)

    def draw(_: int) -> None:
        onto(framebuffer)
        clear()
        paint.use().rect(10, 10, 150, 110, RED)
        GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffer)
        onto(0)
        clear()
        shown.use().place(0, 0, 20, 20).draw()
        GL.glBlitFramebuffer(40, 40, 140, 100, 40, 40, 140, 100, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST)

    return draw


_TARGETS = ("covered-clear", "not-visible", "copies", "mergeable", "unread-pass", "small-batches")


@known(finds={"unused-output": 1}, allow=_TARGETS)
def an_output_without_a_target() -> Draw:
    """The second of two colours is computed, and nothing is attached there."""
    return _two_outputs(attached=False)


@known(finds={"unused-output": 0}, allow=_TARGETS)
def an_output_with_a_target() -> Draw:
    """The second of two colours is written, though nothing reads it in this frame: a later one may."""
    return _two_outputs(attached=True)


_PLACE = """#version 330
layout(location=0) in vec2 corner;
void main() { gl_Position = vec4(corner, 0.0, 1.0); }
"""


def _large_mesh(x0: float, x1: float) -> Draw:
    count = 3000
    points = fan(count) * [(x1 - x0) / 2, 0.9] + [(x0 + x1) / 2, 0.0]
    array = vertex_array(points.reshape(-1, 2))
    program = make_program(
        "#version 330\nlayout(location=0) in vec2 corner;\nvoid main() { gl_Position = vec4(corner, 0.0, 1.0); }\n",
        FLAT,
    )
    colour = GL.glGetUniformLocation(program, "colour")

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        GL.glUniform4f(colour, *GREEN)
        GL.glBindVertexArray(array)
        GL.glDrawArrays(GL.GL_TRIANGLES, 0, 3 * count)

    return draw


_MESH = ("too-fine", "covered-clear")


@known(finds={"small-visible-part": 1}, allow=_MESH)
def a_large_mesh_of_which_a_corner_is_seen() -> Draw:
    """3,000 triangles round a point far to the left: most lie outside the view."""
    return _large_mesh(-9.0, -0.2)


@known(finds={"small-visible-part": 0}, allow=_MESH)
def a_large_mesh_of_which_most_is_seen() -> Draw:
    """The same round a point in the view."""
    return _large_mesh(-1.2, 0.8)


def _turned_away(culled: bool) -> Draw:
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glDisable(GL.GL_CULL_FACE)
        paint.use().rect(20, 20, 60, 60, GREEN)
        if culled:
            GL.glEnable(GL.GL_CULL_FACE)
        paint.rect(140, 20, 90, 60, RED)
        paint.rect(140, 70, 90, 110, RED)

    return draw


_ROWS = ("copies", "mergeable", "small-batches", "draw-plan")


@known(finds={"facing-away": lambda found: [f.steps for f in found] == [[2, 3]]}, allow=_ROWS)
def draws_that_culling_removes() -> Draw:
    """Two rectangles whose corners go the other way round, with back faces culled."""
    return _turned_away(culled=True)


@known(finds={"facing-away": 0}, allow=_ROWS)
def draws_that_face_away_and_are_seen() -> Draw:
    """The same without culling: both are in the picture."""
    return _turned_away(culled=False)


def _attributes(read: bool) -> Draw:
    paint = Painter(
        vertex=VERTEX.replace("out vec2 uv;", "layout(location=3) in vec2 more;\nout vec2 uv;").replace(
            "uv = corner;", "uv = corner + more;" if read else "uv = corner;"
        ),
        fragment="#version 330\nin vec2 uv;\nout vec4 result;\nvoid main() { result = vec4(uv, 0.0, 1.0); }\n",
    )
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, int(GL.glGenBuffers(1)))
    GL.glBufferData(GL.GL_ARRAY_BUFFER, 32, np.full(8, 0.25, np.float32), GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(3, 2, GL.GL_FLOAT, False, 8, None)
    GL.glEnableVertexAttribArray(3)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"unused-attributes": 1}, allow=("covered-clear",))
def an_attribute_that_no_shader_reads() -> Draw:
    """Attribute 3 is enabled and fed, and declared only."""
    return _attributes(read=False)


@known(finds={"unused-attributes": 0}, allow=("covered-clear",))
def an_attribute_that_a_shader_reads() -> Draw:
    """Attribute 3 moves the texture coordinates."""
    return _attributes(read=True)


_SEEN = """#version 330
layout(location=0) in vec2 corner;
uniform mat4 view;
uniform vec4 place;
out vec2 uv;
void main() { uv = corner; gl_Position = view * vec4(mix(place.xy, place.zw, corner), 0.0, 1.0); }
"""


def _two_views(sideways: float, upwards: float) -> Draw:
    paint = Painter(vertex=_SEEN)
    at = GL.glGetUniformLocation(paint.program, "view")

    def view(index: int) -> np.ndarray:
        found = np.eye(4, dtype=np.float32)
        found[3, :2] = sideways * index, upwards * index  # by columns: the last holds where it is
        return found

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for index in range(2):
            GL.glViewport(index * WIDTH // 2, 0, WIDTH // 2, HEIGHT)
            GL.glUniformMatrix4fv(at, 1, False, view(index))
            for k in range(10):
                paint.set("place", -0.9 + 0.18 * k, -0.5, -0.8 + 0.18 * k, 0.5)
                paint.set("colour", 0.1 * k, 1.0, 0.2, 1.0).draw()
        GL.glViewport(0, 0, WIDTH, HEIGHT)

    return draw


_VIEWS = ("copies", "mergeable", "small-batches", "draw-plan", "textured-batch")


@known(finds={"two-eyes": lambda found: len(found) == 1 and len(found[0].steps) == 20}, allow=_VIEWS)
def one_scene_for_two_eyes() -> Draw:
    """Ten draws side by side with themselves, a little to the left."""
    return _two_views(-0.06, 0.0)


@known(finds={"two-eyes": 0}, allow=_VIEWS)
def one_scene_for_two_players() -> Draw:
    """The same ten draws, the second time from another height: no other eye sees that."""
    return _two_views(-0.06, 0.1)


def _buffers(count: int, size: int) -> Draw:
    paint = Painter()
    for name in GL.glGenBuffers(count):
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, int(name))
        GL.glBufferData(GL.GL_ARRAY_BUFFER, size, np.zeros(size, np.uint8), GL.GL_STATIC_DRAW)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(20, 20, 60, 60, RED)

    return draw


@known(finds={"tiny-buffers": lambda found: len(found) == 1 and found[0].less_bytes > 1100 * 3900})
def a_buffer_for_every_leaf() -> Draw:
    """1,100 buffers of 96 bytes: each may take a page of 4 KiB."""
    return _buffers(1100, 96)


@known(finds={"tiny-buffers": 0})
def buffers_that_fill_their_pages() -> Draw:
    """As many of 4,096 bytes."""
    return _buffers(1100, 4096)


_SLOW = FLAT.replace(
    "result = colour;",
    "vec4 c = colour; for (int k = 0; k < 400; k++) c += sin(c + gl_FragCoord.x) * 0.01; result = fract(c);",
)


def _read_back(waits: bool) -> Draw:
    paint = Painter(_SLOW)
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
    GL.glBufferData(GL.GL_PIXEL_PACK_BUFFER, WIDTH * HEIGHT * 4, None, GL.GL_STREAM_READ)
    GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, 0)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(0, 0, WIDTH, HEIGHT, RED)
        if waits:
            GL.glReadPixels(0, 0, WIDTH, HEIGHT, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
        else:
            GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
            GL.glReadPixels(0, 0, WIDTH, HEIGHT, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, ctypes.c_void_p(0))
            GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, 0)

    return draw


_SLOW_ALLOWS = ("covered-clear", "long-loop")


def _says_whose_mistake(looked) -> None:
    assert any("where a buffer is bound" in caveat for caveat in looked.frame.caveats), looked.frame.caveats


@known(finds={"waiting-call": 1}, allow=_SLOW_ALLOWS)
def a_picture_read_into_the_programs_memory() -> Draw:
    """glReadPixels returns when all is drawn: the program is held meanwhile."""
    return _read_back(waits=True)


@known(finds={"waiting-call": 0}, allow=_SLOW_ALLOWS)
def a_picture_read_into_a_buffer() -> Draw:
    """The same into a pixel buffer, which nobody maps in this frame."""
    return _read_back(waits=False)


@known(finds={"waiting-call": 0}, allow=_SLOW_ALLOWS, checks=(_says_whose_mistake,))
def a_picture_read_to_an_address_though_a_buffer_is_bound() -> Draw:
    """The program means its own memory and has a pixel buffer bound: the driver refuses, in the replay as well."""
    draw = _read_back(waits=True)
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
    GL.glBufferData(GL.GL_PIXEL_PACK_BUFFER, 16, None, GL.GL_STREAM_READ)

    def drawn(number: int) -> None:
        GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, buffer)
        with contextlib.suppress(GL.GLError):
            draw(number)
        GL.glBindBuffer(GL.GL_PIXEL_PACK_BUFFER, 0)

    return drawn
