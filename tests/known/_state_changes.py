"""Every way to change what a draw depends on: programs of three draws that are equal but for one piece of state.

`DEPENDS` has one entry for each. The first draw of a frame finds the value that the frame before left, which takes
turns (the alpha that the frame is cleared with tells whose turn it is); the two others find one value each.
"""

from __future__ import annotations

import ctypes
import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from OpenGL import GL
from OpenGL.platform import PLATFORM

from ._draw import FLAT, HEIGHT, VERTEX, WIDTH, Painter, corners, link, target, texture, unit_square

Change = Callable[[int], object]
Do = Callable[[], object]


@dataclass(frozen=True)
class Depends:
    """`make` sets up a program and returns (what sets one of two values, what draws with it)."""

    name: str
    profile: str
    make: Callable[[], tuple[Change, Do]]


DEPENDS: dict[str, Depends] = {}
Make = Callable[[], tuple[Change, Do]]


def depends(*profiles: str) -> Callable[[Make], Make]:
    def register(make: Make) -> Make:
        for profile in profiles or ("core",):
            name = make.__name__ if profile == "core" else f"{make.__name__}_{profile}"
            DEPENDS[name] = Depends(name, profile, make)
        return make

    return register


def program(name: str) -> Callable[[int], None]:
    """Draws frames of the entry of a name."""
    change, do = DEPENDS[name].make()

    def draw(number: int) -> None:
        GL.glClearBufferfv(GL.GL_COLOR, 0, np.array([0, 0, 0, number % 2], np.float32))
        GL.glClearBufferfi(GL.GL_DEPTH_STENCIL, 0, 1.0, 0)
        do()
        change(0)
        do()
        change(1)
        do()
        change(number % 2)

    return draw


_ES_FLAT = FLAT.replace("330", "310 es\nprecision highp float;")
_ES_VERTEX = VERTEX.replace("330", "310 es").replace(" = vec4(-1.0, -1.0, 1.0, 1.0)", "").replace(" = 0.0;", ";")


def _by_floats(name: str, *values: float) -> None:
    """A command that the binding does not find in OpenGL ES, which has it."""
    kind = ctypes.CFUNCTYPE(None, *[ctypes.c_float] * len(values))
    kind(PLATFORM.getExtensionProcedure(name.encode()))(*values)


def _is_es() -> bool:
    return bool(GL.glGetString(GL.GL_VERSION).startswith(b"OpenGL ES"))


def _add_colours() -> None:
    """Every draw shows, whatever is drawn over it."""
    GL.glEnable(GL.GL_BLEND)
    GL.glBlendFunc(GL.GL_ONE, GL.GL_ONE)


def _adding() -> Do:
    """A rectangle that adds a dim colour."""
    paint = Painter(_ES_FLAT, _ES_VERTEX) if _is_es() else Painter()
    paint.use().place(16, 16, 112, 88).set("colour", 0.25, 0.125, 0.0625, 0.5).set("depth", 0.25)
    _add_colours()
    return paint.draw


def _simply(name: str, change: Change, *profiles: str, before: Callable[[], object] = lambda: None) -> None:
    """An entry for state that a plain rectangle depends on."""

    def make() -> tuple[Change, Do]:
        do = _adding()
        before()
        return change, do

    make.__name__ = name
    depends(*profiles)(make)


# ---- capabilities ---------------------------------------------------------------------------------------

_CAPABILITIES = (
    "BLEND COLOR_LOGIC_OP CULL_FACE DEPTH_TEST DEPTH_CLAMP DITHER FRAMEBUFFER_SRGB LINE_SMOOTH MULTISAMPLE"
    " POLYGON_OFFSET_FILL POLYGON_OFFSET_LINE POLYGON_OFFSET_POINT POLYGON_SMOOTH PRIMITIVE_RESTART"
    " PRIMITIVE_RESTART_FIXED_INDEX RASTERIZER_DISCARD SAMPLE_ALPHA_TO_COVERAGE SAMPLE_ALPHA_TO_ONE SAMPLE_COVERAGE"
    " SAMPLE_SHADING SAMPLE_MASK SCISSOR_TEST STENCIL_TEST TEXTURE_CUBE_MAP_SEAMLESS PROGRAM_POINT_SIZE"
    " CLIP_DISTANCE0 CLIP_DISTANCE7"
).split()
_ONLY_COMPATIBILITY = (
    "VERTEX_PROGRAM_TWO_SIDE POINT_SPRITE ALPHA_TEST POINT_SMOOTH LINE_STIPPLE POLYGON_STIPPLE".split()
)


def _switch(name: str) -> Change:
    value = getattr(GL, f"GL_{name}")
    return lambda k: (GL.glDisable, GL.glEnable)[k](value)


for _name in _CAPABILITIES:
    _simply(_name.lower(), _switch(_name))
for _name in _ONLY_COMPATIBILITY:
    _simply(_name.lower(), _switch(_name), "compatibility")
_simply("blend_of_one_buffer", lambda k: (GL.glDisablei, GL.glEnablei)[k](GL.GL_BLEND, 0))
_simply("scissor_of_one_viewport", lambda k: (GL.glDisablei, GL.glEnablei)[k](GL.GL_SCISSOR_TEST, 0))

# ---- values ---------------------------------------------------------------------------------------------


def _array(*values: float) -> np.ndarray:
    return np.array(values, np.float32)


def _with_offset() -> None:
    _tested()
    GL.glEnable(GL.GL_POLYGON_OFFSET_FILL)


_BOTH = GL.GL_FRONT_AND_BACK
_BLEND = (GL.GL_ONE, GL.GL_SRC_ALPHA)
_BOXES = ((16, 16, 40, 40), (30, 24, 70, 50))
_simply("blend_func", lambda k: GL.glBlendFunc(_BLEND[k], GL.GL_ONE))
_simply("blend_func_separate", lambda k: GL.glBlendFuncSeparate(_BLEND[k], GL.GL_ONE, GL.GL_ONE, GL.GL_ONE))
_simply("blend_func_i", lambda k: GL.glBlendFunci(0, _BLEND[k], GL.GL_ONE))
_simply("blend_func_separate_i", lambda k: GL.glBlendFuncSeparatei(0, _BLEND[k], GL.GL_ONE, GL.GL_ONE, GL.GL_ONE))
_EQUATIONS = (GL.GL_FUNC_ADD, GL.GL_FUNC_REVERSE_SUBTRACT)
_simply("blend_equation", lambda k: GL.glBlendEquation(_EQUATIONS[k]))
_simply("blend_equation_separate", lambda k: GL.glBlendEquationSeparate(_EQUATIONS[k], GL.GL_FUNC_ADD))
_simply("blend_equation_i", lambda k: GL.glBlendEquationi(0, _EQUATIONS[k]))
_simply("blend_equation_separate_i", lambda k: GL.glBlendEquationSeparatei(0, _EQUATIONS[k], GL.GL_FUNC_ADD))
_simply(
    "blend_color",
    lambda k: GL.glBlendColor(0.5 + 0.5 * k, 0.5, 0.5, 1),
    before=lambda: GL.glBlendFunc(GL.GL_CONSTANT_COLOR, GL.GL_ONE),
)
_simply("color_mask", lambda k: GL.glColorMask(True, bool(k), True, True))
_simply("color_mask_i", lambda k: GL.glColorMaski(0, True, bool(k), True, True))
_simply(
    "logic_op",
    lambda k: GL.glLogicOp((GL.GL_XOR, GL.GL_OR)[k]),
    before=lambda: (GL.glDisable(GL.GL_BLEND), GL.glEnable(GL.GL_COLOR_LOGIC_OP)),
)


