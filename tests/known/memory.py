"""What is said of memory: levels that are read, objects that are alike, unused or too wide, and what looks like it."""

from __future__ import annotations

import ctypes
from collections.abc import Callable

import numpy as np
from OpenGL import GL
from OpenGL.GL.KHR import debug

from wendascope.trials.proofs.verdicts import Verdict

from ._case import Draw, known
from ._draw import (
    FLAT,
    HEIGHT,
    TEXTURED,
    VERTEX,
    WHITE,
    WIDTH,
    Painter,
    clear,
    make_program,
    noise,
    onto,
    target,
    texture,
)
from ._looking import Looked

_SIDE = 256
_NONE = {"oversized-texture": 0, "missing-mip-levels": 0, "same-contents": 0, "wide-target": 0, "unused-objects": 0}


def _named(name: int, label: str) -> int:
    debug.glObjectLabel(GL.GL_TEXTURE, name, len(label), label.encode())
    return name


def _picture(label: str, seed: int = 1, mips: bool = True, side: int = _SIDE) -> int:
    name = texture(side, side, noise(side, side, seed)) if not mips else int(GL.glGenTextures(1))
    if mips:
        GL.glBindTexture(GL.GL_TEXTURE_2D, name)
        GL.glTexImage2D(
            GL.GL_TEXTURE_2D, 0, GL.GL_RGBA8, side, side, 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, noise(side, side, seed)
        )
        GL.glGenerateMipmap(GL.GL_TEXTURE_2D)
        GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR_MIPMAP_LINEAR)
    return _named(name, label)


def _shown(textures: list[tuple[int, int, int, int]], paint: Painter | None = None) -> Draw:
    """Each (texture, x, y, size in pixels)."""
    painter = paint or Painter(TEXTURED)

    def draw(_: int) -> None:
        onto(0)
        clear()
        painter.use()
        for name, x, y, size in textures:
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            painter.place(x, y, x + size, y + size).draw()

    return draw


def _same_picture(looked: Looked, rule: str) -> None:
    for finding in looked.of(rule):
        proof = looked.prove(finding)
        assert proof.pixels_different == 0 and proof.verdict not in (
            Verdict.CHANGES,
            Verdict.LEAVES,
            Verdict.REFUSED,
        ), proof.summary


def _finest(levels: dict[str, float]) -> Callable[[Looked], None]:
    def check(looked: Looked) -> None:
        use = looked.examined.memory_use
        assert use is not None and not use.sampled.refused, use
        for label, level in levels.items():
            (name,) = [t.name for t in looked.frame.objects.textures if t.label == label]
            row = next((row for row in use.sampled.textures if row.texture == name), None)
            assert row is not None and (row.finest, row.wanted) == (level, level), (label, row)

    return check


@known(
    finds={"oversized-texture": 3},
    checks=(
        _finest({"whole": 0.0, "half": 1.0, "quarter": 2.0, "eighth": 3.0}),
        lambda looked: _same_picture(looked, "oversized-texture"),
    ),
    allow=("textured-batch", "mergeable", "draw-plan"),
)
def levels_that_are_known() -> Draw:
    """Four textures of 256 or 64 texels, on squares of as many pixels, a half, a quarter, an eighth: levels 0 to 3."""
    return _shown(
        [
            (_picture("whole", 1, side=64), 0, 0, 64),
            (_picture("half", 2, side=128), 64, 0, 64),
            (_picture("quarter", 3), 0, 64, 64),
            (_picture("eighth", 4), 64, 64, 32),
        ]
    )


@known(finds=_NONE, checks=(_finest({"near and far": 0.0}),), allow=("mergeable", "copies", "draw-plan"))
def a_texture_shown_small_and_large() -> Draw:
    """Trap: most of its draws read level 2, one reads level 0."""
    name = _picture("near and far", side=64)
    return _shown([(name, 0, 0, 16), (name, 20, 0, 16), (name, 40, 0, 16), (name, 60, 0, 64)])


_FINEST_ASKED_FOR = TEXTURED.replace("texture(image, uv)", "textureLod(image, uv, 0.0)")


