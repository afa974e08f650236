"""Views of a scene that others show: at their size, much smaller, or as a whole image."""

from __future__ import annotations

from OpenGL import GL

from tests.known._case import Draw, known
from tests.known._draw import GREEN, HEIGHT, TEXTURED, Painter, clear, onto, target

_SHADED = """#version 330
in vec2 uv;
out vec4 result;
void main() { result = vec4(uv, 0.5, 1.0); }
"""
_ALLOWED = (
    "covered-clear",
    "fine-full-screen",
    "untested-overdraw",
    "mergeable",
    "small-batches",
    "batch",
    "unused-varying",
    "not-visible",
    "back-to-front",
)


def _shown(size: int, shown: int, fragment: str = _SHADED, show: str = TEXTURED) -> Draw:
    """A view of some size with a gradient and a square, shown as a square of the window, and a scene around it."""
    view, image = target(size, size, depth=True)
    GL.glBindTexture(GL.GL_TEXTURE_2D, image)
    for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_LINEAR)
    shaded, flat, screen = Painter(fragment), Painter(), Painter(show)

    def draw(_: int) -> None:
        onto(view, size, size)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        shaded.use().place(0, 0, size, size, size, size).set("depth", 0.9).draw()
        flat.use().set("colour", *GREEN)
        for k in range(5):
            at = (k + 1) * size // 8
            flat.place(at, at, at + size // 8, at + size // 8, size, size).set("depth", 0.1 * k).draw()
        GL.glDisable(GL.GL_DEPTH_TEST)
        onto(0)
        clear()
        for k in range(6):  # most of the vertices: the scene that the view is shown in
            flat.use().set("depth", 0.0).set("colour", 0.1 * k, 0.3, 0.2, 1.0).place(8 * k, 0, 8 * k + 8, HEIGHT).draw()
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        screen.use().place(60, 40, 60 + shown, 40 + shown).draw()

    return draw


@known(
    finds={"smaller-view": lambda found: len(found) == 1 and "64 x 64 would take a quarter" in found[0].title},
    allow=_ALLOWED,
)
def a_view_shown_small() -> Draw:
    """128 x 128 pixels are drawn, and 40 x 40 of the window show them."""
    return _shown(128, 40)


@known(finds={"smaller-view": 0}, allow=_ALLOWED)
def a_view_shown_at_its_size() -> Draw:
    """64 x 64 pixels are shown on 64 x 64."""
    return _shown(64, 64)


@known(finds={"smaller-view": 0}, allow=_ALLOWED)
def a_view_sampled_many_times() -> Draw:
    """The same few fragments, each of which reads nine places of the view."""
    nine = TEXTURED.replace(
        "result = texture(image, uv);",
        "result = vec4(0.0);\n"
        "for (int i = 0; i < 9; i++) result += texture(image, uv + vec2(i % 3, i / 3) / 9.0) / 9.0;",
    )
    return _shown(128, 40, show=nine)


@known(
    finds={"smaller-view": lambda found: len(found) == 1 and "gl_FragCoord" in found[0].refused},
    allow=_ALLOWED,
)
def a_view_of_pixels_by_their_place() -> Draw:
    """Its shader counts in pixels: it is too large all the same, and how it would look smaller cannot be tried."""
    return _shown(128, 40, _SHADED.replace("vec4(uv, 0.5, 1.0)", "vec4(fract(gl_FragCoord.xy / 8.0), 0.5, 1.0)"))