def _tested() -> None:
    GL.glEnable(GL.GL_DEPTH_TEST)
    GL.glDepthFunc(GL.GL_LEQUAL)


def _nearer() -> None:
    GL.glEnable(GL.GL_DEPTH_TEST)


_simply("depth_func", lambda k: GL.glDepthFunc((GL.GL_LEQUAL, GL.GL_GREATER)[k]), before=_tested)
_simply("depth_mask", lambda k: GL.glDepthMask(bool(k)), "core", "es", before=_nearer)
_simply("depth_range", lambda k: GL.glDepthRange(0.3 * (1 - k), 1), before=_tested)
_simply("depth_range_f", lambda k: _by_floats("glDepthRangef", 0.3 * (1 - k), 1), "core", "es", before=_tested)
_simply("depth_range_indexed", lambda k: GL.glDepthRangeIndexed(0, 0.3 * (1 - k), 1), before=_tested)
_simply(
    "depth_range_array", lambda k: GL.glDepthRangeArrayv(0, 1, np.array([0.3 * (1 - k), 1], np.float64)), before=_tested
)


def _stenciled() -> None:
    GL.glEnable(GL.GL_STENCIL_TEST)
    GL.glStencilOp(GL.GL_KEEP, GL.GL_KEEP, GL.GL_INCR)


_simply("stencil_func", lambda k: GL.glStencilFunc((GL.GL_ALWAYS, GL.GL_EQUAL)[k], 1, 255), before=_stenciled)
_simply(
    "stencil_func_separate",
    lambda k: GL.glStencilFuncSeparate(_BOTH, (GL.GL_ALWAYS, GL.GL_EQUAL)[k], 1, 255),
    before=_stenciled,
)
_simply("stencil_op", lambda k: GL.glStencilOp(GL.GL_KEEP, GL.GL_KEEP, (GL.GL_INCR, GL.GL_ZERO)[k]), before=_stenciled)
_simply(
    "stencil_op_separate",
    lambda k: GL.glStencilOpSeparate(GL.GL_FRONT, GL.GL_KEEP, GL.GL_KEEP, (GL.GL_INCR, GL.GL_ZERO)[k]),
    before=_stenciled,
)
_simply("stencil_mask", lambda k: GL.glStencilMask((255, 2)[k]), before=_stenciled)
_simply("stencil_mask_separate", lambda k: GL.glStencilMaskSeparate(GL.GL_FRONT, (255, 2)[k]), before=_stenciled)
_simply("cull_face", lambda k: GL.glCullFace((GL.GL_FRONT, GL.GL_BACK)[k]), before=lambda: GL.glEnable(GL.GL_CULL_FACE))
_simply("front_face", lambda k: GL.glFrontFace((GL.GL_CW, GL.GL_CCW)[k]), before=lambda: GL.glEnable(GL.GL_CULL_FACE))
_simply("polygon_mode", lambda k: GL.glPolygonMode(_BOTH, (GL.GL_LINE, GL.GL_FILL)[k]))
_simply(
    "polygon_offset",
    lambda k: GL.glPolygonOffset(0, (0, 1 << 20)[k]),
    before=_with_offset,
)
_simply(
    "line_width",
    lambda k: GL.glLineWidth(1 + 4 * k),
    before=lambda: (GL.glPolygonMode(_BOTH, GL.GL_LINE), GL.glEnable(GL.GL_LINE_SMOOTH)),
)
_simply("point_size", lambda k: GL.glPointSize(2 + 9 * k), before=lambda: GL.glPolygonMode(_BOTH, GL.GL_POINT))
_simply("sample_coverage", lambda k: GL.glSampleCoverage(0.5 * (1 + k), False))
_simply("sample_mask_value", lambda k: GL.glSampleMaski(0, (1, 0xFFFFFFFF)[k]))
_simply("min_sample_shading", lambda k: GL.glMinSampleShading(0.5 * k))
_simply("clip_control", lambda k: GL.glClipControl((GL.GL_LOWER_LEFT, GL.GL_UPPER_LEFT)[k], GL.GL_NEGATIVE_ONE_TO_ONE))
_simply("viewport", lambda k: GL.glViewport(*_BOXES[k]), "core", "es")
_simply("viewport_indexed", lambda k: GL.glViewportIndexedf(0, *_BOXES[k]))
_simply("viewport_indexed_v", lambda k: GL.glViewportIndexedfv(0, _array(*_BOXES[k])))
_simply("viewport_array", lambda k: GL.glViewportArrayv(0, 1, _array(*_BOXES[k])))


def _cut() -> None:
    GL.glEnable(GL.GL_SCISSOR_TEST)


_simply("scissor", lambda k: GL.glScissor(*_BOXES[k]), before=_cut)
_simply("scissor_indexed", lambda k: GL.glScissorIndexed(0, *_BOXES[k]), before=_cut)
_simply("scissor_indexed_v", lambda k: GL.glScissorIndexedv(0, np.array(_BOXES[k], np.int32)), before=_cut)
_simply("scissor_array", lambda k: GL.glScissorArrayv(0, 1, np.array(_BOXES[k], np.int32)), before=_cut)
_simply("draw_buffer", lambda k: GL.glDrawBuffer((GL.GL_NONE, GL.GL_BACK)[k]))