@known(finds=_NONE, checks=(_finest({"asked for": 0.0}),))
def a_level_that_the_shader_asks_for() -> Draw:
    """Trap: shown at a quarter, but the shader names level 0."""
    return _shown([(_picture("asked for"), 0, 0, 64)], Painter(_FINEST_ASKED_FOR))


_MOVED_BY_IT = VERTEX.replace("out vec2 uv;", "out vec2 uv; uniform sampler2D image;").replace(
    "depth, 1.0);", "depth, 1.0); gl_Position.x += textureLod(image, vec2(0.5), 0.0).r * 1e-4;"
)


@known(finds=_NONE)
def a_texture_that_vertices_read_too() -> Draw:
    """Trap: shown at a quarter, but the vertex shader reads its finest level."""
    return _shown([(_picture("two readers"), 0, 0, 64)], Painter(TEXTURED, _MOVED_BY_IT))


_DECLARED_TWICE = VERTEX.replace("out vec2 uv;", "out vec2 uv; uniform sampler2D image;").replace(
    "depth, 1.0);", "depth, 1.0); vec2 imageplace = uv;"
)


@known(finds={"oversized-texture": 1}, checks=(_finest({"one reader": 2.0}),))
def a_texture_that_vertices_only_name() -> Draw:
    """The vertex shader declares the sampler too, and has a variable whose name begins like it: it reads nothing."""
    return _shown([(_picture("one reader"), 0, 0, 64)], Painter(TEXTURED, _DECLARED_TWICE))


_BY_A_FUNCTION = TEXTURED.replace(
    "void main", "vec4 look(int k, sampler2D s, vec2 at) { return texture(s, at * float(k)); } void main"
).replace("texture(image, uv)", "look(FACTOR, image, uv)")


@known(finds={"oversized-texture": 1}, checks=(_finest({"handed on": 2.0}),))
def a_texture_that_a_function_reads() -> Draw:
    """The sampler is handed on, and the function reads what the picture shows."""
    return _shown([(_picture("handed on"), 0, 0, 64)], Painter(_BY_A_FUNCTION.replace("FACTOR", "1")))


_BY_A_MACRO = TEXTURED.replace("in vec2 uv;", "in vec2 uv;\n#define FINEST textureLod(image, uv, 0.0)\n").replace(
    "texture(image, uv)", "texture(image, uv) + FINEST * 0.1"
)


@known(finds=_NONE)
def a_texture_that_a_macro_reads() -> Draw:
    """Trap: shown at a quarter, but a macro reads its finest level."""
    return _shown([(_picture("in a macro"), 0, 0, 64)], Painter(_BY_A_MACRO))


def _seen_without_levels(looked: Looked) -> None:
    (finding,) = looked.of("oversized-texture")
    assert finding.evidence["bytes now"] == 4 * _SIDE**2 and finding.evidence["bytes then"] == 4 * 64**2
    assert finding.remedy is not None and finding.remedy.kind == "smaller-textures"


@known(finds={"missing-mip-levels": 1, "oversized-texture": 1}, checks=(_seen_without_levels,))
def a_texture_without_levels() -> Draw:
    """256 texels on 64 pixels, with one level: it has none to choose from, and a quarter would do."""
    return _shown([(_picture("plain", mips=False), 0, 0, 64)])


def _saves(rule: str, size: int) -> Callable[[Looked], None]:
    def check(looked: Looked) -> None:
        (finding,) = looked.of(rule)
        assert finding.evidence["bytes saved"] == size and finding.remedy is not None

    return check


@known(
    finds={"same-contents": 1},
    checks=(
        _saves("same-contents", 4 * 64 * 64),
        lambda looked: _same_picture(looked, "same-contents"),
    ),
    allow=("mergeable", "textured-batch", "draw-plan", "copies"),
)
def two_textures_with_the_same_contents() -> Draw:
    """Either would do for both."""
    return _shown([(texture(64, 64, noise(64, 64)), 0, 0, 64), (texture(64, 64, noise(64, 64)), 64, 0, 64)])


def _not_to_be_tried(looked: Looked) -> None:
    (finding,) = looked.of("same-contents")
    assert finding.remedy is None and "filtered" in finding.refused


