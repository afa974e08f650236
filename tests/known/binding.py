"""Textures, buffers and rectangles set the newer ways: by name, to points, or several at once."""

from __future__ import annotations

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import HEIGHT, TEXTURED, VERTEX, WIDTH, Painter, clear, fan, noise, onto, target, texture

_FREE = ("batch", "mergeable", "textured-batch", "small-batches", "repeated-state", "overwritten-state")
_ROUNDS = 16


def _mesh(points: np.ndarray) -> int:
    data, name = np.ascontiguousarray(points, np.float32), int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_COPY_WRITE_BUFFER, name)
    GL.glBufferData(GL.GL_COPY_WRITE_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    return name


def _by_point(meshes: list[int], count: int) -> Draw:
    """Draws of one vertex array, whose buffer is bound anew before each."""
    paint = Painter()
    GL.glVertexAttribFormat(0, 2, GL.GL_FLOAT, False, 0)
    GL.glVertexAttribBinding(0, 4)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(_ROUNDS):
            GL.glBindVertexBuffer(4, meshes[k % len(meshes)], 0, 8)
            paint.set("colour", k / _ROUNDS, 0.5, 0.2, 1).place(10 * k, 20, 10 * k + 9, 60)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, count)

    return draw


@known(finds={"copies": 1}, allow=_FREE)
def copies_bound_to_a_point() -> Draw:
    """Sixteen copies of one mesh, bound again before each."""
    return _by_point([_mesh(fan(8))], 24)


@known(allow=_FREE)
def other_meshes_bound_to_a_point() -> Draw:
    """The same calls with sixteen different meshes of one size: no copies."""
    shapes = [fan(8) * np.linspace(0.5, 1.0, _ROUNDS)[k] for k in range(_ROUNDS)]
    return _by_point([_mesh(shape) for shape in shapes], 24)


def _shown_by(bind: object) -> Draw:
    paint, show = Painter(), Painter(TEXTURED)
    view, image = target()
    other = texture(8, 8, noise(8, 8))

    def draw(_: int) -> None:
        onto(view)
        clear(0, 0, 0, 1)
        paint.use().rect(30, 20, 100, 80, (0.8, 0.3, 0.1, 1))
        onto(0)
        clear()
        bind(other)  # type: ignore[operator]
        show.use().place(0, 0, 20, 20).draw()
        bind(image)  # type: ignore[operator]
        show.place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"not-visible": lambda found: len(found) == 1}, allow=(*_FREE, "covered-clear"))
def a_view_bound_to_a_unit_by_name() -> Draw:
    """A view that is shown through glBindTextureUnit is read; the square under it is what nobody sees."""
    return _shown_by(lambda name: GL.glBindTextureUnit(0, name))


@known(finds={"not-visible": lambda found: len(found) == 1}, allow=(*_FREE, "covered-clear"))
def a_view_bound_with_others() -> Draw:
    """The same through glBindTextures, with another unit beside it."""
    unused = texture(8, 8, noise(8, 8))
    return _shown_by(lambda name: GL.glBindTextures(0, 2, np.array([name, unused], np.uint32)))


@known(finds={"unread-pass": lambda found: len(found) == 1}, allow=(*_FREE, "covered-clear", "not-visible"))
def a_view_bound_and_taken_away() -> Draw:
    """A view is bound by name, and another texture in its place before anything draws: nobody reads it."""
    paint, show = Painter(), Painter(TEXTURED)
    view, image = target()
    other = texture(8, 8, noise(8, 8))

    def draw(_: int) -> None:
        onto(view)
        clear(0, 0, 0, 1)
        paint.use().rect(30, 20, 100, 80, (0.8, 0.3, 0.1, 1))
        onto(0)
        clear()
        GL.glBindTextureUnit(0, image)
        GL.glBindTextures(0, 1, np.array([other], np.uint32))
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


def _told(expected: bool):
    def check(looked) -> None:
        assert any("drawn before this frame" in caveat for caveat in looked.frame.caveats) == expected

    return check