_simply(
    "alpha_func",
    lambda k: GL.glAlphaFunc((GL.GL_GREATER, GL.GL_LESS)[k], 0.25),
    "compatibility",
    before=lambda: GL.glEnable(GL.GL_ALPHA_TEST),
)
_simply(
    "polygon_stipple",
    lambda k: GL.glPolygonStipple(np.full(128, (0x55, 0xFF)[k], np.uint8)),
    "compatibility",
    before=lambda: GL.glEnable(GL.GL_POLYGON_STIPPLE),
)
_simply(
    "line_stipple",
    lambda k: GL.glLineStipple(2, (0x5555, 0xFFFF)[k]),
    "compatibility",
    before=lambda: (GL.glPolygonMode(_BOTH, GL.GL_LINE), GL.glEnable(GL.GL_LINE_STIPPLE)),
)
_simply(
    "point_fade_threshold",
    lambda k: GL.glPointParameterf(GL.GL_POINT_FADE_THRESHOLD_SIZE, 1 + k),
)


def _pushed(k: int) -> None:
    GL.glPushAttrib(GL.GL_ALL_ATTRIB_BITS)
    GL.glPopAttrib()
    GL.glBlendFunc(_BLEND[k], GL.GL_ONE)


_simply("pushed_around_nothing", _pushed, "compatibility")


@depends("compatibility")
def popped_attributes() -> tuple[Change, Do]:
    do, turns = _adding(), itertools.cycle(range(3))

    def change(k: int) -> None:
        turn = next(turns)
        if turn == 0:
            GL.glPushAttrib(GL.GL_COLOR_BUFFER_BIT)
            GL.glBlendFunc(GL.GL_ZERO, GL.GL_SRC_ALPHA)
        elif turn == 1:
            GL.glPopAttrib()
        else:
            GL.glBlendFunc(_BLEND[k], GL.GL_ONE)

    return change, do


# ---- what is drawn otherwise than a plain rectangle -----------------------------------------------------


@depends()
def clear_color() -> tuple[Change, Do]:
    _adding()

    def do() -> None:
        GL.glEnable(GL.GL_SCISSOR_TEST)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glDisable(GL.GL_SCISSOR_TEST)

    GL.glScissor(10, 10, 50, 50)
    return lambda k: GL.glClearColor(0.5, 0.5 * k, 0.25, 1), do


@depends("core", "es")
def clear_depth() -> tuple[Change, Do]:
    paint = _adding()
    _tested()

    def do() -> None:
        GL.glClear(GL.GL_DEPTH_BUFFER_BIT)
        paint()

    return lambda k: _by_floats("glClearDepthf", 0.5 + 0.5 * k), do


@depends()
def clear_stencil() -> tuple[Change, Do]:
    paint = _adding()
    GL.glEnable(GL.GL_STENCIL_TEST)
    GL.glStencilFunc(GL.GL_EQUAL, 1, 255)

    def do() -> None:
        GL.glClear(GL.GL_STENCIL_BUFFER_BIT)
        paint()

    return GL.glClearStencil, do


@depends()
def point_sprite_origin() -> tuple[Change, Do]:
    paint = Painter("#version 330\nout vec4 result;\nvoid main() { result = vec4(gl_PointCoord * 0.25, 0.0, 1.0); }\n")
    paint.use()
    GL.glPointSize(40)
    _add_colours()
    origins = GL.GL_LOWER_LEFT, GL.GL_UPPER_LEFT
    paint.place(60, 40, 80, 60)
    return (
        lambda k: GL.glPointParameteri(GL.GL_POINT_SPRITE_COORD_ORIGIN, origins[k]),
        lambda: GL.glDrawArrays(GL.GL_POINTS, 0, 1),
    )


@depends()
def provoking_vertex() -> tuple[Change, Do]:
    vertex = VERTEX.replace("out vec2 uv", "flat out vec2 uv")
    paint = Painter(
        "#version 330\nflat in vec2 uv;\nout vec4 result;\nvoid main() { result = vec4(uv * 0.25, 0.0, 1.0); }\n",
        vertex,
    )
    paint.use().place(16, 16, 100, 100)
    _add_colours()
    modes = GL.GL_FIRST_VERTEX_CONVENTION, GL.GL_LAST_VERTEX_CONVENTION
    return lambda k: GL.glProvokingVertex(modes[k]), paint.draw


@depends()
def restart_index() -> tuple[Change, Do]:
    _adding()
    GL.glEnable(GL.GL_PRIMITIVE_RESTART)
    GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, int(GL.glGenBuffers(1)))
    data = np.array([0, 1, 2, 3], np.uint16)
    GL.glBufferData(GL.GL_ELEMENT_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    return (
        lambda k: GL.glPrimitiveRestartIndex((2, 99)[k]),
        lambda: GL.glDrawElements(GL.GL_TRIANGLE_STRIP, 4, GL.GL_UNSIGNED_SHORT, None),
    )


_PATCH_VERTEX = """#version 400
layout(location=0) in vec2 corner;
void main() { gl_Position = vec4(corner * 1.4 - 0.7, 0, 1); }
"""
_PATCH_FRAGMENT = "#version 400\nout vec4 result;\nvoid main() { result = vec4(0.25, 0.2, 0.1, 1); }\n"
_PATCH_EVALUATION = """#version 400
layout(triangles, equal_spacing, ccw) in;
void main() {
    vec3 t = gl_TessCoord;
    vec4 at = t.x * gl_in[0].gl_Position + t.y * gl_in[1].gl_Position + t.z * gl_in[2].gl_Position;
    gl_Position = vec4(at.xy + vec2(8.0 * t.x * t.y * t.z), 0.0, 1.0);
}
"""


def _patched() -> Do:
    name = link(
        {
            GL.GL_VERTEX_SHADER: _PATCH_VERTEX,
            GL.GL_TESS_EVALUATION_SHADER: _PATCH_EVALUATION,
            GL.GL_FRAGMENT_SHADER: _PATCH_FRAGMENT,
        }
    )
    unit_square()
    GL.glUseProgram(name)
    _add_colours()
    GL.glPatchParameteri(GL.GL_PATCH_VERTICES, 3)
    GL.glPatchParameterfv(GL.GL_PATCH_DEFAULT_INNER_LEVEL, _array(3, 3))
    return lambda: GL.glDrawArrays(GL.GL_PATCHES, 0, 4)


@depends()
def patch_outer_level() -> tuple[Change, Do]:
    do = _patched()
    return lambda k: GL.glPatchParameterfv(GL.GL_PATCH_DEFAULT_OUTER_LEVEL, np.full(4, 2 + 3 * k, np.float32)), do


@depends()
def patch_inner_level() -> tuple[Change, Do]:
    do = _patched()
    return lambda k: GL.glPatchParameterfv(GL.GL_PATCH_DEFAULT_INNER_LEVEL, np.full(2, 3 + 3 * k, np.float32)), do


@depends()
def patch_vertices() -> tuple[Change, Do]:
    do = _patched()
    return lambda k: GL.glPatchParameteri(GL.GL_PATCH_VERTICES, 3 + k), do


# ---- textures and samplers ------------------------------------------------------------------------------

_DIM = """#version 330
uniform sampler2D image;
in vec2 uv;
out vec4 result;
void main() { result = texture(image, uv * 1.5) * 0.25; }
"""


def _two_textures() -> tuple[tuple[int, int], Do]:
    paint = Painter(_DIM)
    random = np.random.default_rng(5)
    names = tuple(texture(8, 8, random.integers(0, 256, (8, 8, 4))) for _ in range(2))
    paint.use().place(16, 16, 112, 88)
    GL.glBindTexture(GL.GL_TEXTURE_2D, names[0])
    _add_colours()
    return (names[0], names[1]), paint.draw


def _names(*names: int) -> np.ndarray:
    return np.array(names, np.uint32)


@depends()
def bind_texture() -> tuple[Change, Do]:
    names, do = _two_textures()
    return lambda k: GL.glBindTexture(GL.GL_TEXTURE_2D, names[k]), do


@depends()
def bind_texture_unit() -> tuple[Change, Do]:
    names, do = _two_textures()
    return lambda k: GL.glBindTextureUnit(0, names[k]), do


@depends()
def bind_textures() -> tuple[Change, Do]:
    names, do = _two_textures()
    return lambda k: GL.glBindTextures(0, 1, _names(names[k])), do


@depends()
def active_texture() -> tuple[Change, Do]:
    """Which unit a texture is bound to that follows."""
    names, do = _two_textures()

    def draw() -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, names[1])
        do()
        GL.glBindTextureUnit(0, names[0])

    return lambda k: GL.glActiveTexture(GL.GL_TEXTURE0 + 2 * k), draw


