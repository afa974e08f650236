"""What shaders run, and what they throw away: loops that nothing reaches, samples in two arms, discards, layers."""

from __future__ import annotations

from OpenGL import GL

from ._case import Draw, known
from ._draw import HEIGHT, WIDTH, Painter, clear, noise, onto, texture

_FREE = ("covered-clear", "fine-full-screen")
_HEAD = "#version 330\nuniform sampler2D image;\nin vec2 uv;\nout vec4 result;\n"
_LOOP = """
  float sum = uv.x;
  for (int k = 0; k < 20; k++) {
    BODY
    sum += sin(sum + float(k)) * 0.1;
  }
  result = vec4(sum, uv.y, 0.5, 1.0);
}
"""


def _full_screen(fragment: str) -> Draw:
    paint = Painter(fragment)
    texture(WIDTH // 2, HEIGHT // 2, noise(WIDTH // 2, HEIGHT // 2))

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


def _loop(before: str = "", body: str = "") -> Draw:
    source = "#version 330\nin vec2 uv;\nout vec4 result;\nvoid main() {\n" + before + _LOOP.replace("BODY", body)
    return _full_screen(source)


@known(finds={"unreached-loop": 1, "long-loop": 0}, allow=_FREE)
def a_loop_behind_a_return_that_all_fragments_take() -> Draw:
    """Nothing that is known without running it says so: no fragment comes to the loop, which is most of the text."""
    return _loop("  if (uv.x > -1.0) { result = vec4(uv, 0.2, 1.0); return; }")


@known(finds={"unreached-loop": 0, "long-loop": 1}, allow=_FREE)
def a_loop_behind_a_return_that_a_column_does_not_take() -> Draw:
    """The trap: the last column of pixels comes to the loop."""
    return _loop("  if (uv.x < 0.994) { result = vec4(uv, 0.2, 1.0); return; }")


@known(finds={"unreached-loop": 0, "long-loop": 0}, allow=_FREE)
def a_loop_that_all_fragments_leave_early() -> Draw:
    """By its head it runs twenty times; every fragment leaves it in the third round."""
    return _loop(body="if (k > 1 && uv.x > -1.0) break;")


@known(finds={"fetched-twice": 0}, allow=_FREE)
def a_sample_in_each_arm_of_a_branch() -> Draw:
    """The trap: the same sample stands twice in the source, and no fragment makes it twice."""
    return _full_screen(
        _HEAD
        + "void main() {\n  if (uv.x > 0.5)\n    result = texture(image, uv) * 0.5;\n  else\n"
        + "    result = texture(image, uv);\n}\n"
    )


@known(finds={"fetched-twice": 1}, allow=_FREE)
def a_sample_before_a_branch_and_within_it() -> Draw:
    """Here half of the fragments make the same sample twice."""
    return _full_screen(
        _HEAD
        + "void main() {\n  result = texture(image, uv);\n  if (uv.x > 0.5)\n"
        + "    result += texture(image, uv).bgra * 0.5;\n}\n"
    )


@known(finds={"fetched-twice": 0}, allow=_FREE)
def a_function_that_samples_where_it_is_told() -> Draw:
    """The trap: one function samples once a call, at another place each time."""
    return _full_screen(
        _HEAD
        + "vec4 at(vec2 by) { return texture(image, uv + by); }\n"
        + "void main() { result = at(vec2(0.1)) * 0.5 + at(vec2(-0.1)) * 0.5; }\n"
    )


def _spot(radius: float) -> Draw:
    return _full_screen(
        "#version 330\nin vec2 uv;\nout vec4 result;\nvoid main() {\n"
        f"  if (length(uv - 0.5) > {radius}) discard;\n  result = vec4(uv, 0.5, 1.0);\n}}\n"
    )


@known(finds={"mostly-discarded": 1}, allow=_FREE)
def a_small_spot_of_a_large_quad() -> Draw:
    """19,200 fragments are shaded, and a spot of some 600 is kept."""
    return _spot(0.1)


@known(finds={"mostly-discarded": 0}, allow=_FREE)
def a_large_spot_of_a_large_quad() -> Draw:
    """The trap: more is kept than thrown away."""
    return _spot(0.5)


def _veils(count: int) -> Draw:
    veil = Painter("#version 330\nin vec2 uv;\nout vec4 result;\nvoid main() { result = vec4(uv, 0.5, 0.1); }\n")
    GL.glEnable(GL.GL_BLEND)
    GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)

    def draw(_: int) -> None:
        onto(0)
        clear()
        for _veil in range(count):
            veil.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


_JOINED = ("copies", "mergeable", "textured-batch", "small-batches", "draw-plan", "blend-without-effect")


@known(finds={"blended-layers": lambda found: len(found) == 1 and len(found[0].steps) == 8}, allow=(*_FREE, *_JOINED))
def eight_veils_over_each_other() -> Draw:
    """All of them over the whole window: leaving out half of them is a trade that shows."""
    return _veils(8)


@known(finds={"blended-layers": 0}, allow=(*_FREE, *_JOINED))
def two_veils_over_each_other() -> Draw:
    """The trap: two layers are what many frames have."""
    return _veils(2)
