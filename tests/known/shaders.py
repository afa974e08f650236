"""What is said of shaders: loops that run or not, powers, branches that uniforms decide."""

from __future__ import annotations

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import GREEN, HEIGHT, TEXTURED, VERTEX, WIDTH, Painter, clear, noise, onto, texture

_LOOP = """#version 330
uniform bool fog;
in vec2 uv;
out vec4 result;
void main() {
  float sum = uv.x;
  if (CONDITION) {
    for (int k = 0; k < 20; k++) sum += sin(sum + float(k)) * 0.1;
  }
  result = vec4(sum, uv.y, 0.5, 1.0);
}
"""


def _with(condition: str, fog: int) -> Draw:
    paint = Painter(_LOOP.replace("CONDITION", condition))
    GL.glUseProgram(paint.program)
    GL.glUniform1i(GL.glGetUniformLocation(paint.program, "fog"), fog)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"long-loop": 1}, allow=("covered-clear",))
def a_loop_that_runs() -> Draw:
    """Behind `fog`, which is on: twenty iterations, most of the shader."""
    return _with("fog", 1)


@known(finds={"long-loop": 0, "unused-feature": 1}, allow=("covered-clear",))
def a_loop_that_a_uniform_keeps_off() -> Draw:
    """Behind `fog`, which is off: the loop never runs, and the feature is unused."""
    return _with("fog", 0)


@known(finds={"long-loop": 0, "unused-feature": 1}, allow=("covered-clear",))
def a_loop_behind_a_uniform_and_a_varying() -> Draw:
    """Behind `fog && uv.x > 0.5`, fog off: the loop never runs, and the feature is unused."""
    return _with("fog && uv.x > 0.5", 0)


@known(finds={"long-loop": 1, "unused-feature": 0}, allow=("covered-clear",))
def a_loop_behind_a_uniform_or_a_varying() -> Draw:
    """Behind `fog || uv.x > 0.5`, fog off: the loop runs for half of the fragments."""
    return _with("fog || uv.x > 0.5", 0)


@known(finds={"long-loop": 1, "unused-feature": 0}, allow=("covered-clear",))
def a_loop_behind_a_varying_alone() -> Draw:
    """Behind `uv.x > 0.5 && fog`, fog on."""
    return _with("uv.x > 0.5 && fog", 1)


@known(finds={"long-loop": lambda found: len({f.id for f in found}) == len(found) == 2}, allow=("covered-clear",))
def two_loops_on_one_line() -> Draw:
    """Two long loops that begin on one line: two findings, each of a name of its own."""
    paint = Painter(
        "#version 330\nin vec2 uv;\nout vec4 result;\nvoid main() { float s = uv.x, t = uv.y;\nfor (int k = 0; k < 20;"
        " k++) s += sin(s + float(k)) * 0.1; for (int k = 0; k < 20; k++) t += cos(t + float(k)) * 0.1;\nresult ="
        " vec4(s, t, 0.5, 1.0); }\n"
    )

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(
    finds={
        "small-power": lambda found: (
            len(found) == 1 and "never negative" in found[0].conditions and "raises" in found[0].title
        )
    },
    allow=("covered-clear",),
)
def a_power_of_what_may_be_negative() -> Draw:
    """pow(x - 2, 2) with x from 0 to 1: undefined for a negative base, where a product is not; the condition says
    so.
    """
    paint = Painter(
        "#version 330\nin vec2 uv;\nout vec4 result;\nvoid main() { result = vec4(pow(uv.x - 2.0, 2.0), pow(uv.y, 2.0),"
        " 0.0, 1.0); }\n"
    )

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"fine-full-screen": 0}, allow=("covered-clear",))
def a_full_screen_of_a_small_tile() -> Draw:
    """A full-screen step that reads a tile of 16 x 16, repeated over the window with hard edges: half size would
    blur it, and is not advised.
    """
    show = Painter(TEXTURED.replace("texture(image, uv)", "texture(image, uv * vec2(20.0, 15.0))"))
    tile = texture(16, 16, noise(16, 16))

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, tile)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(finds={"fine-full-screen": 0}, allow=("covered-clear",))
def a_full_screen_of_a_colour_ramp() -> Draw:
    """A full-screen step that looks a fine pattern up in a ramp of 64 x 1 colours."""
    show = Painter(TEXTURED.replace("texture(image, uv)", "texture(image, vec2(fract(uv.x * 80.0), 0.5))"))
    ramp = texture(64, 1, noise(64, 1))

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, ramp)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


SOFTENED = TEXTURED.replace(
    "result = texture(image, uv);",
    """result = vec4(0.0);
    for (int i = 0; i < 8; i++)
        result += 0.125 * texture(image, uv + 0.002 * vec2(sin(float(i)), cos(float(i))));""",
)
"""Eight samples around each pixel."""


def _smooth_picture(fragment: str) -> Draw:
    """A smooth picture of half the size over the whole window."""
    y, x = np.mgrid[0:30, 0:40]
    smooth = np.stack([x * 6, y * 8, (x + y) * 3, np.full_like(x, 255)], axis=-1).astype(np.uint8)
    show = Painter(fragment)
    picture = texture(40, 30, smooth)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MAG_FILTER, GL.GL_LINEAR)
    for axis in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, axis, GL.GL_CLAMP_TO_EDGE)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, picture)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


@known(
    finds={"fine-full-screen": lambda found: len(found) == 1 and found[0].tried.max_difference <= 16},
    allow=("covered-clear",),
)
def a_full_screen_of_a_smooth_picture() -> Draw:
    """A full-screen step that softens a smooth picture of half the size: half size is advised, with the difference
    that was tried.
    """
    return _smooth_picture(SOFTENED)


@known(finds={"fine-full-screen": 0}, allow=("covered-clear",))
def a_full_screen_that_only_scales_up() -> Draw:
    """The trap: the same picture sampled once. Drawn small, it would have to be scaled up just the same."""
    return _smooth_picture(TEXTURED)


def _behind_a_tower(vertex: str) -> Draw:
    """A smooth picture of a quarter of the pixels over the whole window, tested by depth, behind a narrow tower."""
    tower = Painter()
    sky = Painter(SOFTENED, vertex)
    across, up = np.meshgrid(np.linspace(0, 255, WIDTH // 2), np.linspace(0, 255, HEIGHT // 2))
    texture(WIDTH // 2, HEIGHT // 2, np.stack([across, up, across, np.full_like(up, 255)], axis=2))
    for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_LINEAR)
    for parameter in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_CLAMP_TO_EDGE)
    GL.glEnable(GL.GL_DEPTH_TEST)
    GL.glDepthFunc(GL.GL_LEQUAL)

    def draw(_: int) -> None:
        onto(0)
        clear(depth=True)
        tower.use().rect(10, 10, 14, 110, GREEN, -0.5)
        sky.use().set("depth", 0.9)
        sky.draw()

    return draw


@known(
    finds={"fine-full-screen": lambda found: len(found) == 1 and found[0].remedy is not None},
    allow=("covered-clear",),
)
def a_smooth_sky_tested_by_depth() -> Draw:
    """A sky at one depth behind everything, of half the size: half size is advised, and the tower stays before it."""
    return _behind_a_tower(VERTEX)


@known(finds={"fine-full-screen": 0}, allow=("covered-clear",))
def ground_that_fills_the_window() -> Draw:
    """The same picture on a surface that recedes: a part of the scene, and no full-screen step."""
    return _behind_a_tower(VERTEX.replace("depth, 1.0", "depth * corner.y, 1.0"))