@depends()
def sampler_uniform() -> tuple[Change, Do]:
    names, do = _two_textures()
    GL.glBindTextureUnit(3, names[1])
    at = GL.glGetUniformLocation(GL.glGetIntegerv(GL.GL_CURRENT_PROGRAM), "image")
    return lambda k: GL.glUniform1i(at, 3 * k), do


def _two_samplers() -> tuple[tuple[int, int], Do]:
    _, do = _two_textures()
    samplers = [int(s) for s in GL.glGenSamplers(2)]
    for sampler, wrap in zip(samplers, (GL.GL_REPEAT, GL.GL_CLAMP_TO_EDGE), strict=True):
        GL.glSamplerParameteri(sampler, GL.GL_TEXTURE_WRAP_S, wrap)
        for which in (GL.GL_TEXTURE_MIN_FILTER, GL.GL_TEXTURE_MAG_FILTER):
            GL.glSamplerParameteri(sampler, which, GL.GL_NEAREST)
    GL.glBindSampler(0, samplers[0])
    return (samplers[0], samplers[1]), do


@depends()
def bind_sampler() -> tuple[Change, Do]:
    names, do = _two_samplers()
    return lambda k: GL.glBindSampler(0, names[k]), do


@depends()
def bind_samplers() -> tuple[Change, Do]:
    names, do = _two_samplers()
    return lambda k: GL.glBindSamplers(0, 1, _names(names[k])), do


_WRAPS = (GL.GL_REPEAT, GL.GL_CLAMP_TO_EDGE)


@depends()
def sampler_parameter() -> tuple[Change, Do]:
    names, do = _two_samplers()
    return lambda k: GL.glSamplerParameteri(names[0], GL.GL_TEXTURE_WRAP_S, _WRAPS[k]), do


@depends()
def texture_parameter() -> tuple[Change, Do]:
    _, do = _two_textures()
    return lambda k: GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_WRAP_S, _WRAPS[k]), do


@depends()
def named_texture_parameter() -> tuple[Change, Do]:
    names, do = _two_textures()
    return lambda k: GL.glTextureParameteri(names[0], GL.GL_TEXTURE_WRAP_S, _WRAPS[k]), do


@depends()
def texture_swizzle() -> tuple[Change, Do]:
    names, do = _two_textures()
    ways = [[GL.GL_RED, GL.GL_GREEN, GL.GL_BLUE, GL.GL_ALPHA], [GL.GL_BLUE, GL.GL_GREEN, GL.GL_RED, GL.GL_ALPHA]]
    return lambda k: GL.glTextureParameteriv(names[0], GL.GL_TEXTURE_SWIZZLE_RGBA, np.array(ways[k], np.int32)), do


def _pixels(k: int) -> np.ndarray:
    return np.random.default_rng(7 + k).integers(0, 256, (8, 8, 4)).astype(np.uint8)


