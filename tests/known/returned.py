"""Results that this frame does not show: what the program gets to read, what the next frame shows or writes, and what
shaders of the frame hand on otherwise than to the next stage.
"""

from __future__ import annotations

import numpy as np
from OpenGL import GL

from wendascope.frame.remedy import Remedy
from wendascope.trials.proofs.outcomes import judge_remedies

from ._case import Draw, known
from ._draw import HEIGHT, RED, TEXTURED, WIDTH, Painter, clear, noise, onto, target, texture

IDS = """#version 330
uniform float number;
out vec4 result;
void main() { result = vec4(number + floor(gl_FragCoord.x) * 201.0, 0.0, 0.0, 1.0); }
"""
"""Numbers that eleven bits do not hold."""
VIEW = range(12)
"""The steps of the view, in all of these programs."""


def _is_needed(steps: range, what: str):
    """Leaving out these steps leaves something else behind, and no finding says otherwise."""

    def check(looked) -> None:
        outcome = judge_remedies(looked.replay.session, [Remedy("drop-steps", steps=list(steps))])
        assert any(what in store for store in outcome.left_behind), outcome
        for finding in looked.findings:
            if finding.remedy is not None and finding.remedy.kind == "drop-steps":
                assert not set(steps) <= set(finding.steps), finding

    return check


def _holds_numbers(looked) -> None:
    assert not looked.of("narrower-target"), looked.of("narrower-target")


def _view(paint: Painter, framebuffer: int) -> None:
    onto(framebuffer)
    clear()
    paint.use()
    for k in range(11):
        paint.set("number", k).place(14 * k, 0, 14 * k + 14, HEIGHT).draw()


def _show(paint: Painter, picked: float) -> None:
    onto(0)
    clear(picked % 1.0, 0.5, 0.5, 1)
    paint.use().rect(20, 20, 60, 60, RED)


@known(allow=("covered-clear", "mergeable", "small-batches"), checks=(_is_needed(VIEW, "read back"), _holds_numbers))
def pixels_are_picked() -> Draw:
    """A view of numbers is read by glReadPixels into the program's memory and chooses the next frame's background: it
    can neither go nor lose bits.
    """
    ids, paint = Painter(IDS), Painter()
    framebuffer, _ = target(internal=GL.GL_RGBA32F)
    picked = [0.0]

    def draw(_: int) -> None:
        _view(ids, framebuffer)
        picked[0] = float(np.frombuffer(GL.glReadPixels(100, 50, 1, 1, GL.GL_RED, GL.GL_FLOAT), np.float32)[0]) / 7000
        _show(paint, picked[0])

    return draw


@known(allow=("covered-clear", "mergeable", "small-batches"), checks=(_is_needed(VIEW, "texture"), _holds_numbers))
def a_texture_is_read() -> Draw:
    """The same, read by glGetTexImage."""
    ids, paint = Painter(IDS), Painter()
    framebuffer, image = target(internal=GL.GL_RGBA32F)

    def draw(_: int) -> None:
        _view(ids, framebuffer)
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        values = GL.glGetTexImage(GL.GL_TEXTURE_2D, 0, GL.GL_RED, GL.GL_FLOAT)
        _show(paint, float(np.ravel(values)[50 * WIDTH + 100]) / 7000)

    return draw


@known(allow=("mergeable", "small-batches", "repeated-state"), checks=(_is_needed(range(1, 9), "query"),))
def primitives_are_counted() -> Draw:
    """Draws outside of the view are counted by a query for primitives, whose result is shown: they cannot go."""
    paint = Painter()
    query = int(np.ravel(GL.glGenQueries(1))[0])
    shown = [0]

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glBeginQuery(GL.GL_PRIMITIVES_GENERATED, query)
        for k in range(8):
            paint.rect(WIDTH + 10 * k + 5, 10, WIDTH + 10 * k + 9, 50, (k / 8, 0.2, 0.2, 1))
        GL.glEndQuery(GL.GL_PRIMITIVES_GENERATED)
        shown[0] = int(GL.glGetQueryObjectuiv(query, GL.GL_QUERY_RESULT))
        paint.rect(10, 10, 10 + shown[0], 60, RED)

    return draw


FLAT_FROM_BUFFER = """#version 430
layout(std430, binding = 0) buffer Shared { float heat; };
uniform vec4 colour;
out vec4 result;
void main() {
    float warm = sqrt(sin(heat) * cos(heat) + exp(heat) * pow(heat + 0.1, 3.0) + 0.2);
    result = colour * vec4(warm, tan(heat), log(heat + 1.0), 1.0);
}
"""
CAPTURED = """#version 440
layout(location = 0) in vec2 corner;
uniform vec4 rect;
layout(xfb_buffer = 0, xfb_offset = 0) out vec4 kept;
void main() {
    kept = vec4(mix(rect.xy, rect.zw, corner), 0.0, 1.0);
    gl_Position = kept;
}
"""
PASSED_ON = "#version 440\nlayout(location=0) in vec4 at;\nvoid main() { gl_Position = at; gl_PointSize = 3.0; }\n"