@known(finds={"same-contents": 1}, checks=(_not_to_be_tried,), allow=("mergeable", "textured-batch", "draw-plan"))
def the_same_contents_with_another_filter() -> Draw:
    """Trap: the same texels, of which one texture makes a smooth picture: they are no one texture."""
    first, second = texture(64, 64, noise(64, 64)), texture(64, 64, noise(64, 64))
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MAG_FILTER, GL.GL_LINEAR)
    return _shown([(first, 0, 0, 80), (second, 80, 0, 80)])


def _two(first: np.ndarray, second: np.ndarray) -> Draw:
    side = first.shape[0]
    return _shown([(texture(side, side, first), 0, 0, 64), (texture(side, side, second), 64, 0, 64)])


def _nearly(looked: Looked) -> None:
    (finding,) = looked.of("near-contents")
    proof = looked.prove(finding)
    assert 0 < proof.max_difference <= 2 and proof.new_bytes == -4 * 128 * 128, proof.summary


_TWO = ("mergeable", "textured-batch", "draw-plan", "copies", "oversized-texture", "missing-mip-levels")


@known(finds={"near-contents": 1, "same-contents": 0}, checks=(_nearly,), allow=_TWO)
def two_exports_of_one_picture() -> Draw:
    """Their texels differ by up to 2 of 255."""
    first = noise(128, 128)
    return _two(first, np.clip(first.astype(int) + np.random.default_rng(2).integers(-2, 3, first.shape), 0, 255))


@known(finds={"near-contents": 0}, allow=_TWO)
def two_pictures_with_the_same_means() -> Draw:
    """Trap: noise with other numbers; every part of it is as bright."""
    return _two(noise(128, 128, 1), noise(128, 128, 2))


@known(finds={"near-contents": 0}, allow=_TWO)
def one_picture_with_a_mark() -> Draw:
    """Trap: a sign of four texels that stands in one of them, as in two states of a button."""
    first = noise(128, 128)
    second = first.copy()
    second[60:62, 60:62] = 255 - second[60:62, 60:62]
    return _two(first, second)


@known(finds={"same-contents": 0}, allow=("mergeable", "textured-batch", "draw-plan"))
def the_same_contents_before_the_frame() -> Draw:
    """Trap: when the frame begins both hold the same, and the frame gives one of them other contents."""
    first, second = texture(64, 64, noise(64, 64)), texture(64, 64, noise(64, 64))
    shown = _shown([(first, 0, 0, 64), (second, 64, 0, 64)])

    def draw(frame: int) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, second)
        for seed in (2, 1):
            size = (0, 0, 64, 64, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
            GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, *size, np.ascontiguousarray(noise(64, 64, seed)))
            if seed == 2:
                shown(frame)

    return draw


_BRIGHT = FLAT.replace("result = colour", "result = vec4(colour.rgb * BRIGHT + gl_FragCoord.x * 0.001, 1.0)")


def _through_a_target(internal: int, bright: str) -> Draw:
    framebuffer, colour = target(internal=internal)
    paint, show = Painter(_BRIGHT.replace("BRIGHT", bright)), Painter(TEXTURED)

    def draw(_: int) -> None:
        onto(framebuffer)
        clear(0.0, 0.0, 0.0, 1.0)
        paint.use().rect(10, 10, 100, 100, WHITE)
        onto(0)
        clear()
        GL.glBindTexture(GL.GL_TEXTURE_2D, colour)
        show.use().place(0, 0, WIDTH, HEIGHT).draw()

    return draw


def _narrower(format_: str, saved: int) -> Callable[[Looked], None]:
    def check(looked: Looked) -> None:
        (finding,) = looked.of("wide-target")
        assert finding.remedy is not None and finding.remedy.names == [format_], finding.title
        evidence = finding.evidence
        assert int(evidence["bytes now"]) - int(evidence["bytes then"]) == saved

    return check


@known(
    finds={"wide-target": 1}, checks=(_narrower("RGBA8", 12 * WIDTH * HEIGHT),), allow=("covered-clear", "smaller-view")
)
def a_target_of_floats_for_colours() -> Draw:
    """32-bit floats that hold 0 to 0.6: eight bits would do, a quarter of the bytes."""
    return _through_a_target(GL.GL_RGBA32F, "0.5")


