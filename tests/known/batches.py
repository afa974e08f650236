"""What can be drawn together, what must not be, and what only looks alike."""

from __future__ import annotations

import numpy as np
from OpenGL import GL

from ._case import Draw, known
from ._draw import TEXTURED, VERTEX, Painter, clear, corners, fan, noise, onto, texture, unit_square

STATE = ("repeated-state", "overwritten-state")
DATA_FRAGMENT = (
    "#version 400\nuniform vec4 colour;\nuniform int kind;\nuniform sampler2D images[2];\nin vec2 uv;\nout vec4"
    " result;\nvoid main() { result = colour * texture(images[kind], uv); }\n"
)


def _draws(before: int, after: int):
    """The largest batch."""

    def check(found) -> bool:
        best = max(found, key=lambda f: f.evidence["draws now"], default=None)
        return best is not None and (best.draws_now, best.draws_together) == (before, after)

    return check


@known(finds={"mergeable": _draws(60, 1)}, allow=STATE)
def strips_side_by_side() -> Draw:
    """Sixty strips of one program, one after the other: one draw."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(60):
            paint.rect(2 * k, 10, 2 * k + 2, 90, (k / 60, 0.3, 0.7, 1))

    return draw


@known(finds={"mergeable": _draws(30, 1)}, allow=(*STATE, "untested-overdraw", "not-visible"))
def strips_that_overlap_in_order() -> Draw:
    """Thirty quads over each other without a depth test, one after the other: one draw that keeps their order."""
    paint = Painter()

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(30):
            paint.rect(3 * k, 3 * k, 3 * k + 40, 3 * k + 25, (k / 30, 0.3, 0.7, 1))

    return draw


@known(finds={"mergeable": lambda found: sorted(f.evidence["draws now"] for f in found) == [30, 30]}, allow=STATE)
def two_programs_side_by_side() -> Draw:
    """Sixty strips that do not overlap, of two programs in turns, without a depth test: two draws in this picture."""
    a = Painter()
    b = Painter("#version 330\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour.bgra * 0.5; }\n")

    def draw(_: int) -> None:
        onto(0)
        clear()
        for k in range(60):
            (a, b)[k % 2].use().rect(2 * k, 10, 2 * k + 2, 90, (k / 60, 0.3, 0.7, 1))

    return draw


@known(allow=(*STATE, "untested-overdraw", "not-visible"))
def two_programs_that_overlap() -> Draw:
    """The same with quads that overlap their neighbours: the order decides, and nothing can be drawn together."""
    a = Painter()
    b = Painter("#version 330\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour.bgra * 0.5; }\n")

    def draw(_: int) -> None:
        onto(0)
        clear()
        for k in range(40):
            (a, b)[k % 2].use().rect(3 * k, 10, 3 * k + 20, 90, (k / 40, 0.3, 0.7, 1))

    return draw


@known(allow=(*STATE, "untested-overdraw", "not-visible"))
def two_filters_that_overlap() -> Draw:
    """Overlapping quads without a depth test whose textures take turns between two filters: the order decides."""
    show = Painter(TEXTURED)
    textures = [texture(16, 16, noise(16, 16, k)) for k in range(20)]
    for k, name in enumerate(textures):
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MAG_FILTER, GL.GL_LINEAR if k % 2 else GL.GL_NEAREST)

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        for k in range(40):
            GL.glBindTexture(GL.GL_TEXTURE_2D, textures[k % 20])
            show.place(3 * k, 10, 3 * k + 20, 90).draw()

    return draw


@known(
    finds={"textured-batch": lambda found: sum(f.evidence["draws now"] for f in found) == 40 and len(found) == 2},
    allow=(*STATE, "copies", "mergeable"),
)
def two_filters_side_by_side() -> Draw:
    """The same without overlaps: a texture array for each filter, two draws in this picture."""
    show = Painter(TEXTURED)
    textures = [texture(16, 16, noise(16, 16, k)) for k in range(20)]
    for k, name in enumerate(textures):
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MAG_FILTER, GL.GL_LINEAR if k % 2 else GL.GL_NEAREST)

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        for k in range(40):
            GL.glBindTexture(GL.GL_TEXTURE_2D, textures[k % 20])
            show.place(3 * k, 10, 3 * k + 3, 90).draw()

    return draw


@known(finds={"textured-batch": _draws(40, 1)}, allow=(*STATE, "copies", "mergeable"))
def forty_textures_of_eight_sizes() -> Draw:
    """Forty quads side by side with forty textures of eight sizes, which end at their edges: one draw with an atlas
    page.
    """
    show = Painter(TEXTURED)
    textures = []
    for k in range(40):
        side = 7 + 2 * (k % 8)  # odd, so that no sample falls between two texels
        textures.append(texture(side, side, noise(side, side, k)))
        for axis in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
            GL.glTexParameteri(GL.GL_TEXTURE_2D, axis, GL.GL_CLAMP_TO_EDGE)

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        for k, name in enumerate(textures):
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            show.place(4 * k, 10, 4 * k + 4, 90).draw()

    return draw


@known(
    finds={"textured-batch": lambda found: not [f for f in found if "atlas" in f.title]},
    allow=(*STATE, "copies", "mergeable", "textured-batch"),
)
def nearest_texels_on_their_edges() -> Draw:
    """The same with samples that fall between two texels: on a page they round to the other one, by up to 249 of
    255. Refuted, not claimed.
    """
    show = Painter(TEXTURED)
    textures = []
    for k in range(40):
        side = 8 + 4 * (k % 8)
        textures.append(texture(side, side, noise(side, side, k)))
        for axis in (GL.GL_TEXTURE_WRAP_S, GL.GL_TEXTURE_WRAP_T):
            GL.glTexParameteri(GL.GL_TEXTURE_2D, axis, GL.GL_CLAMP_TO_EDGE)

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        for k, name in enumerate(textures):
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            show.place(4 * k, 10, 4 * k + 4, 90).draw()

    return draw


@known(allow=(*STATE, "copies", "mergeable", "textured-batch"), checks=(lambda looked: _atlas(looked),))
def forty_textures_that_repeat() -> Draw:
    """Textures of several sizes with GL_REPEAT whose coordinates go to 3: they cannot lie on a page, and the atlas
    plan says so.
    """
    vertex = VERTEX.replace("in vec2 corner;", "in vec2 corner;\nlayout(location=1) in vec2 texcoord;").replace(
        "uv = corner;", "uv = texcoord;"
    )
    show = Painter(TEXTURED, vertex)
    unit_square()
    buffer = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
    coordinates = np.array([0, 0, 3, 0, 0, 3, 3, 3], np.float32)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, coordinates.nbytes, coordinates, GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(1, 2, GL.GL_FLOAT, False, 8, None)
    GL.glEnableVertexAttribArray(1)
    textures = [
        texture(8 + 4 * (k % 8), 8 + 4 * (k % 8), noise(8 + 4 * (k % 8), 8 + 4 * (k % 8), k)) for k in range(40)
    ]

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        for k, name in enumerate(textures):
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            show.place(4 * k, 10, 4 * k + 4, 90).draw()

    return draw


def _atlas(looked) -> None:
    from wendascope.analysis.draws.atlas import coordinate_reach, plan_atlases
    from wendascope.analysis.draws.sharing import Sharing

    sharing = Sharing(looked.frame)
    assert coordinate_reach(sharing, list(range(1, 41))) == 3.0
    assert plan_atlases(sharing) == [], "nothing can lie on a page"
    assert not [f for f in looked.of("textured-batch") if "atlas" in f.title]


@known(
    allow=(*STATE, "copies", "textured-batch"),
    finds={"mergeable": lambda found: all(f.remedy is None and "undefined" in f.refused for f in found)},
)
def a_sampler_picked_by_a_uniform() -> Draw:
    """Twenty quads whose shader picks one of two samplers by a uniform: as data of each draw the index would differ
    within one draw.
    """
    show = Painter(DATA_FRAGMENT)
    textures = [texture(16, 16, noise(16, 16, k)) for k in range(2)]
    GL.glUseProgram(show.program)
    at = GL.glGetUniformLocation(show.program, "images")
    GL.glUniform1iv(at, 2, np.array([0, 1], np.int32))

    def draw(_: int) -> None:
        onto(0)
        clear()
        for k, name in enumerate(textures):
            GL.glActiveTexture(GL.GL_TEXTURE0 + k)
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        show.use()
        for k in range(20):
            show.integer("kind", k % 2)
            show.rect(5 * k, 10, 5 * k + 5, 90, (k / 20, 0.6, 0.9, 1))

    return draw


@known(
    allow=STATE, finds={"mergeable": lambda found: all(f.remedy is None and "gl_VertexID" in f.refused for f in found)}
)
def shaders_that_count_vertices() -> Draw:
    """Twenty strips whose shader uses gl_VertexID and whose geometry differs: merging is refused when the frame is
    surveyed, not only when it is proved.
    """
    vertex = (
        "#version 330\nlayout(location=0) in vec2 corner;\nuniform vec4 rect;\nout vec2 uv;\nvoid main() { uv ="
        " vec2(gl_VertexID & 1, 0); gl_Position = vec4(mix(rect.xy, rect.zw, corner), 0.0, 1.0); }\n"
    )
    paint = Painter(vertex=vertex)
    corners(np.array([[0, 0, 1, 0, 0, 1, 1, 1], [0, 0, 1, 0, 0, 0.9, 1, 0.9]] * 10))

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(20):
            paint.place(5 * k, 10, 5 * k + 5, 90).set("colour", k / 20, 0.3, 0.7, 1)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 4 * k, 4)

    return draw


@known(finds={"mergeable": lambda found: True}, allow=(*STATE, "copies"))
def equal_depths_in_turns() -> Draw:
    """Opaque quads tested by depth of two programs in turns that overlap at equal depth: any batch keeps who wins,
    or is no finding.
    """
    a = Painter()
    b = Painter("#version 330\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour.bgra * 0.5; }\n")

    def draw(_: int) -> None:
        onto(0)
        GL.glEnable(GL.GL_DEPTH_TEST)
        GL.glDepthFunc(GL.GL_LEQUAL)
        clear(depth=True)
        for k in range(20):
            (a, b)[k % 2].use().rect(4 * k, 10, 4 * k + 4, 90, (k / 20, 0.3, 0.7, 1), 0.1)

    return draw


@known(finds={"mergeable": lambda found: True}, allow=(*STATE, "copies"))
def blended_side_by_side() -> Draw:
    """Thirty translucent strips side by side with an opaque one of another program after each: the translucent ones
    are one draw here.
    """
    a = Painter()
    b = Painter("#version 330\nuniform vec4 colour;\nout vec4 result;\nvoid main() { result = colour.bgra * 0.5; }\n")

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glBlendFunc(GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA)
        for k in range(30):
            GL.glEnable(GL.GL_BLEND)
            a.use().rect(4 * k, 10, 4 * k + 4, 60, (k / 30, 0.3, 0.7, 0.5))
            GL.glDisable(GL.GL_BLEND)
            b.use().rect(4 * k, 70, 4 * k + 4, 110, (k / 30, 0.3, 0.7, 1))

    return draw


@known(allow=STATE)
def an_upload_in_between() -> Draw:
    """Twelve quads of one program and texture, the texture filled anew before each: nothing can be drawn together."""
    show = Painter(TEXTURED)
    name = texture(16, 16)
    pixels = [noise(16, 16, k) for k in range(12)]

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        for k in range(12):
            GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, 0, 0, 16, 16, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, pixels[k])
            show.place(12 * k, 10, 12 * k + 12, 90).draw()

    return draw


@known(finds={"copies": lambda found: True}, allow=(*STATE, "mergeable", "textured-batch"))
def copies_of_a_mesh() -> Draw:
    """Forty copies of a fan of 32 triangles: instances."""
    paint = Painter()
    corners(0.5 + 0.5 * fan(33))

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(40):
            paint.place(16 * (k % 10), 24 * (k // 10), 16 * (k % 10) + 14, 24 * (k // 10) + 22).set(
                "colour", k / 40, 0.3, 0.7, 1
            )
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, 99)

    return draw


def _counted(looked) -> None:
    """So many neighbours are counted in several walks, and step by step as many fragments as the driver counts."""
    drawn = looked.examined.drawn
    assert drawn.mismatched == 0 and sum(step.fragments > 0 for step in drawn.steps) > 2900


@known(
    finds={"copies": _draws(3000, 1)},
    allow=(*STATE, "mergeable", "small-batches", "too-small", "too-fine"),
    checks=(_counted,),
)
def copies_beyond_a_uniform_block() -> Draw:
    """Three thousand copies of a fan, with 32 bytes of data each: more than a uniform block holds, and still one draw,
    whose shaders read a buffer texture.
    """
    paint = Painter()
    corners(0.5 + 0.5 * fan(8))

    def draw(_: int) -> None:
        onto(0)
        clear()
        paint.use()
        for k in range(3000):
            x, y = 2 * (k % 75), 3 * (k // 75)
            paint.place(x, y, x + 2, y + 3).set("colour", k / 3000, 0.3, 0.7, 1)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, 24)

    return draw
