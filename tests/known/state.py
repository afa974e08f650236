"""Calls that repeat what is set, that are overwritten unused, and those that only look like it."""

from __future__ import annotations

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import BLUE, FLAT, GREEN, HEIGHT, RED, WIDTH, Painter, clear, noise, onto, target, texture


def _repeats(least: int, most: int):
    def check(found) -> bool:
        return len(found) == 1 and least <= found[0].evidence["calls that repeat"] <= most

    return check


@known(
    finds={"repeated-state": _repeats(118, 126)},
    allow=("mergeable", "copies", "textured-batch", "small-batches", "covered-clear"),
)
def enabling_what_is_on() -> Draw:
    """Sixty strips, each with glEnable(GL_BLEND) and glEnable(GL_SCISSOR_TEST): all but the first of each repeat,
    118 calls (or 120: the frame before leaves them on).
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glScissor(0, 0, WIDTH, HEIGHT)
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        for k in range(60):
            GL.glEnable(GL.GL_BLEND)
            GL.glEnable(GL.GL_SCISSOR_TEST)
            paint.rect(k * 2, 0, k * 2 + 4, HEIGHT, (0.1, k / 60, 0.2, 1))

    return draw


@known(
    finds={"repeated-state": _repeats(59, 65)},
    allow=("mergeable", "copies", "textured-batch", "small-batches", "covered-clear"),
)
def enabling_by_index_what_is_on() -> Draw:
    """The same by index: glEnablei(GL_BLEND, 0) before each of sixty strips."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        for k in range(60):
            GL.glEnablei(GL.GL_BLEND, 0)
            paint.rect(k * 2, 0, k * 2 + 4, HEIGHT, (0.1, k / 60, 0.2, 1))

    return draw


@known(allow=("mergeable", "copies", "textured-batch", "small-batches"))
def switched_off_by_index_in_between() -> Draw:
    """glEnable(GL_BLEND) before each of sixty strips, and glDisablei(GL_BLEND, 0) before a strip above it: no call
    repeats.
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        for k in range(60):
            GL.glEnable(GL.GL_BLEND)
            paint.rect(k * 2, 0, k * 2 + 4, 60, (0.1, k / 60, 0.2, 1))
            GL.glDisablei(GL.GL_BLEND, 0)
            paint.rect(k * 2, 60, k * 2 + 2, HEIGHT, (0.3, k / 60, 0.2, 1))

    return draw


@known(
    finds={"overwritten-state": lambda found: len(found) == 1 and found[0].evidence["calls overwritten"] >= 60},
    allow=("mergeable", "copies", "textured-batch", "repeated-state"),
)
def a_colour_set_twice() -> Draw:
    """Before each of sixty strips the colour is set to one value and then to another: the first of each two is
    never used.
    """
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(60):
            paint.set("colour", 1, 0, 0, 1)
            paint.rect(k * 2, 10, k * 2 + 2, HEIGHT - 10, (k / 60, 0.5, 0.2, 1))

    return draw


@known(allow=("mergeable", "copies", "textured-batch"))
def a_colour_that_a_clear_uses() -> Draw:
    """The clear colour is set before each of sixty clears of a scissor box: all different, each used."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glEnable(GL.GL_SCISSOR_TEST)
        for k in range(60):
            GL.glScissor(2 * k, 10, 2, 60)
            GL.glClearColor(k / 60, 0.2, 0.4, 1)
            GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glDisable(GL.GL_SCISSOR_TEST)
        paint.use().rect(0, 80, WIDTH, 100, RED)

    return draw