@known(
    finds={"wide-target": 1},
    checks=(_narrower("R11F_G11F_B10F", 12 * WIDTH * HEIGHT),),
    allow=("covered-clear", "smaller-view"),
)
def a_target_of_floats_for_light() -> Draw:
    """32-bit floats up to 8, and alpha is 1: colours of eight bits would lose the light, small floats keep it."""
    return _through_a_target(GL.GL_RGBA32F, "8.0")


@known(finds={"wide-target": 0}, allow=("covered-clear", "smaller-view"))
def a_target_of_floats_below_zero() -> Draw:
    """Trap: halves down to -4: no narrower format that is proposed has a sign."""
    return _through_a_target(GL.GL_RGBA16F, "-4.0")


@known(finds={"unused-objects": 1}, checks=(lambda looked: _unused(looked, 4 * _SIDE**2),))
def a_texture_that_nothing_uses() -> Draw:
    """Beside it one that is shown, and one that is only uploaded."""
    texture(_SIDE, _SIDE, noise(_SIDE, _SIDE, 2))
    uploaded, shown = texture(64, 64, noise(64, 64)), texture(64, 64, noise(64, 64, 3))
    show = _shown([(shown, 0, 0, 64)])

    def draw(frame: int) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, uploaded)
        size = (0, 0, 64, 64, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, 0, *size, np.ascontiguousarray(noise(64, 64, frame)))
        show(frame)

    return draw


def _unused(looked: Looked, size: int) -> None:
    (finding,) = looked.of("unused-objects")
    assert finding.evidence["bytes"] == size and finding.evidence["objects"] == 1


_PLACED = """#version 330
layout(location=0) in vec2 place;
void main() { gl_Position = vec4(place, 0.0, 1.0); }
"""


def _from_a_large_buffer(parts: list[int]) -> Draw:
    """A buffer of ten grids of triangles, of which some are drawn by indices with a base."""
    program = make_program(_PLACED, FLAT)
    side = 30
    axis = np.linspace(-0.9, 0.9, side, dtype=np.float32)
    grid = np.stack(np.meshgrid(axis, axis), axis=-1).reshape(-1, 2)
    corner = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).reshape(-1)
    indices = np.stack([corner, corner + 1, corner + side, corner + 1, corner + side + 1, corner + side], 1)
    array, (vertices, elements) = int(GL.glGenVertexArrays(1)), GL.glGenBuffers(2)
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, vertices)
    whole = np.tile(grid, (10, 1)).astype(np.float32)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, whole.nbytes, whole, GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)
    GL.glEnableVertexAttribArray(0)
    GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, elements)
    data = indices.astype(np.uint32).reshape(-1)
    GL.glBufferData(GL.GL_ELEMENT_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), *WHITE)
        for part in parts:
            start = ctypes.c_void_p(0)
            GL.glDrawElementsBaseVertex(GL.GL_TRIANGLES, len(data), GL.GL_UNSIGNED_INT, start, part * side * side)

    return draw


def _tenth(looked: Looked) -> None:
    (finding,) = looked.of("mostly-unread-buffer")
    assert finding.evidence["bytes fetched"] == 8 * 900 and finding.evidence["bytes"] == 8 * 9000


@known(finds={"mostly-unread-buffer": 1}, checks=(_tenth,))
def a_buffer_of_which_a_tenth_is_read() -> Draw:
    """Ten meshes in it, and one of them is drawn."""
    return _from_a_large_buffer([4])


@known(
    finds={"mostly-unread-buffer": 0},
    allow=("mergeable", "copies", "not-visible", "draw-plan", "covered-clear", "small-batches"),
)
def a_buffer_that_is_read_part_by_part() -> Draw:
    """Trap: each draw reads a tenth, and six draws read more than half."""
    return _from_a_large_buffer([0, 2, 4, 5, 7, 9])


_RESTART = 0xFFFFFFFF


