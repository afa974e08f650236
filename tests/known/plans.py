"""Frames whose fewest draws are known by construction: the plan reaches them, its bound is not above, and the picture
of all its batches together is the same.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import (
    BLUE,
    FLAT,
    HEIGHT,
    RED,
    TEXTURED,
    WHITE,
    WIDTH,
    Painter,
    clear,
    fan,
    noise,
    onto,
    target,
    texture,
    vertex_array,
)

_FREE = ("batch", "mergeable", "copies", "textured-batch", "small-batches", "fine-full-screen", "untested-overdraw")
ROUND = """#version 330
uniform vec4 colour;
in vec2 uv;
out vec4 result;
void main() { result = vec4(colour.rgb, length(uv - 0.5) < 0.5 ? colour.a : 0.0); }
"""


def _blend() -> None:
    GL.glEnable(GL.GL_BLEND)
    GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)


def _draws(now: int, then: int, least: int) -> Callable[[Any], None]:
    """The plan of the window's pass: from so many draws to so many, and the bound beside it."""

    def check(looked: Any) -> None:
        (found,) = looked.of("draw-plan")
        numbers = found.evidence
        assert (numbers["draws now"], numbers["draws then"]) == (now, then), numbers
        assert numbers["fewest by the chains of draws that must keep their order"] == least, numbers

    return check


@known(finds={"draw-plan": 1}, checks=(_draws(72, 3, 3),), allow=_FREE)
def a_list_of_rows() -> Draw:
    """24 rows, each a background, a round icon and a bar on it: all backgrounds, all icons, all bars are three draws.
    By neighbours alone nothing could be joined.
    """
    flat, icon, bar = Painter(), Painter(ROUND), Painter(FLAT)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        for row in range(24):
            x, y = 2 + row % 4 * 40, 2 + row // 4 * 19
            flat.use().rect(x, y, x + 36, y + 16, (0.2, row / 24, 0.4, 0.8))
            icon.use().rect(x + 2, y + 2, x + 14, y + 14, (0.9, 0.5, row / 24, 1))
            bar.use().rect(x + 16, y + 6, x + 34, y + 10, (1, 1, 1, 0.7))
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(24, 3, 3),), allow=_FREE)
def rows_whose_first_colours_are_left_from_the_frame_before() -> Draw:
    """Eight rows of three draws. The first row of each kind takes the colour that the frame before ended with, which
    no call of this frame sets: moved after others, it has to get that colour again.
    """
    flat, icon, bar = Painter(), Painter(ROUND), Painter(FLAT)
    for k, paint in enumerate((flat, icon, bar)):
        paint.use().set("colour", 0.2 * k, 0.9, 0.3, 1.0)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        for row in range(8):
            x, y = 2 + row % 4 * 40, 2 + row // 4 * 19
            for paint, x0, y0, x1, y1 in ((flat, 0, 0, 36, 16), (icon, 2, 2, 14, 14), (bar, 16, 6, 34, 10)):
                paint.use()
                if row:
                    paint.set("colour", x0 / 16, row / 8, 0.4, 0.8)
                paint.place(x + x0, y + y0, x + x1, y + y1).draw()
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(24, 2, 2),), allow=_FREE)
def rows_with_the_draw_buffer_chosen_again() -> Draw:
    """Twelve rows of two draws, before each of which the program says again that it draws into the back buffer."""
    flat, icon = Painter(), Painter(ROUND)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        GL.glDrawBuffer(GL.GL_BACK)
        for row in range(12):
            x, y = 2 + row % 4 * 40, 2 + row // 4 * 19
            for paint in (flat, icon):
                GL.glDrawBuffer(GL.GL_BACK)
                paint.use().rect(x, y, x + 36, y + 16, (0.2, row / 12, 0.4, 0.8))
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 0}, allow=_FREE)
def a_fan_of_cards() -> Draw:
    """The trap: each card lies on a part of the one before, so no border may be drawn with another border."""
    border, face = Painter(), Painter(ROUND)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        for card in range(12):
            x = 5 + card * 10
            border.use().rect(x, 10, x + 30, 100, (0.1, 0.1, card / 12, 0.9))
            face.use().rect(x + 3, 13, x + 27, 97, (0.9, card / 12, 0.3, 0.9))
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(72, 3, 3),), allow=_FREE)
def a_tile_map_in_three_layers() -> Draw:
    """Ground, road and roofs of 24 places each, in twelve small textures of one size, place by place: three draws with
    a texture array, as the layers blend in different ways.
    """
    paint = Painter(TEXTURED)
    tiles = [texture(8, 8, noise(8, 8, seed)) for seed in range(12)]

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        GL.glEnable(GL.GL_BLEND)
        for place in range(24):
            x, y = place % 6 * 26 + 2, place // 6 * 29 + 2
            for layer, factor in enumerate((GL.GL_ZERO, GL.GL_ONE_MINUS_SRC_ALPHA, GL.GL_SRC_COLOR)):
                GL.glBlendFunc(GL.GL_SRC_ALPHA, factor)
                GL.glBindTexture(GL.GL_TEXTURE_2D, tiles[(place + layer * 5) % 12])
                inset = 3 * layer
                paint.rect(x + inset, y + inset, x + 24 - inset, y + 27 - inset)
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(
    finds={"draw-plan": 1},
    checks=(_draws(1200, 2, 2),),
    allow=(*_FREE, "back-to-front", "not-visible", "outside-view"),
)
def crates_of_two_materials() -> Draw:
    """1,200 opaque crates of two shaders in turns, at depths of their own: depth decides, so they change places freely.
    Two draws, one of each: a uniform block holds the data of 512, and a buffer texture that of all.
    """
    first, second = Painter(), Painter(ROUND.replace("length(uv - 0.5) < 0.5 ? colour.a : 0.0", "uv.x"))

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        for crate in range(1200):
            paint = (first, second)[crate % 2].use()
            x, y = (crate * 37) % 140, (crate * 53) % 100
            paint.rect(x, y, x + 18, y + 18, (crate / 1200, 0.5, 0.3, 1), depth=0.9 - crate * 0.0015)
        GL.glDisable(GL.GL_DEPTH_TEST)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(40, 2, 2),), allow=_FREE)