@depends()
def texture_upload() -> tuple[Change, Do]:
    _, do = _two_textures()
    whole = (0, 0, 0, 8, 8, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
    return lambda k: GL.glTexSubImage2D(GL.GL_TEXTURE_2D, *whole, _pixels(k)), do


@depends()
def named_texture_upload() -> tuple[Change, Do]:
    names, do = _two_textures()
    whole = (0, 0, 0, 8, 8, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
    return lambda k: GL.glTextureSubImage2D(names[0], *whole, _pixels(k)), do


@depends()
def clear_of_a_texture() -> tuple[Change, Do]:
    names, do = _two_textures()
    return (
        lambda k: GL.glClearTexImage(
            names[0], 0, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, np.array([200, 80 * k, 9, 255], np.uint8)
        ),
        do,
    )


@depends()
def copy_of_an_image() -> tuple[Change, Do]:
    names, do = _two_textures()
    random = np.random.default_rng(8)
    shown = texture(8, 8, random.integers(0, 256, (8, 8, 4)))
    flat = (GL.GL_TEXTURE_2D, 0, 0, 0, 0)
    return lambda k: GL.glCopyImageSubData(names[k], *flat, shown, *flat, 8, 8, 1), do


@depends()
def unpacking() -> tuple[Change, Do]:
    """How an upload is read that follows."""
    _, do = _two_textures()
    whole = (0, 0, 0, 4, 4, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
    data = _pixels(0)

    def draw() -> None:
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, *whole, data)
        do()

    return lambda k: GL.glPixelStorei(GL.GL_UNPACK_ROW_LENGTH, 8 * k), draw


@depends()
def unpacking_f() -> tuple[Change, Do]:
    _, do = unpacking()
    return lambda k: GL.glPixelStoref(GL.GL_UNPACK_ROW_LENGTH, 8 * k), do


@depends()
def unpacking_from_a_buffer() -> tuple[Change, Do]:
    _, do = _two_textures()
    buffers = [_buffer(_pixels(k)) for k in range(2)]
    whole = (0, 0, 0, 8, 8, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE)
    GL.glBindBuffer(GL.GL_PIXEL_UNPACK_BUFFER, buffers[0])

    def draw() -> None:
        GL.glTexSubImage2D(GL.GL_TEXTURE_2D, *whole, ctypes.c_void_p(0))
        do()

    return lambda k: GL.glBindBuffer(GL.GL_PIXEL_UNPACK_BUFFER, buffers[k]), draw


_STORES = """#version 430
layout(rgba8, binding = 0) uniform readonly image2D image;
out vec4 result;
void main() { result = imageLoad(image, ivec2(gl_FragCoord.xy) % 8) * 0.25; }
"""


def _two_images() -> tuple[tuple[int, int], Do]:
    paint = Painter(_STORES, VERTEX.replace("330", "430"))
    random = np.random.default_rng(5)
    names = tuple(texture(8, 8, random.integers(0, 256, (8, 8, 4))) for _ in range(2))
    paint.use().place(16, 16, 112, 88)
    _add_colours()
    GL.glBindImageTexture(0, names[0], 0, False, 0, GL.GL_READ_ONLY, GL.GL_RGBA8)
    return (names[0], names[1]), paint.draw


@depends()
def bind_image() -> tuple[Change, Do]:
    names, do = _two_images()
    return lambda k: GL.glBindImageTexture(0, names[k], 0, False, 0, GL.GL_READ_ONLY, GL.GL_RGBA8), do


@depends()
def bind_images() -> tuple[Change, Do]:
    names, do = _two_images()
    return lambda k: GL.glBindImageTextures(0, 1, _names(names[k])), do


# ---- buffers --------------------------------------------------------------------------------------------

_BLOCK = """#version 430
layout(std140, binding = 0) uniform Shade { vec4 colour; };
out vec4 result;
void main() { result = colour * 0.25; }
"""


def _buffer(data: np.ndarray) -> int:
    name = int(GL.glGenBuffers(1))
    GL.glBindBuffer(GL.GL_COPY_WRITE_BUFFER, name)
    GL.glBufferData(GL.GL_COPY_WRITE_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    return name


def _long(value: int) -> ctypes.Array[ctypes.c_long]:
    return (ctypes.c_long * 1)(value)


def _values(k: int) -> np.ndarray:
    return _array(*((1, 0.5, 0.25, 1), (0.25, 1, 0.5, 1))[k])


def _two_blocks(kind: str = "uniform") -> tuple[int, tuple[int, int], int, Do]:
    """(program, two buffers, one with the values of both 256 bytes apart, what draws)."""
    text = _BLOCK if kind == "uniform" else _BLOCK.replace("std140", "std430").replace("uniform Shade", "buffer Shade")
    paint = Painter(text, VERTEX.replace("330", "430"))
    paint.use().place(16, 16, 112, 88)
    _add_colours()
    buffers = _buffer(_values(0)), _buffer(_values(1))
    both = _buffer(np.concatenate([_values(0), np.zeros(60, np.float32), _values(1)]))
    where = GL.GL_UNIFORM_BUFFER if kind == "uniform" else GL.GL_SHADER_STORAGE_BUFFER
    GL.glBindBufferBase(where, 0, buffers[0])
    GL.glBindBufferBase(where, 2, buffers[1])
    return paint.program, buffers, both, paint.draw


@depends()
def bind_buffer_base() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()
    return lambda k: GL.glBindBufferBase(GL.GL_UNIFORM_BUFFER, 0, buffers[k]), do


@depends()
def bind_buffer_range() -> tuple[Change, Do]:
    _, _, both, do = _two_blocks()
    return lambda k: GL.glBindBufferRange(GL.GL_UNIFORM_BUFFER, 0, both, 256 * k, 16), do


@depends()
def bind_buffers_base() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()
    return lambda k: GL.glBindBuffersBase(GL.GL_UNIFORM_BUFFER, 0, 1, _names(buffers[k])), do


@depends()
def bind_buffers_range() -> tuple[Change, Do]:
    _, _, both, do = _two_blocks()
    return (
        lambda k: GL.glBindBuffersRange(
            GL.GL_UNIFORM_BUFFER, 0, 1, _names(both), _long(256 * k), (ctypes.c_ulong * 1)(16)
        ),
        do,
    )


@depends()
def uniform_block_binding() -> tuple[Change, Do]:
    name, _, _, do = _two_blocks()
    return lambda k: GL.glUniformBlockBinding(name, 0, 2 * k), do


@depends()
def bind_storage() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks("storage")
    return lambda k: GL.glBindBufferBase(GL.GL_SHADER_STORAGE_BUFFER, 0, buffers[k]), do


@depends()
def storage_block_binding() -> tuple[Change, Do]:
    name, _, _, do = _two_blocks("storage")
    return lambda k: GL.glShaderStorageBlockBinding(name, 0, 2 * k), do


@depends()
def buffer_upload() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()
    GL.glBindBuffer(GL.GL_COPY_WRITE_BUFFER, buffers[0])
    return lambda k: GL.glBufferSubData(GL.GL_COPY_WRITE_BUFFER, 0, 16, _values(k)), do


@depends()
def buffer_anew() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()
    GL.glBindBuffer(GL.GL_COPY_WRITE_BUFFER, buffers[0])
    return lambda k: GL.glBufferData(GL.GL_COPY_WRITE_BUFFER, 16, _values(k), GL.GL_STREAM_DRAW), do


@depends()
def named_buffer_upload() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()
    return lambda k: GL.glNamedBufferSubData(buffers[0], 0, 16, _values(k)), do


@depends()
def buffer_copy() -> tuple[Change, Do]:
    _, buffers, both, do = _two_blocks()
    return lambda k: GL.glCopyNamedBufferSubData(both, buffers[0], 256 * k, 0, 16), do


@depends()
def buffer_clear() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()
    return lambda k: GL.glClearNamedBufferData(buffers[0], GL.GL_RGBA32F, GL.GL_RGBA, GL.GL_FLOAT, _values(k)), do


@depends()
def buffer_mapped() -> tuple[Change, Do]:
    _, buffers, _, do = _two_blocks()

    def change(k: int) -> None:
        at = GL.glMapNamedBufferRange(buffers[0], 0, 16, GL.GL_MAP_WRITE_BIT)
        ctypes.memmove(at, _values(k).tobytes(), 16)
        GL.glUnmapNamedBuffer(buffers[0])

    return change, do


# ---- programs -------------------------------------------------------------------------------------------


@depends()
def use_program() -> tuple[Change, Do]:
    do = _adding()
    first = int(GL.glGetIntegerv(GL.GL_CURRENT_PROGRAM))
    other = Painter(FLAT.replace("= colour", "= colour.bgra"))
    other.use().place(16, 16, 112, 88).set("colour", 0.25, 0.125, 0.0625, 0.5)
    return lambda k: GL.glUseProgram((first, other.program)[k]), do


@depends()
def uniform_value() -> tuple[Change, Do]:
    do = _adding()
    at = GL.glGetUniformLocation(GL.glGetIntegerv(GL.GL_CURRENT_PROGRAM), "colour")
    return lambda k: GL.glUniform4f(at, 0.1 + 0.2 * k, 0.1, 0.1, 1), do


@depends()
def uniform_of_a_program() -> tuple[Change, Do]:
    do = _adding()
    name = int(GL.glGetIntegerv(GL.GL_CURRENT_PROGRAM))
    at = GL.glGetUniformLocation(name, "colour")
    return lambda k: GL.glProgramUniform4fv(name, at, 1, _array(0.1 + 0.2 * k, 0.1, 0.1, 1)), do


@depends()
def subroutine() -> tuple[Change, Do]:
    text = """#version 400
subroutine vec4 Shade();
subroutine uniform Shade shade;
out vec4 result;
subroutine(Shade) vec4 plain() { return vec4(0.25, 0.125, 0.0, 1.0); }
subroutine(Shade) vec4 swapped() { return vec4(0.0, 0.125, 0.25, 1.0); }
void main() { result = shade(); }
"""
    paint = Painter(text, VERTEX.replace("330", "400"))
    paint.use().place(16, 16, 112, 88)
    _add_colours()
    ways = [GL.glGetSubroutineIndex(paint.program, GL.GL_FRAGMENT_SHADER, name) for name in (b"plain", b"swapped")]
    return lambda k: GL.glUniformSubroutinesuiv(GL.GL_FRAGMENT_SHADER, 1, _names(ways[k])), paint.draw


def _stages() -> tuple[int, tuple[int, int], tuple[int, int], Do]:
    """(vertex program, two fragment programs, two pipelines with one each, what draws)."""
    unit_square()

    def alone(kind: int, text: str) -> int:
        shader, name = GL.glCreateShader(kind), int(GL.glCreateProgram())
        GL.glShaderSource(shader, text)
        GL.glCompileShader(shader)
        GL.glProgramParameteri(name, GL.GL_PROGRAM_SEPARABLE, True)
        GL.glAttachShader(name, shader)
        GL.glLinkProgram(name)
        assert GL.glGetProgramiv(name, GL.GL_LINK_STATUS), GL.glGetProgramInfoLog(name)
        return name

    vertex = alone(
        GL.GL_VERTEX_SHADER,
        "#version 430\nlayout(location=0) in vec2 corner;\nout gl_PerVertex { vec4 gl_Position; };\n"
        "void main() { gl_Position = vec4(corner - 0.5, 0.0, 1.0); }\n",
    )
    shades = [
        alone(
            GL.GL_FRAGMENT_SHADER,
            f"#version 430\nlayout(location=0) out vec4 result;\nvoid main() {{ result = vec4({shade}, 1.0); }}\n",
        )
        for shade in ("0.25, 0.1, 0.0", "0.0, 0.1, 0.25")
    ]
    pipelines = [int(p) for p in GL.glGenProgramPipelines(2)]
    for pipeline, shade in zip(pipelines, shades, strict=True):
        GL.glUseProgramStages(pipeline, GL.GL_VERTEX_SHADER_BIT, vertex)
        GL.glUseProgramStages(pipeline, GL.GL_FRAGMENT_SHADER_BIT, shade)
    GL.glUseProgram(0)
    GL.glBindProgramPipeline(pipelines[0])
    _add_colours()
    return (
        vertex,
        (shades[0], shades[1]),
        (pipelines[0], pipelines[1]),
        lambda: GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4),
    )


@depends()
def bind_pipeline() -> tuple[Change, Do]:
    _, _, pipelines, do = _stages()
    return lambda k: GL.glBindProgramPipeline(pipelines[k]), do


@depends()
def stages_of_a_pipeline() -> tuple[Change, Do]:
    _, shades, pipelines, do = _stages()
    return lambda k: GL.glUseProgramStages(pipelines[0], GL.GL_FRAGMENT_SHADER_BIT, shades[k]), do


# ---- vertices -------------------------------------------------------------------------------------------

_SQUARES = (np.array([0, 0, 1, 0, 0, 1, 1, 1], np.float32), np.array([0, 0, 0.5, 0, 0, 0.5, 0.5, 0.5], np.float32))


def _mesh_buffers() -> tuple[tuple[int, int], int, Do]:
    """(two buffers of corners, one with both 32 bytes apart, what draws)."""
    do = _adding()
    return (_buffer(_SQUARES[0]), _buffer(_SQUARES[1])), _buffer(np.concatenate(_SQUARES)), do


@depends()
def bind_vertex_array() -> tuple[Change, Do]:
    do = _adding()
    first = int(GL.glGetIntegerv(GL.GL_VERTEX_ARRAY_BINDING))
    other = unit_square()
    corners(_SQUARES[1])
    return lambda k: GL.glBindVertexArray((first, other)[k]), do


@depends()
def attribute_pointer() -> tuple[Change, Do]:
    buffers, _, do = _mesh_buffers()

    def change(k: int) -> None:
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffers[k])
        GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, None)

    return change, do