def _by_long_indices(restart: int | None = None, unused: int = 0) -> Draw:
    """A grid of strips in one draw, from a place in the buffer that is not its beginning."""
    program = make_program(_PLACED, FLAT)
    side = 80
    axis = np.linspace(-0.9, 0.9, side, dtype=np.float32)
    grid = np.stack(np.meshgrid(axis, axis), axis=-1).reshape(-1, 2)
    grid = np.concatenate([np.zeros((unused, 2), np.float32), grid])
    rows = np.arange(side - 1)[:, None] * side + np.arange(side)
    strips = np.stack([rows, rows + side], axis=-1).reshape(side - 1, -1) + unused
    if restart is None:
        a, b, c = strips[:, :-2], strips[:, 1:-1], strips[:, 2:]
        indices = np.stack([a, b, c], axis=-1).reshape(-1)
    else:
        indices = np.concatenate([strips, np.full((side - 1, 1), _RESTART)], axis=1).reshape(-1)
    data = np.concatenate([np.zeros(8), indices]).astype(np.uint32)
    array, (vertices, elements) = int(GL.glGenVertexArrays(1)), GL.glGenBuffers(2)
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, vertices)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, grid.nbytes, np.ascontiguousarray(grid, np.float32), GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)
    GL.glEnableVertexAttribArray(0)
    GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, elements)
    GL.glBufferData(GL.GL_ELEMENT_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    if restart is not None:
        GL.glEnable(restart)
        GL.glPrimitiveRestartIndex(_RESTART)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), *WHITE)
        mode = GL.GL_TRIANGLES if restart is None else GL.GL_TRIANGLE_STRIP
        GL.glDrawElements(mode, len(indices), GL.GL_UNSIGNED_INT, ctypes.c_void_p(32))

    return draw


def _half_as_long(looked: Looked) -> None:
    (finding,) = looked.of("wide-indices")
    proof = looked.prove(finding)
    assert proof.pixels_different == 0 and proof.new_bytes == -finding.less_bytes < 0, proof.summary


_MESH = ("outside-view", "not-visible", "degenerate-triangles", "too-fine", "mostly-unread-buffer")


@known(finds={"wide-indices": 1}, checks=(_half_as_long,), allow=_MESH)
def indices_of_32_bits() -> Draw:
    """Up to 6,399, in 32 bits each: 16 would do."""
    return _by_long_indices()


@known(finds={"wide-indices": 1}, checks=(_half_as_long,), allow=_MESH)
def indices_that_begin_strips_anew() -> Draw:
    """The largest of all begins a strip: of 16 bits it is the largest too."""
    return _by_long_indices(GL.GL_PRIMITIVE_RESTART_FIXED_INDEX)


def _cannot_be_half_as_long(looked: Looked) -> None:
    (finding,) = looked.of("wide-indices")
    assert finding.remedy is None and "begin anew" in finding.refused


@known(finds={"wide-indices": 1}, checks=(_cannot_be_half_as_long,), allow=_MESH)
def indices_with_a_chosen_beginning() -> Draw:
    """Trap: the program chose the index that begins strips, and 16 bits do not hold it: said, and not tried."""
    return _by_long_indices(GL.GL_PRIMITIVE_RESTART)


@known(finds={"wide-indices": 0}, allow=_MESH)
def indices_beyond_16_bits() -> Draw:
    """Trap: the same mesh behind 70,000 vertices that nothing draws."""
    return _by_long_indices(unused=70000)


def _with_depth(read: bool) -> Draw:
    framebuffer, colour = target()
    depth = int(GL.glGenTextures(1))
    GL.glBindTexture(GL.GL_TEXTURE_2D, depth)
    GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, GL.GL_DEPTH_COMPONENT24, WIDTH, HEIGHT)
    for parameter in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
        GL.glTexParameteri(GL.GL_TEXTURE_2D, parameter, GL.GL_NEAREST)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, GL.GL_DEPTH_ATTACHMENT, GL.GL_TEXTURE_2D, depth, 0)
    paint, show = Painter(), Painter(TEXTURED)

    def draw(_: int) -> None:
        onto(framebuffer)
        GL.glEnable(GL.GL_DEPTH_TEST)
        clear(depth=True)
        paint.use().rect(10, 10, 100, 100, WHITE, 0.2).rect(40, 40, 150, 110, (1, 0, 0, 1), 0.5)
        GL.glDisable(GL.GL_DEPTH_TEST)
        onto(0)
        clear()
        show.use()
        for name, x in ((colour, 0), (depth if read else colour, 80)):
            GL.glBindTexture(GL.GL_TEXTURE_2D, name)
            show.place(x, 0, x + 80, HEIGHT).draw()

    return draw