def sparks_of_two_kinds() -> Draw:
    """40 sparks over each other that only add, of two shaders in turns: adding commutes, so two draws do."""
    first, second = Painter(), Painter(ROUND)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        for spark in range(40):
            paint = (first, second)[spark % 2].use()
            paint.rect(30 + spark, 20 + spark // 2, 70 + spark, 60 + spark // 2, (5 / 255, 3 / 255, spark % 4 / 255, 0))
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 0}, allow=_FREE)
def glass_of_two_kinds() -> Draw:
    """The trap beside the sparks: the same, but each lets a part of what is below it through. Nothing may be joined."""
    first, second = Painter(), Painter(ROUND)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        for pane in range(40):
            paint = (first, second)[pane % 2].use()
            paint.rect(30 + pane, 20 + pane // 2, 70 + pane, 60 + pane // 2, (pane / 40, 0.3, 0.8, 0.5))
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(41, 5, 5),), allow=_FREE)
def two_lists_under_a_curtain() -> Draw:
    """Ten rows of two draws, a curtain over all of them, ten rows more: two draws, the curtain, two draws."""
    flat, icon, curtain = Painter(), Painter(ROUND), Painter(ROUND.replace("0.5 ?", "9.5 ?"))

    def rows(shade: float) -> None:
        for row in range(10):
            x, y = 4 + row % 2 * 76, 4 + row // 2 * 22
            flat.use().rect(x, y, x + 70, y + 18, (0.2, row / 10, shade, 0.6))
            icon.use().rect(x + 2, y + 2, x + 16, y + 16, (0.9, 0.5, row / 10, 0.9))

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        rows(0.3)
        curtain.use().rect(0, 0, WIDTH, HEIGHT, (0, 0, 0, 0.4))
        rows(0.8)
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 0}, allow=_FREE)
def rows_with_an_upload_in_between() -> Draw:
    """The trap: the texture of all rows is written between the first half and the second, so they stay apart; each half
    is one draw by itself.
    """
    paint, mark = Painter(TEXTURED), Painter(FLAT)
    image = texture(4, 4, noise(4, 4))
    pictures = [np.ascontiguousarray(noise(4, 4, seed)) for seed in (5, 6)]

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        for half in range(2):
            GL.glBindTexture(GL.GL_TEXTURE_2D, image)
            GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, 0, 0, 4, 4, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pictures[half])
            paint.use()
            for row in range(3):
                paint.rect(10 + row * 40, 10 + half * 50, 45 + row * 40, 50 + half * 50)
        mark.use().rect(0, 0, 4, 4, RED).rect(8, 0, 12, 4, BLUE).rect(16, 0, 20, 4, WHITE)
        GL.glDisable(GL.GL_BLEND)

    return draw