def _no(*rules: str):
    def check(looked) -> None:
        found = [f.title for rule in rules for f in looked.of(rule)]
        assert not found, found

    return check


def _not_thought_of(rule: str):
    """Nothing of the rule had to be refuted either."""

    def check(looked) -> None:
        assert not [item for item in looked.examined.refuted if item.rule == rule], looked.examined.refuted

    return check


@known(allow=("covered-clear",), checks=(_no("unread-depth"),))
def the_next_frame_samples_the_depth() -> Draw:
    """Two views in turns: each frame draws one, and samples the depth of the other, which the frame before drew. It is
    not kept for nothing.
    """
    paint, show = Painter(), Painter(TEXTURED)
    views = []
    for _ in range(2):
        depth = texture(internal=GL.GL_DEPTH_COMPONENT24)
        framebuffer, _ = target()
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
        GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_TEXTURE_2D, depth, 0)
        views.append((framebuffer, depth))

    def draw(number: int) -> None:
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, views[(number + 1) % 2][1])
        show.use().place(0, 0, WIDTH, HEIGHT).draw()
        onto(views[number % 2][0])
        GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)
        GL.glEnable(GL.GL_DEPTH_TEST)
        for k in range(3):
            paint.use().rect(20 * k, 20, 20 * k + 40, 80, RED, depth=0.2 * k)
        GL.glDisable(GL.GL_DEPTH_TEST)

    return draw


@known(checks=(_no("same-contents"),), allow=("mergeable",))
def the_next_frame_writes_one_of_two() -> Draw:
    """A texture holds in this frame what another one does, and the next frame writes into it: they are no twins."""
    show = Painter(TEXTURED)
    same, other = noise(128, 128, 1), noise(128, 128, 2)
    still, turns = texture(128, 128, same), [texture(128, 128, same), texture(128, 128, same)]

    def upload(pixels: np.ndarray) -> None:
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, 0, 0, 128, 128, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels)

    def draw(number: int) -> None:
        onto(0)
        clear()
        show.use()
        GL.glBindTexture(GL.GL_TEXTURE_2D, turns[number % 2])
        upload(other)
        show.place(0, 0, 50, HEIGHT).draw()
        upload(same)
        for k, image in enumerate((still, turns[(number + 1) % 2])):
            GL.glBindTexture(GL.GL_TEXTURE_2D, image)
            show.place(55 + 50 * k, 0, 100 + 50 * k, HEIGHT).draw()

    return draw


@known(checks=(_no("uniform-expression", "linear-expression"),), allow=("covered-clear",))
def shaders_share_a_buffer() -> Draw:
    """What a shader computes from a storage buffer is no matter of uniforms: other shaders write it."""
    paint = Painter(FLAT_FROM_BUFFER)
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBufferBase(GL.GL_SHADER_STORAGE_BUFFER, 0, buffer)
    GL.glBufferData(GL.GL_SHADER_STORAGE_BUFFER, 16, np.full(4, 0.4, np.float32), GL.GL_DYNAMIC_DRAW)

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use().rect(0, 0, WIDTH, HEIGHT, RED)

    return draw


@known(checks=(_no("unused-varying"), _not_thought_of("unused-varying")), allow=("covered-clear",))
def a_varying_is_captured() -> Draw:
    """A varying that no fragment reads is captured by transform feedback, and drawn with."""
    catch = Painter("#version 440\nout vec4 c;\nvoid main() { c = vec4(1.0); }\n", CAPTURED)
    dots = Painter("#version 440\nout vec4 c;\nvoid main() { c = vec4(0.2, 0.9, 0.4, 1.0); }\n", PASSED_ON)
    corners = int(GL.glGetIntegerv(GL.GL_VERTEX_ARRAY_BINDING))
    buffer, array = int(GL.glGenBuffers(1)), int(GL.glGenVertexArrays(1))
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, 64, None, GL.GL_DYNAMIC_COPY)
    GL.glVertexAttribPointer(0, 4, GL.GL_FLOAT, False, 16, None)
    GL.glEnableVertexAttribArray(0)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glBindVertexArray(corners)
        GL.glBindBufferBase(GL.GL_TRANSFORM_FEEDBACK_BUFFER, 0, buffer)
        catch.use().place(20, 20, 60, 80)
        GL.glEnable(GL.GL_RASTERIZER_DISCARD)
        GL.glBeginTransformFeedback(GL.GL_POINTS)
        GL.glDrawArrays(GL.GL_POINTS, 0, 4)
        GL.glEndTransformFeedback()
        GL.glDisable(GL.GL_RASTERIZER_DISCARD)
        GL.glBindVertexArray(array)
        GL.glEnable(GL.GL_PROGRAM_POINT_SIZE)
        dots.use()
        GL.glDrawArrays(GL.GL_POINTS, 0, 4)

    return draw