def _from_before(drawn: bool) -> Draw:
    show = Painter(TEXTURED)
    if drawn:
        paint, (view, image) = Painter(), target()
        onto(view)
        clear(0, 0, 0, 1)
        paint.use().rect(30, 20, 100, 80, (0.8, 0.3, 0.1, 1))
    else:
        image = texture(WIDTH, HEIGHT, noise(WIDTH, HEIGHT))

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glBindTextureUnit(0, image)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(allow=(*_FREE, "covered-clear"), checks=(_told(True),))
def a_view_drawn_once_and_shown_in_every_frame() -> Draw:
    """What its drawing costs is not in the frame, which says so."""
    return _from_before(True)


@known(allow=(*_FREE, "covered-clear"), checks=(_told(False),))
def a_picture_uploaded_once_and_shown_in_every_frame() -> Draw:
    """A texture of the same size that nothing ever drew."""
    return _from_before(False)


@known(finds={"not-visible": {2}}, allow=_FREE)
def scissors_set_as_arrays() -> Draw:
    """Of three squares one lies outside the scissor rectangle that an array of one sets."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glEnable(GL.GL_SCISSOR_TEST)
        GL.glScissorArrayv(0, 1, np.array([0, 0, 80, HEIGHT], np.int32))
        paint.use().rect(10, 10, 40, 40, (1, 0, 0, 1))
        paint.rect(100, 10, 140, 40, (0, 1, 0, 1))
        GL.glScissorIndexedv(0, np.array([0, 0, WIDTH, HEIGHT], np.int32))
        paint.rect(100, 60, 140, 90, (0, 0, 1, 1))
        GL.glDisable(GL.GL_SCISSOR_TEST)

    return draw


@known(allow=(*_FREE, "covered-clear"), profile="compatibility", finds={"not-visible": 1})
def blending_that_is_popped_again() -> Draw:
    """A sheet that lets shine through what lies under it, by blending that is pushed and popped; then one that covers
    a third square, which nobody sees.
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(10, 10, 60, 60, (1, 0, 0, 1))
        GL.glPushAttrib(GL.GL_COLOR_BUFFER_BIT)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        paint.rect(0, 0, 80, 80, (0, 0.3, 0, 1))
        GL.glPopAttrib()
        paint.rect(100, 10, 140, 60, (0, 0, 1, 1))
        paint.rect(90, 0, 150, 80, (0.2, 0.4, 0.6, 1))

    return draw


_COUNTS = """#version 430
layout(std430, binding = 0) buffer Counter { uint count; };
uniform vec4 colour;
out vec4 result;
void main() { result = colour * (1.0 - float(min(atomicAdd(count, 1u), 1u)) * 0.0); }
"""
_SHADES = """#version 430
layout(std140, binding = 0) uniform Shade { vec4 shade; };
uniform vec4 colour;
out vec4 result;
void main() { result = colour * shade; }
"""


def _uploaded_before_each(fragment: str, kind: int, data: np.ndarray) -> Draw:
    """Draws with a block of a kind, into which the same data is uploaded before each."""
    paint = Painter(fragment, VERTEX.replace("330", "430"))
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBuffer(kind, buffer)
    GL.glBufferData(kind, data.nbytes, data, GL.GL_DYNAMIC_DRAW)
    GL.glBindBufferBase(kind, 0, buffer)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(_ROUNDS):
            GL.glNamedBufferSubData(buffer, 0, data.nbytes, data)
            paint.rect(10 * k, 20, 10 * k + 9, 60, (k / _ROUNDS, 0.5, 0.2, 1))

    return draw


@known(finds={"repeated-upload": 0}, allow=_FREE)
def a_counter_that_is_reset_between_counting_draws() -> Draw:
    """Trap: the same zero is uploaded before each draw, and is not what is there: shaders count in between."""
    return _uploaded_before_each(_COUNTS, GL.GL_SHADER_STORAGE_BUFFER, np.zeros(64, np.uint32))


@known(finds={"repeated-upload": 1}, allow=_FREE)
def a_block_that_is_uploaded_again_and_again() -> Draw:
    """The same without shaders that write: the uploads change nothing."""
    return _uploaded_before_each(_SHADES, GL.GL_UNIFORM_BUFFER, np.ones(64, np.float32))