MESH_VERTEX = """#version 330
layout(location=0) in vec2 corner;
uniform vec2 at;
uniform float depth;
out vec2 uv;
void main() { uv = corner; gl_Position = vec4(at + corner * 0.12, depth, 1.0); }
"""


def _mesh(corners: int) -> tuple[int, int]:
    """(vertex array, vertices) of a fan of triangles round a middle."""
    return vertex_array(fan(corners)), 3 * corners


@known(finds={"draw-plan": 1}, checks=(_draws(200, 5, 5),), allow=(*_FREE, "back-to-front", "not-visible", "too-fine"))
def a_forest_of_five_meshes() -> Draw:
    """200 opaque trees of five meshes, one after the other: five draws of instances."""
    trees = [_mesh(8 + k) for k in range(5)]
    paint = Painter(FLAT, MESH_VERTEX)

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        paint.use()
        for tree in range(200):
            array, count = trees[tree % 5]
            GL.glBindVertexArray(array)
            paint.set("at", (tree * 37 % 100) / 50 - 1, (tree * 61 % 100) / 50 - 1)
            paint.set("depth", 0.9 - tree * 0.008).set("colour", 0.1, tree / 200, 0.2, 1)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, count)
        GL.glDisable(GL.GL_DEPTH_TEST)

    return draw


LIGHT = """#version 330
uniform sampler2D image;
uniform vec4 colour;
in vec2 uv;
out vec4 result;
void main() { result = texture(image, uv) * colour; }
"""


def _lights(looked: Any) -> None:
    found = {f.id: (f.draws_now, f.draws_together) for f in looked.of("draw-plan")}
    assert found.pop("draw-plan") == (54, 4), "of both passes together"
    assert set(found.values()) == {(24, 2), (30, 2)}, found


@known(finds={"draw-plan": 3}, checks=(_lights,), allow=(*_FREE, "back-to-front", "not-visible"))
def a_deferred_frame() -> Draw:
    """24 boxes of two shaders into a texture, then 30 lights of two shaders that only add and read it: two draws each,
    and the passes stay apart.
    """
    boxes, round_boxes = Painter(), Painter(ROUND.replace("0.5 ? colour.a : 0.0", "0.9 ? colour.a : 0.9"))
    first, second = Painter(LIGHT), Painter(LIGHT.replace("* colour", "* colour.bgra"))
    framebuffer, image = target(depth=True)

    def draw(_: int) -> None:
        onto(framebuffer)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        for box in range(24):
            paint = (boxes, round_boxes)[box % 2].use()
            x, y = box * 29 % 130, box * 41 % 90
            paint.rect(x, y, x + 25, y + 25, (box / 24, 0.4, 0.6, 1), depth=0.9 - box * 0.03)
        GL.glDisable(GL.GL_DEPTH_TEST)
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, image)
        GL.glEnable(GL.GL_BLEND)
        GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)
        for light in range(30):
            paint = (first, second)[light % 2].use()
            x, y = light * 23 % 110, light * 31 % 70
            paint.rect(x, y, x + 50, y + 50, (0.05, 0.03, light / 600, 0))
        GL.glDisable(GL.GL_BLEND)
        GL.glBindTexture(GL.GL_TEXTURE_2D, 0)

    return draw


@known(finds={"draw-plan": 0}, allow=_FREE)
def surfaces_of_one_depth() -> Draw:
    """The trap beside the crates: 20 opaque surfaces of two shaders in turns, all of one depth. Which comes last is
    seen, so none may change places though depth is tested.
    """
    first, second = Painter(), Painter(ROUND.replace("length(uv - 0.5) < 0.5 ? colour.a : 0.0", "uv.x"))

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LEQUAL)
        clear(depth=True)
        for surface in range(20):
            x = surface * 6
            (first, second)[surface % 2].use().rect(x, 20, x + 30, 90, (surface / 20, 0.5, 0.3, 1), depth=0.25)
        GL.glDepthFunc(GL.GL_LESS)
        GL.glDisable(GL.GL_DEPTH_TEST)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(18, 3, 3),), allow=(*_FREE, "not-visible"))