@depends()
def attribute_offset() -> tuple[Change, Do]:
    _, both, do = _mesh_buffers()

    def change(k: int) -> None:
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, both)
        GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, ctypes.c_void_p(32 * k))

    return change, do


def _separate() -> tuple[tuple[int, int], int, Do]:
    """The same with a binding point."""
    buffers, both, do = _mesh_buffers()
    GL.glVertexAttribFormat(0, 2, GL.GL_FLOAT, False, 0)
    GL.glVertexAttribBinding(0, 3)
    GL.glBindVertexBuffer(3, both, 0, 8)
    GL.glBindVertexBuffer(5, buffers[1], 0, 8)
    return buffers, both, do


@depends()
def bind_vertex_buffer() -> tuple[Change, Do]:
    buffers, _, do = _separate()
    return lambda k: GL.glBindVertexBuffer(3, buffers[k], 0, 8), do


@depends()
def offset_of_a_vertex_buffer() -> tuple[Change, Do]:
    _, both, do = _separate()
    return lambda k: GL.glBindVertexBuffer(3, both, 32 * k, 8), do


@depends()
def stride_of_a_vertex_buffer() -> tuple[Change, Do]:
    _, both, do = _separate()
    return lambda k: GL.glBindVertexBuffer(3, both, 0, 8 + 8 * k), do