@known(allow=("covered-clear", "mergeable", "copies"), checks=(lambda looked: _units(looked),))
def samplers_set_as_an_array() -> Draw:
    """Four samplers of an array get units 3, 1, 0, 2 by one call within the frame; each unit holds another texture."""
    names = ", ".join(f"texture(images[{k}], uv)" for k in range(4))
    show = Painter(
        "#version 330\nuniform sampler2D images[4];\nin vec2 uv;\nout vec4 result;\n"
        f"void main() {{ vec4 all[4] = vec4[4]({names}); result = all[int(uv.x * 4.0) % 4]; }}\n"
    )
    textures = [texture(16, 16, noise(16, 16, k)) for k in range(4)]
    at = GL.glGetUniformLocation(show.program, "images")

    def draw(_: int) -> None:
        onto(0)
        clear()
        for k, name in enumerate(textures):
            GL.glActiveTexture(GL.GL_TEXTURE0 + k)
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        show.use()
        GL.glUniform1iv(at, 4, np.array([3, 1, 0, 2], np.int32))
        show.place(0, 0, WIDTH, HEIGHT).draw()

    return draw


def _units(looked) -> None:
    from wendascope.backends.opengl.tables.inputs import texture_inputs

    inputs = texture_inputs(looked.frame, 1)
    assert [i.unit for i in inputs] == [3, 1, 0, 2]
    assert [i.texture for i in inputs] == [4, 2, 1, 3]


@known(allow=("covered-clear", "repeated-state"))
def a_texture_bound_for_an_upload() -> Draw:
    """A texture is bound, filled, and another bound before the draw: the first binding served the upload, and is no
    waste.

    What repeats is the pixel storage that the language binding sets before each upload.
    """
    from ._draw import TEXTURED

    show = Painter(TEXTURED)
    shown, filled = texture(16, 16, noise(16, 16, 1)), texture(16, 16, noise(16, 16, 2))
    pixels = [noise(16, 16, k) for k in range(3, 6)]

    def draw(number: int) -> None:
        onto(0)
        clear()
        show.use()
        for k in range(30):
            GL.glBindTexture(GL.GL_TEXTURE_2D, filled)
            GL.glTexSubImage2D(
                GL.GL_TEXTURE_2D, 0, 0, 0, 16, 16, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels[(number + k) % 3]
            )
            GL.glBindTexture(GL.GL_TEXTURE_2D, shown if k % 2 else filled)
            show.place(5 * k, 0, 5 * k + 5, HEIGHT).draw()

    return draw


@known(finds={"covered-clear": lambda found: True})
def a_pushed_state() -> Draw:
    """Two targets and a state that both need: the framebuffer is bound again between draws, and each binding is
    used.
    """
    paint = Painter()
    a, b = target(), target()

    def draw(_: int) -> None:
        for k in range(10):
            onto((a, b)[k % 2][0])
            paint.use().rect(10 * k, 0, 10 * k + 10, 60, (k / 10, 0, 0, 1))
        for k, (framebuffer, _image) in enumerate((a, b)):
            GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, framebuffer)
            GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, 0)
            GL.glBlitFramebuffer(
                0, 0, WIDTH, HEIGHT // 2, 0, 60 * k, WIDTH, 60 * k + 60, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST
            )

    return draw


@known(checks=(lambda looked: _clears(looked, 0),))
def a_clear_that_shows_through() -> Draw:
    """A clear of which one row of pixels stays to be seen."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear(0.9, 0.1, 0.4, 1)
        paint.use().rect(0, 0, WIDTH, HEIGHT - 1, BLUE)

    return draw


@known(finds={"covered-clear": {0}}, allow=("not-visible",))
def a_clear_that_is_covered_in_parts() -> Draw:
    """A clear that two quads cover together, each a half."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear(0.9, 0.1, 0.4, 1)
        paint.use().rect(0, 0, 80, HEIGHT, BLUE)
        paint.rect(80, 0, WIDTH, HEIGHT, GREEN)

    return draw


@known(checks=(lambda looked: _clears(looked, 0),))
def a_clear_that_is_blended_with() -> Draw:
    """A clear that a translucent quad lies over: it is seen through it."""
    paint = Painter(FLAT)

    def draw(_: int) -> None:
        onto(0)
        clear(0.9, 0.1, 0.4, 1)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        paint.use().rect(0, 0, WIDTH, HEIGHT, (0, 0, 1, 0.5))
        GL.glDisable(GL.GL_BLEND)

    return draw


def _clears(looked, count: int) -> None:
    assert len(looked.of("covered-clear")) == count