def hidden_behind_glass() -> Draw:
    """The trap of what a depth test keeps away: six panes of glass that write depth, and a bar before and one behind
    each that reaches over its edge. All bars in one draw before the panes would shine through where they are hidden
    now: it takes three draws, and not two.
    """
    glass, bar = Painter(), Painter(ROUND.replace("length(uv - 0.5) < 0.5 ? colour.a : 0.0", "1.0"))

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        _blend()
        for pane in range(6):
            x = 4 + pane * 26
            bar.use().rect(x, 60, x + 20, 64, (1, 1, 1, 1), depth=0.2)
            glass.use().rect(x, 20, x + 20, 100, (pane / 6, 0.3, 0.8, 0.5), depth=0.5)
            bar.use().rect(x + 8, 10, x + 12, 30, (1, 0.8, 0.2, 1), depth=0.7)
        GL.glDisable(GL.GL_BLEND)
        GL.glDisable(GL.GL_DEPTH_TEST)

    return draw


STREAMED = """#version 330
layout(location=0) in vec2 place;
out vec2 uv;
void main() { uv = place; gl_Position = vec4(place, 0.0, 1.0); }
"""


@known(finds={"draw-plan": 1}, checks=(_draws(48, 2, 2),), allow=_FREE)
def rows_through_one_buffer() -> Draw:
    """24 rows of a background and a mark, each written into one and the same buffer right before it is drawn, as
    interfaces stream: two draws, for which every draw moves with what it reads.
    """
    flat, mark = Painter(FLAT, STREAMED), Painter(ROUND.replace("length(uv - 0.5) < 0.5", "uv.x < 9.5"), STREAMED)
    array, buffer = int(GL.glGenVertexArrays(1)), int(GL.glGenBuffers(1))
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)
    GL.glEnableVertexAttribArray(0)

    def stream(x0: float, y0: float, x1: float, y1: float) -> None:
        corners = np.array([x0, y0, x1, y0, x0, y1, x1, y1], np.float32).reshape(-1, 2)
        corners *= np.array([2 / WIDTH, 2 / HEIGHT], np.float32)
        corners -= 1
        GL.glBufferData(GL.GL_ARRAY_BUFFER, corners.nbytes, corners, GL.GL_STREAM_DRAW)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        GL.glBindVertexArray(array)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
        for row in range(24):
            x, y = 2 + row % 4 * 40, 2 + row // 4 * 19
            flat.use().set("colour", 0.2, row / 24, 0.4, 0.8)
            stream(x, y, x + 36, y + 16)
            mark.use().set("colour", 0.9, 0.5, row / 24, 0.7)
            stream(x + 4, y + 4, x + 20, y + 12)
        GL.glDisable(GL.GL_BLEND)

    return draw


@known(finds={"draw-plan": 1}, checks=(_draws(44, 2, 2),), allow=_FREE)
def icons_of_many_kinds() -> Draw:
    """22 places, each a background and an icon on it; the icons lie in eleven textures of different sizes, two of
    which repeat, and one of another format: no array and no page takes them all, but eleven texture units do.
    """
    flat, icon = Painter(), Painter(TEXTURED)
    icons = [texture(4 + k, 9 - k // 2, noise(4 + k, 9 - k // 2, k)) for k in range(10)]
    icons.append(texture(5, 5, noise(5, 5, 40), GL.GL_RGB10_A2))
    for name in icons[:2]:
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_WRAP_S, GL.GL_REPEAT)
    for name in icons[2:]:
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        for wrap in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
            GL.glTexParameteri(GL.GL_TEXTURE_2D, wrap, GL.GL_CLAMP_TO_EDGE)

    def draw(_: int) -> None:
        onto(0)
        clear()
        _blend()
        for place in range(22):
            x, y = 2 + place % 6 * 26, 2 + place // 6 * 29
            flat.use().rect(x, y, x + 24, y + 26, (0.2, place / 22, 0.4, 0.8))
            GL.glBindTexture(GL.GL_TEXTURE_2D, icons[place % 11])
            icon.use().rect(x + 3, y + 3, x + 20, y + 22)
        GL.glDisable(GL.GL_BLEND)

    return draw