@depends()
def bind_vertex_buffers() -> tuple[Change, Do]:
    buffers, _, do = _separate()
    return (
        lambda k: GL.glBindVertexBuffers(3, 1, _names(buffers[k]), _long(0), np.array([8], np.int32)),
        do,
    )


@depends()
def attribute_binding() -> tuple[Change, Do]:
    _, _, do = _separate()
    return lambda k: GL.glVertexAttribBinding(0, 3 + 2 * k), do


@depends()
def attribute_format() -> tuple[Change, Do]:
    _, _, do = _separate()
    return lambda k: GL.glVertexAttribFormat(0, 2, GL.GL_FLOAT, False, 32 * k), do


def _array_object() -> int:
    return int(GL.glGetIntegerv(GL.GL_VERTEX_ARRAY_BINDING))


@depends()
def vertex_buffer_of_an_array() -> tuple[Change, Do]:
    buffers, _, do = _separate()
    name = _array_object()
    return lambda k: GL.glVertexArrayVertexBuffer(name, 3, buffers[k], 0, 8), do


@depends()
def vertex_buffers_of_an_array() -> tuple[Change, Do]:
    buffers, _, do = _separate()
    name = _array_object()
    return (
        lambda k: GL.glVertexArrayVertexBuffers(name, 3, 1, _names(buffers[k]), _long(0), np.array([8], np.int32)),
        do,
    )


@depends()
def attribute_binding_of_an_array() -> tuple[Change, Do]:
    _, _, do = _separate()
    name = _array_object()
    return lambda k: GL.glVertexArrayAttribBinding(name, 0, 3 + 2 * k), do


@depends()
def attribute_format_of_an_array() -> tuple[Change, Do]:
    _, _, do = _separate()
    name = _array_object()
    return lambda k: GL.glVertexArrayAttribFormat(name, 0, 2, GL.GL_FLOAT, False, 32 * k), do


@depends()
def attribute_switched() -> tuple[Change, Do]:
    do = _adding()
    ways = GL.glDisableVertexAttribArray, GL.glEnableVertexAttribArray
    return lambda k: ways[k](0), do


@depends()
def attribute_of_an_array_switched() -> tuple[Change, Do]:
    do = _adding()
    name, ways = _array_object(), (GL.glDisableVertexArrayAttrib, GL.glEnableVertexArrayAttrib)
    return lambda k: ways[k](name, 0), do


def _instanced() -> Do:
    _adding()
    return lambda: GL.glDrawArraysInstanced(GL.GL_TRIANGLE_STRIP, 0, 4, 1)


@depends()
def attribute_divisor() -> tuple[Change, Do]:
    do = _instanced()
    return lambda k: GL.glVertexAttribDivisor(0, 1 - k), do


@depends()
def binding_divisor() -> tuple[Change, Do]:
    do = _instanced()
    return lambda k: GL.glVertexBindingDivisor(0, 1 - k), do


@depends()
def binding_divisor_of_an_array() -> tuple[Change, Do]:
    do = _instanced()
    name = _array_object()
    return lambda k: GL.glVertexArrayBindingDivisor(name, 0, 1 - k), do


def _indexed() -> tuple[tuple[int, int], Do]:
    _adding()
    buffers = _buffer(np.array([0, 1, 2, 3], np.uint16)), _buffer(np.array([0, 1, 2, 2], np.uint16))
    GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, buffers[0])
    return buffers, lambda: GL.glDrawElements(GL.GL_TRIANGLE_STRIP, 4, GL.GL_UNSIGNED_SHORT, None)


@depends()
def bind_indices() -> tuple[Change, Do]:
    buffers, do = _indexed()
    return lambda k: GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, buffers[k]), do


@depends()
def indices_of_an_array() -> tuple[Change, Do]:
    buffers, do = _indexed()
    name = _array_object()
    return lambda k: GL.glVertexArrayElementBuffer(name, buffers[k]), do


@depends()
def constant_attribute() -> tuple[Change, Do]:
    vertex = VERTEX.replace("uniform vec4 rect", "layout(location=3) in vec4 tint;\nout vec4 seen;\nuniform vec4 rect")
    vertex = vertex.replace("uv = corner", "seen = tint; uv = corner")
    paint = Painter("#version 330\nin vec4 seen;\nout vec4 result;\nvoid main() { result = seen * 0.25; }\n", vertex)
    paint.use().place(16, 16, 112, 88)
    _add_colours()
    return lambda k: GL.glVertexAttrib4f(3, 0.5, 0.5 * k, 0.25, 1), paint.draw


@depends()
def indirect_arguments() -> tuple[Change, Do]:
    _adding()
    buffers = [_buffer(np.array([count, 1, 0, 0], np.uint32)) for count in (3, 4)]
    GL.glBindBuffer(GL.GL_DRAW_INDIRECT_BUFFER, buffers[0])
    return (
        lambda k: GL.glBindBuffer(GL.GL_DRAW_INDIRECT_BUFFER, buffers[k]),
        lambda: GL.glDrawArraysIndirect(GL.GL_TRIANGLE_STRIP, ctypes.c_void_p(0)),
    )


# ---- targets --------------------------------------------------------------------------------------------


def _two_targets() -> tuple[tuple[int, int], tuple[int, int], Do, Do]:
    """(framebuffers, their textures, what draws into the one bound, what shows both)."""
    do = _adding()
    paint = int(GL.glGetIntegerv(GL.GL_CURRENT_PROGRAM))
    first, second = target(), target()

    def show() -> None:
        for k, (framebuffer, _) in enumerate((first, second)):
            GL.glBlitNamedFramebuffer(
                framebuffer, 0, 0, 0, WIDTH, HEIGHT, 80 * k, 0, 80 * k + 80, 60, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST
            )

    GL.glUseProgram(paint)
    return (first[0], second[0]), (first[1], second[1]), do, show


@depends()
def bind_framebuffer() -> tuple[Change, Do]:
    framebuffers, _, draw, show = _two_targets()

    def do() -> None:
        draw()
        show()

    return lambda k: GL.glBindFramebuffer(GL.GL_DRAW_FRAMEBUFFER, framebuffers[k]), do