_BESIDE = ("mergeable", "textured-batch", "draw-plan", "copies", "covered-clear", "smaller-view", "small-batches")


@known(finds={"unread-depth": 1}, allow=_BESIDE)
def depth_that_nothing_reads() -> Draw:
    """It is tested against within its pass, and no more."""
    return _with_depth(read=False)


@known(finds={"unread-depth": 0}, allow=_BESIDE)
def depth_that_is_shown() -> Draw:
    """Trap: the same pass, and a later step samples its depth."""
    return _with_depth(read=True)


_LIT = """#version 330
in vec3 facing;
out vec4 result;
void main() { result = vec4(normalize(facing) * 0.5 + 0.5, 1.0); }
"""
_FACING = """#version 330
layout(location=0) in vec3 position;
layout(location=1) in vec3 ATTRIBUTE;
out vec3 facing;
void main() { facing = ATTRIBUTE; gl_Position = vec4(position, 1.0); }
"""


def _many_vertices(attribute: str, length: float) -> Draw:
    """6,000 points of a place and a direction each, in triangles."""
    program = make_program(_FACING.replace("ATTRIBUTE", attribute), _LIT)
    random = np.random.default_rng(4)
    steps = random.integers(0, 65536, (6000, 3))
    steps[0], steps[1] = 0, 65535  # so that rounding to 16 bits within the box moves no edge
    places = (-0.9 + steps / 65535 * 1.8).astype(np.float32)
    directions = random.normal(size=(6000, 3))
    directions *= length / np.linalg.norm(directions, axis=1, keepdims=True)
    data = np.concatenate([places, directions.astype(np.float32)], axis=1)
    array, vertices = int(GL.glGenVertexArrays(1)), int(GL.glGenBuffers(1))
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, vertices)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, np.ascontiguousarray(data), GL.GL_STATIC_DRAW)
    for index in range(2):
        GL.glVertexAttribPointer(index, 3, GL.GL_FLOAT, False, 24, ctypes.c_void_p(12 * index))
        GL.glEnableVertexAttribArray(index)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        GL.glDrawArrays(GL.GL_TRIANGLES, 0, 6000)

    return draw


def _half_of_24(looked: Looked) -> None:
    (finding,) = looked.of("wide-attributes")
    assert finding.evidence["bytes per vertex then"] == 12 and finding.evidence["bytes saved"] == 6000 * 12


@known(finds={"wide-attributes": 1}, checks=(_half_of_24,), allow=("outside-view", "not-visible"))
def vertices_that_are_wide() -> Draw:
    """Places within a box and unit vectors, in 24 bytes: 12 would do."""
    return _many_vertices("normal", 1.0)


@known(finds={"wide-attributes": 0}, allow=("outside-view", "not-visible"))
def directions_of_some_length() -> Draw:
    """Trap: called a normal, and two and a half long, which ten bits would cut. Places alone save too little."""
    return _many_vertices("normal", 2.5)


def _with_a_plain_filter() -> int:
    name = _picture("plain filter")
    GL.glBindTexture(GL.GL_TEXTURE_2D, name)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    return name


@known(finds={"unread-mip-levels": 1, "oversized-texture": 0})
def levels_that_no_filter_reads() -> Draw:
    """All levels are there, and the filter reads the first alone."""
    return _shown([(_with_a_plain_filter(), 0, 0, 64)])


@known(finds={"unread-mip-levels": 0})
def levels_that_a_sampler_reads() -> Draw:
    """Trap: the texture's own filter reads the first level, and a sampler object with another filter is bound."""
    sampler = int(GL.glGenSamplers(1))
    GL.glSamplerParameteri(sampler, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR_MIPMAP_LINEAR)
    GL.glBindSampler(0, sampler)
    return _shown([(_with_a_plain_filter(), 0, 0, 64)])