@depends()
def attachment() -> tuple[Change, Do]:
    framebuffers, textures, draw, show = _two_targets()

    def do() -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffers[0])
        draw()
        show()

    return (
        lambda k: GL.glNamedFramebufferTexture(framebuffers[0], GL.GL_COLOR_ATTACHMENT0, textures[k], 0),
        do,
    )


@depends()
def draw_buffers_of_a_framebuffer() -> tuple[Change, Do]:
    framebuffers, _, draw, show = _two_targets()

    def do() -> None:
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffers[0])
        draw()
        show()

    return (
        lambda k: GL.glNamedFramebufferDrawBuffer(framebuffers[0], (GL.GL_NONE, GL.GL_COLOR_ATTACHMENT0)[k]),
        do,
    )


# ---- the fixed-function pipeline ------------------------------------------------------------------------


def _fixed(shader: str = "", fragment: str = "gl_FragColor = gl_Color * 0.25;") -> Do:
    """A square by fixed arrays, with the pipeline's own shading or such of ours."""
    if shader:
        GL.glUseProgram(
            link(
                {
                    GL.GL_VERTEX_SHADER: f"#version 120\nvoid main() {{ {shader} }}\n",
                    GL.GL_FRAGMENT_SHADER: f"#version 120\nvoid main() {{ {fragment} }}\n",
                }
            )
        )
    _add_colours()
    GL.glColor4f(0.25, 0.2, 0.15, 1)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, _buffer(_SQUARES[0] - np.float32(0.4)))
    GL.glVertexPointer(2, GL.GL_FLOAT, 8, None)
    GL.glEnableClientState(GL.GL_VERTEX_ARRAY)
    return lambda: GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)


_PLAIN = "gl_Position = gl_Vertex; gl_FrontColor = gl_Color;"


def _fixed_one(name: str, change: Change, shader: str = "", fragment: str = "gl_FragColor = gl_Color * 0.25;") -> None:
    def make() -> tuple[Change, Do]:
        do = _fixed(shader, fragment)
        return change, do

    make.__name__ = name
    depends("compatibility")(make)


def _translated(k: int) -> None:
    GL.glLoadIdentity()
    GL.glTranslatef(0.25 * k, 0, 0)


def _stacked(k: int) -> None:
    GL.glPushMatrix()
    GL.glTranslatef(0.1, 0, 0)
    GL.glPopMatrix()
    GL.glLoadMatrixf(np.diag(_array(0.5 + 0.25 * k, 1, 1, 1)))


def _clipped(k: int) -> None:
    GL.glEnable(GL.GL_CLIP_PLANE0)
    GL.glClipPlane(GL.GL_CLIP_PLANE0, np.array([1, 0, 0, 0.3 * k], np.float64))


@depends("compatibility")
def point_attenuation() -> tuple[Change, Do]:
    _fixed()
    GL.glPointSize(40)
    return (
        lambda k: GL.glPointParameterfv(GL.GL_POINT_DISTANCE_ATTENUATION, _array(1 + 8 * k, 0, 0)),
        lambda: GL.glDrawArrays(GL.GL_POINTS, 0, 3),
    )


_fixed_one("current_color", lambda k: GL.glColor4f(0.1 + 0.2 * k, 0.2, 0.1, 1))
_fixed_one("current_color_read_by_a_shader", lambda k: GL.glColor4f(0.1 + 0.4 * k, 0.2, 0.1, 1), _PLAIN)
_fixed_one(
    "texture_coordinate_read_by_a_shader",
    lambda k: GL.glMultiTexCoord4f(GL.GL_TEXTURE1, 0.3 * k, 0.3, 0, 1),
    "gl_Position = gl_Vertex; gl_FrontColor = gl_MultiTexCoord1;",
)
_fixed_one("matrix", _translated)
_fixed_one("matrix_of_a_shader", _translated, "gl_Position = gl_ModelViewMatrix * gl_Vertex; gl_FrontColor = gl_Color;")
_fixed_one("matrix_by_ftransform", _stacked, "gl_Position = ftransform(); gl_FrontColor = gl_Color;")
_fixed_one(
    "light_of_a_shader",
    lambda k: GL.glLightfv(GL.GL_LIGHT0, GL.GL_DIFFUSE, _array(0.3, 0.3 * k, 0.1, 1)),
    "gl_Position = gl_Vertex; gl_FrontColor = gl_LightSource[0].diffuse;",
)
_fixed_one(
    "material_of_a_shader",
    lambda k: GL.glMaterialfv(_BOTH, GL.GL_DIFFUSE, _array(0.3, 0.3 * k, 0.1, 1)),
    "gl_Position = gl_Vertex; gl_FrontColor = gl_FrontMaterial.diffuse;",
)
_fixed_one(
    "fog_of_a_shader",
    lambda k: GL.glFogfv(GL.GL_FOG_COLOR, _array(0.3, 0.3 * k, 0.1, 1)),
    _PLAIN,
    "gl_FragColor = gl_Fog.color * 0.5;",
)
_fixed_one(
    "clip_plane_of_a_shader",
    _clipped,
    "gl_Position = gl_Vertex; gl_ClipVertex = gl_Vertex; gl_FrontColor = gl_Color;",
)
_fixed_one(
    "shade_model_of_a_shader",
    lambda k: GL.glShadeModel((GL.GL_FLAT, GL.GL_SMOOTH)[k]),
    "gl_Position = gl_Vertex; gl_FrontColor = vec4(gl_Vertex.xy + 0.5, 0.2, 1.0);",
)
_fixed_one(
    "clamp_of_vertex_colors",
    lambda k: GL.glClampColor(GL.GL_CLAMP_VERTEX_COLOR, (False, True)[k]),
    "gl_Position = gl_Vertex; gl_FrontColor = vec4(2.0, 0.5, 1.5, 1.0);",
)
_fixed_one("vertex_pointer", lambda k: GL.glVertexPointer(2, GL.GL_FLOAT, 8 + 8 * k, None), _PLAIN)
_fixed_one("client_state", lambda k: (GL.glDisableClientState, GL.glEnableClientState)[k](GL.GL_VERTEX_ARRAY), _PLAIN)
_fixed_one("light_model", lambda k: GL.glLightModelfv(GL.GL_LIGHT_MODEL_AMBIENT, _array(0.1 + 0.3 * k, 0.2, 0.2, 1)))
_fixed_one("lighting", lambda k: (GL.glDisable, GL.glEnable)[k](GL.GL_LIGHTING))
_fixed_one(
    "texture_environment",
    lambda k: GL.glTexEnvi(GL.GL_TEXTURE_ENV, GL.GL_TEXTURE_ENV_MODE, (GL.GL_ADD, GL.GL_MODULATE)[k]),
)
