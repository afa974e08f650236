"""The one table of context state: what there is, how it is read, how it is set again, which calls change it.

The snapshot reads by it, the replay restores by it, and the state tracker folds calls by it.
A pattern is a family of state keys: `blend_func` has one key for each draw buffer, `texture` one for
each unit and target. A key is (pattern, i, j), with 0 for indices that a pattern does not have.

In setters, a source is a parameter name, an int, `@pattern`: the current value of another key, or an element of the
array that a parameter points to: `name[2]`, or for setters of many `name[*]` and, of arrays of vectors, `name[4*+2]`.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from wendascope.registry import GL

Source = str | int
DRAW_BUFFERS = 8
VIEWPORTS = 16
FACES = (GL.FRONT, GL.BACK)
_ONE = 0x3F800000
"""1.0 as raw bits."""

CAPABILITIES = (
    "COLOR_LOGIC_OP CULL_FACE DEPTH_TEST DEPTH_CLAMP DITHER FRAMEBUFFER_SRGB LINE_SMOOTH MULTISAMPLE"
    " POLYGON_OFFSET_FILL POLYGON_OFFSET_LINE POLYGON_OFFSET_POINT POLYGON_SMOOTH PRIMITIVE_RESTART"
    " PRIMITIVE_RESTART_FIXED_INDEX RASTERIZER_DISCARD SAMPLE_ALPHA_TO_COVERAGE SAMPLE_ALPHA_TO_ONE SAMPLE_COVERAGE"
    " SAMPLE_SHADING SAMPLE_MASK STENCIL_TEST VERTEX_PROGRAM_TWO_SIDE POINT_SPRITE ALPHA_TEST FOG LIGHTING"
    " COLOR_MATERIAL NORMALIZE RESCALE_NORMAL POINT_SMOOTH LINE_STIPPLE POLYGON_STIPPLE COLOR_SUM AUTO_NORMAL"
    " INDEX_LOGIC_OP LIGHT0 LIGHT1 LIGHT2 LIGHT3 LIGHT4 LIGHT5 LIGHT6 LIGHT7 VERTEX_PROGRAM_ARB FRAGMENT_PROGRAM_ARB"
    " TEXTURE_CUBE_MAP_SEAMLESS PROGRAM_POINT_SIZE CLIP_DISTANCE0 CLIP_DISTANCE1 CLIP_DISTANCE2 CLIP_DISTANCE3"
    " CLIP_DISTANCE4 CLIP_DISTANCE5 CLIP_DISTANCE6 CLIP_DISTANCE7"
).split()
_INDEXED_CAPABILITIES = {"BLEND": DRAW_BUFFERS, "SCISSOR_TEST": VIEWPORTS}

TEXTURE_TARGETS = {
    # target: what it is bound by
    "TEXTURE_1D": "TEXTURE_BINDING_1D",
    "TEXTURE_2D": "TEXTURE_BINDING_2D",
    "TEXTURE_3D": "TEXTURE_BINDING_3D",
    "TEXTURE_1D_ARRAY": "TEXTURE_BINDING_1D_ARRAY",
    "TEXTURE_2D_ARRAY": "TEXTURE_BINDING_2D_ARRAY",
    "TEXTURE_RECTANGLE": "TEXTURE_BINDING_RECTANGLE",
    "TEXTURE_CUBE_MAP": "TEXTURE_BINDING_CUBE_MAP",
    "TEXTURE_CUBE_MAP_ARRAY": "TEXTURE_BINDING_CUBE_MAP_ARRAY",
    "TEXTURE_BUFFER": "TEXTURE_BINDING_BUFFER",
    "TEXTURE_2D_MULTISAMPLE": "TEXTURE_BINDING_2D_MULTISAMPLE",
    "TEXTURE_2D_MULTISAMPLE_ARRAY": "TEXTURE_BINDING_2D_MULTISAMPLE_ARRAY",
}
BUFFER_TARGETS = {
    # target: what glGet calls its binding
    "ARRAY_BUFFER": "ARRAY_BUFFER_BINDING",
    "COPY_READ_BUFFER": "COPY_READ_BUFFER",
    "COPY_WRITE_BUFFER": "COPY_WRITE_BUFFER",
    "PIXEL_PACK_BUFFER": "PIXEL_PACK_BUFFER_BINDING",
    "PIXEL_UNPACK_BUFFER": "PIXEL_UNPACK_BUFFER_BINDING",
    "TEXTURE_BUFFER": "TEXTURE_BUFFER",
    "DRAW_INDIRECT_BUFFER": "DRAW_INDIRECT_BUFFER_BINDING",
    "DISPATCH_INDIRECT_BUFFER": "DISPATCH_INDIRECT_BUFFER_BINDING",
    "QUERY_BUFFER": "QUERY_BUFFER_BINDING",
    "UNIFORM_BUFFER": "UNIFORM_BUFFER_BINDING",
    "SHADER_STORAGE_BUFFER": "SHADER_STORAGE_BUFFER_BINDING",
    "ATOMIC_COUNTER_BUFFER": "ATOMIC_COUNTER_BUFFER_BINDING",
    "TRANSFORM_FEEDBACK_BUFFER": "TRANSFORM_FEEDBACK_BUFFER_BINDING",
    "PARAMETER_BUFFER": "PARAMETER_BUFFER_BINDING",
}
INDEXED_BUFFER_TARGETS = {
    # target: (binding, start, size, limit)
    "UNIFORM_BUFFER": (
        "UNIFORM_BUFFER_BINDING",
        "UNIFORM_BUFFER_START",
        "UNIFORM_BUFFER_SIZE",
        "MAX_UNIFORM_BUFFER_BINDINGS",
    ),
    "SHADER_STORAGE_BUFFER": (
        "SHADER_STORAGE_BUFFER_BINDING",
        "SHADER_STORAGE_BUFFER_START",
        "SHADER_STORAGE_BUFFER_SIZE",
        "MAX_SHADER_STORAGE_BUFFER_BINDINGS",
    ),
    "ATOMIC_COUNTER_BUFFER": (
        "ATOMIC_COUNTER_BUFFER_BINDING",
        "ATOMIC_COUNTER_BUFFER_START",
        "ATOMIC_COUNTER_BUFFER_SIZE",
        "MAX_ATOMIC_COUNTER_BUFFER_BINDINGS",
    ),
    "TRANSFORM_FEEDBACK_BUFFER": (
        "TRANSFORM_FEEDBACK_BUFFER_BINDING",
        "TRANSFORM_FEEDBACK_BUFFER_START",
        "TRANSFORM_FEEDBACK_BUFFER_SIZE",
        "MAX_TRANSFORM_FEEDBACK_SEPARATE_ATTRIBS",
    ),
}
INDEXED = {
    # pattern: the command that sets it by index, where the context has that
    "blend_func": "glBlendFuncSeparatei",
    "blend_equation": "glBlendEquationSeparatei",
    "color_mask": "glColorMaski",
    "depth_range": "glDepthRangeIndexed",
    "viewport": "glViewportIndexedf",
    "scissor": "glScissorIndexed",
    "sample_mask": "glSampleMaski",
}
_PIXEL_STORE = (
    "SWAP_BYTES",
    "LSB_FIRST",
    "ROW_LENGTH",
    "IMAGE_HEIGHT",
    "SKIP_PIXELS",
    "SKIP_ROWS",
    "SKIP_IMAGES",
    "ALIGNMENT",
)
PACK_STORE = tuple(f"PACK_{what}" for what in _PIXEL_STORE)
UNPACK_STORE = tuple(f"UNPACK_{what}" for what in _PIXEL_STORE)
PIXEL_STORE = PACK_STORE + UNPACK_STORE


@dataclass(frozen=True)
class Setter:
    """How one command changes a pattern: where its indices and values come from.

    `unless` leaves calls out. `spread` repeats the change over every value of the first index; `faces` reads a face
    parameter that may name both faces (`*` for both always) or both framebuffer targets; `when` is a parameter and
    the only value of it that the setter applies to.
    """

    values: tuple[Source, ...]
    index: tuple[Source, ...] = ()
    spread: int = 0
    faces: str = ""
    when: tuple[str, int] | None = None
    unless: tuple[int, ...] = ()
    """Values of the first index that another pattern takes."""
    many: tuple[str, str] | None = None
    """The parameters that say which is the first of several and how many there are. `+first` as an index counts on
    from the first.
    """
    own_target: bool = False
    """The value is a texture that is bound to the target it was made for, the index a unit counted from 0."""


@dataclass(frozen=True)
class Pattern:
    """One family of state keys.

    `kinds` has a letter a value: e enum, i int, f float, b bool, o object name, d double,
    p pointer (two slots), r raw. `read` are the names that glGet takes, `write` the command that takes the
    indices and then the values.
    """

    name: str
    kinds: str
    setters: Mapping[str, Setter]
    read: tuple[str, ...] = ()
    write: str = ""
    domain: tuple[tuple[int, int], ...] = ((0, 0),)
    array_of: int = 0
    """What `write` takes ahead of the values, which it takes as one array; 0 where it takes them one by one."""
    indices: int = 0
    object_class: str = ""
    labels: tuple[str, ...] = ()
    """A word for each value, where the pattern's name is not enough."""


@dataclass
class _Table:
    patterns: dict[str, Pattern] = field(default_factory=dict)

    def add(self, name: str, kinds: str, setters: Mapping[str, Setter], **rest: object) -> None:
        self.patterns[name] = Pattern(name, kinds, setters, **rest)  # type: ignore[arg-type]


def decoded(kind: str, raw: int) -> float:
    """A raw value as a command takes it: floats and doubles from their bits, everything else as it is."""
    if kind == "f":
        return float(struct.unpack("<f", struct.pack("<I", raw & 0xFFFFFFFF))[0])
    if kind == "d":
        return float(struct.unpack("<d", struct.pack("<Q", raw & (1 << 64) - 1))[0])
    return raw


def _simple(command: str, *parameters: Source) -> dict[str, Setter]:
    return {command: Setter(parameters)}


def _numbers(count: int) -> tuple[tuple[int, int], ...]:
    return tuple((i, 0) for i in range(count))


def _build() -> dict[str, Pattern]:
    table = _Table()
    add = table.add

    # capabilities: (capability, draw buffer or viewport)
    indexed = tuple(getattr(GL, cap) for cap in _INDEXED_CAPABILITIES)
    add(
        "capability", "b",
        {
            "glEnable": Setter((1,), ("cap",), unless=indexed),
            "glDisable": Setter((0,), ("cap",), unless=indexed),
        },
        domain=tuple((getattr(GL, c), 0) for c in CAPABILITIES), indices=1,
    )  # fmt: skip
    for cap, count in _INDEXED_CAPABILITIES.items():
        add(
            f"{cap.lower()}_enabled", "b",
            {
                "glEnable": Setter((1,), (0,), spread=count, when=("cap", getattr(GL, cap))),
                "glDisable": Setter((0,), (0,), spread=count, when=("cap", getattr(GL, cap))),
                "glEnablei": Setter((1,), ("index",), when=("target", getattr(GL, cap))),
                "glDisablei": Setter((0,), ("index",), when=("target", getattr(GL, cap))),
            },
            domain=_numbers(count), indices=1,
        )  # fmt: skip

    # blending and colour output, per draw buffer
    buffers = {"domain": _numbers(DRAW_BUFFERS), "indices": 1}
    add(
        "blend_func", "eeee",
        {
            "glBlendFunc": Setter(("sfactor", "dfactor", "sfactor", "dfactor"), (0,), spread=DRAW_BUFFERS),
            "glBlendFuncSeparate": Setter(
                ("sfactorRGB", "dfactorRGB", "sfactorAlpha", "dfactorAlpha"), (0,), spread=DRAW_BUFFERS
            ),
            "glBlendFunci": Setter(("src", "dst", "src", "dst"), ("buf",)),
            "glBlendFuncSeparatei": Setter(("srcRGB", "dstRGB", "srcAlpha", "dstAlpha"), ("buf",)),
        },
        read=("BLEND_SRC_RGB", "BLEND_DST_RGB", "BLEND_SRC_ALPHA", "BLEND_DST_ALPHA"),
        write="glBlendFuncSeparatei", labels=("source", "destination", "source alpha", "destination alpha"), **buffers,
    )  # fmt: skip
    add(
        "blend_equation", "ee",
        {
            "glBlendEquation": Setter(("mode", "mode"), (0,), spread=DRAW_BUFFERS),
            "glBlendEquationSeparate": Setter(("modeRGB", "modeAlpha"), (0,), spread=DRAW_BUFFERS),
            "glBlendEquationi": Setter(("mode", "mode"), ("buf",)),
            "glBlendEquationSeparatei": Setter(("modeRGB", "modeAlpha"), ("buf",)),
        },
        read=("BLEND_EQUATION_RGB", "BLEND_EQUATION_ALPHA"), write="glBlendEquationSeparatei",
        labels=("colour", "alpha"), **buffers,
    )  # fmt: skip
    add(
        "color_mask", "bbbb",
        {
            "glColorMask": Setter(("red", "green", "blue", "alpha"), (0,), spread=DRAW_BUFFERS),
            "glColorMaski": Setter(("r", "g", "b", "a"), ("index",)),
        },
        read=("COLOR_WRITEMASK",), write="glColorMaski", labels=("red", "green", "blue", "alpha"), **buffers,
    )  # fmt: skip
    add(
        "blend_color",
        "ffff",
        _simple("glBlendColor", "red", "green", "blue", "alpha"),
        read=("BLEND_COLOR",),
        write="glBlendColor",
    )
    add(
        "alpha_func", "ef", _simple("glAlphaFunc", "func", "ref"),
        read=("ALPHA_TEST_FUNC", "ALPHA_TEST_REF"), write="glAlphaFunc", labels=("function", "reference"),
    )  # fmt: skip
    add("logic_op", "e", _simple("glLogicOp", "opcode"), read=("LOGIC_OP_MODE",), write="glLogicOp")

    # depth and stencil
    add("depth_func", "e", _simple("glDepthFunc", "func"), read=("DEPTH_FUNC",), write="glDepthFunc")
    add("depth_mask", "b", _simple("glDepthMask", "flag"), read=("DEPTH_WRITEMASK",), write="glDepthMask")
    add(
        "depth_range", "dd",
        {
            "glDepthRange": Setter(("n", "f"), (0,), spread=VIEWPORTS),
            "glDepthRangef": Setter(("n", "f"), (0,), spread=VIEWPORTS),
            "glDepthRangeArrayv": Setter(("v[2*]", "v[2*+1]"), ("+first",), many=("first", "count")),
            "glDepthRangeIndexed": Setter(("n", "f"), ("index",)),
        },
        domain=_numbers(VIEWPORTS), indices=1, read=("DEPTH_RANGE",), write="glDepthRangeIndexed",
    )  # fmt: skip
    faces = {"domain": tuple((face, 0) for face in FACES), "indices": 1}
    add(
        "stencil_func", "eii",
        {
            "glStencilFunc": Setter(("func", "ref", "mask"), (), faces="*"),
            "glStencilFuncSeparate": Setter(("func", "ref", "mask"), (), faces="face"),
        },
        read=("STENCIL_FUNC", "STENCIL_REF", "STENCIL_VALUE_MASK"), write="glStencilFuncSeparate",
        labels=("function", "reference", "mask"), **faces,
    )  # fmt: skip
    add(
        "stencil_op", "eee",
        {
            "glStencilOp": Setter(("fail", "zfail", "zpass"), (), faces="*"),
            "glStencilOpSeparate": Setter(("sfail", "dpfail", "dppass"), (), faces="face"),
        },
        read=("STENCIL_FAIL", "STENCIL_PASS_DEPTH_FAIL", "STENCIL_PASS_DEPTH_PASS"), write="glStencilOpSeparate",
        labels=("stencil fails", "depth fails", "passes"), **faces,
    )  # fmt: skip
    add(
        "stencil_mask", "i",
        {
            "glStencilMask": Setter(("mask",), (), faces="*"),
            "glStencilMaskSeparate": Setter(("mask",), (), faces="face"),
        },
        read=("STENCIL_WRITEMASK",), write="glStencilMaskSeparate", **faces,
    )  # fmt: skip

    # rasterisation
    add("cull_face_mode", "e", _simple("glCullFace", "mode"), read=("CULL_FACE_MODE",), write="glCullFace")
    add("front_face", "e", _simple("glFrontFace", "mode"), read=("FRONT_FACE",), write="glFrontFace")
    add("polygon_mode", "e", _simple("glPolygonMode", "mode"), read=("POLYGON_MODE",))
    add(
        "polygon_offset", "ff",
        {name: Setter(("factor", "units")) for name in ("glPolygonOffset", "glPolygonOffsetClamp")},
        read=("POLYGON_OFFSET_FACTOR", "POLYGON_OFFSET_UNITS"), write="glPolygonOffset", labels=("factor", "units"),
    )  # fmt: skip
    add(
        "polygon_offset_clamp", "f", {"glPolygonOffset": Setter((0,)), "glPolygonOffsetClamp": Setter(("clamp",))},
        read=("POLYGON_OFFSET_CLAMP",),
    )  # fmt: skip
    add("line_width", "f", _simple("glLineWidth", "width"), read=("LINE_WIDTH",), write="glLineWidth")
    add("point_size", "f", _simple("glPointSize", "size"), read=("POINT_SIZE",), write="glPointSize")
    points = ("POINT_SIZE_MIN", "POINT_SIZE_MAX", "POINT_FADE_THRESHOLD_SIZE", "POINT_SPRITE_COORD_ORIGIN")
    add(
        "point_parameter", "f",
        {
            "glPointParameterf": Setter(("param",), ("pname",)),
            "glPointParameteri": Setter(("param",), ("pname",)),
            "glPointParameterfv": Setter(("params[0]",), ("pname",)),
            "glPointParameteriv": Setter(("params[0]",), ("pname",)),
        },
        domain=tuple((getattr(GL, name), 0) for name in points), indices=1, read=("",), write="glPointParameterf",
    )  # fmt: skip
    attenuation = ("pname", int(GL.POINT_DISTANCE_ATTENUATION))
    add(
        "point_attenuation", "fff",
        {
            name: Setter(tuple(f"params[{k}]" for k in range(3)), when=attenuation)
            for name in ("glPointParameterfv", "glPointParameteriv")
        },
        read=("POINT_DISTANCE_ATTENUATION",), write="glPointParameterfv", array_of=attenuation[1],
    )  # fmt: skip
    add("shade_model", "e", _simple("glShadeModel", "mode"), read=("SHADE_MODEL",), write="glShadeModel")
    add(
        "line_stipple", "ii", _simple("glLineStipple", "factor", "pattern"),
        read=("LINE_STIPPLE_REPEAT", "LINE_STIPPLE_PATTERN"), write="glLineStipple", labels=("factor", "pattern"),
    )  # fmt: skip
    add(
        "clamp_color", "e", {"glClampColor": Setter(("clamp",), ("target",))},
        domain=tuple((getattr(GL, f"CLAMP_{name}_COLOR"), 0) for name in ("VERTEX", "FRAGMENT", "READ")),
        indices=1, read=("",), write="glClampColor",
    )  # fmt: skip
    corners = tuple(f"{side}{axis}" for side in ("min", "max") for axis in "XYZW")
    add(
        "primitive_bounding_box", "f" * 8, _simple("glPrimitiveBoundingBox", *corners),
        read=("PRIMITIVE_BOUNDING_BOX",), write="glPrimitiveBoundingBox",
    )  # fmt: skip
    add(
        "provoking_vertex",
        "e",
        _simple("glProvokingVertex", "mode"),
        read=("PROVOKING_VERTEX",),
        write="glProvokingVertex",
    )
    add(
        "sample_coverage",
        "fb",
        _simple("glSampleCoverage", "value", "invert"),
        read=("SAMPLE_COVERAGE_VALUE", "SAMPLE_COVERAGE_INVERT"),
        write="glSampleCoverage",
        labels=("value", "inverted"),
    )
    add(
        "sample_mask", "i", {"glSampleMaski": Setter(("mask",), ("maskNumber",))},
        domain=((0, 0),), indices=1, read=("SAMPLE_MASK_VALUE",), write="glSampleMaski",
    )  # fmt: skip
    add(
        "min_sample_shading",
        "f",
        _simple("glMinSampleShading", "value"),
        read=("MIN_SAMPLE_SHADING_VALUE",),
        write="glMinSampleShading",
    )
    add(
        "primitive_restart_index",
        "i",
        _simple("glPrimitiveRestartIndex", "index"),
        read=("PRIMITIVE_RESTART_INDEX",),
        write="glPrimitiveRestartIndex",
    )
    add(
        "clip_control",
        "ee",
        _simple("glClipControl", "origin", "depth"),
        read=("CLIP_ORIGIN", "CLIP_DEPTH_MODE"),
        write="glClipControl",
        labels=("origin", "depth"),
    )
    rectangle = {"domain": _numbers(VIEWPORTS), "indices": 1, "labels": ("x", "y", "width", "height")}
    add(
        "viewport", "ffff",
        {
            "glViewport": Setter(("x", "y", "width", "height"), (0,), spread=VIEWPORTS),
            "glViewportIndexedf": Setter(("x", "y", "w", "h"), ("index",)),
            "glViewportIndexedfv": Setter(tuple(f"v[{k}]" for k in range(4)), ("index",)),
            "glViewportArrayv": Setter(_four("v"), ("+first",), many=("first", "count")),
        },
        read=("VIEWPORT",), write="glViewportIndexedf", **rectangle,
    )  # fmt: skip
    add(
        "scissor", "iiii",
        {
            "glScissor": Setter(("x", "y", "width", "height"), (0,), spread=VIEWPORTS),
            "glScissorIndexed": Setter(("left", "bottom", "width", "height"), ("index",)),
            "glScissorIndexedv": Setter(tuple(f"v[{k}]" for k in range(4)), ("index",)),
            "glScissorArrayv": Setter(_four("v"), ("+first",), many=("first", "count")),
        },
        read=("SCISSOR_BOX",), write="glScissorIndexed", **rectangle,
    )  # fmt: skip
    add(
        "patch_parameter", "i", {"glPatchParameteri": Setter(("value",), ("pname",))},
        domain=((GL.PATCH_VERTICES, 0),), indices=1, read=("",), write="glPatchParameteri",
    )  # fmt: skip
    for which, count in (("outer", 4), ("inner", 2)):
        levels = getattr(GL, f"PATCH_DEFAULT_{which.upper()}_LEVEL")
        add(
            f"patch_{which}_levels", "f" * count,
            {
                "glPatchParameterfv": Setter(
                    tuple(f"values[{k}]" for k in range(count)), when=("pname", levels)
                )
            },
            read=(f"PATCH_DEFAULT_{which.upper()}_LEVEL",), write="glPatchParameterfv", array_of=levels,
        )  # fmt: skip
    add(
        "clear_color",
        "ffff",
        _simple("glClearColor", "red", "green", "blue", "alpha"),
        read=("COLOR_CLEAR_VALUE",),
        write="glClearColor",
    )
    add(
        "clear_depth", "d", {"glClearDepth": Setter(("depth",)), "glClearDepthf": Setter(("d",))},
        read=("DEPTH_CLEAR_VALUE",), write="glClearDepth",
    )  # fmt: skip
    add("clear_stencil", "i", _simple("glClearStencil", "s"), read=("STENCIL_CLEAR_VALUE",), write="glClearStencil")
    add(
        "pixel_store", "i",
        {name: Setter(("param",), ("pname",)) for name in ("glPixelStorei", "glPixelStoref")},
        domain=tuple((getattr(GL, name), 0) for name in PIXEL_STORE), indices=1, read=("",), write="glPixelStorei",
    )  # fmt: skip
    add(
        "hint",
        "e",
        {"glHint": Setter(("mode",), ("target",))},
        domain=tuple(
            (getattr(GL, h), 0)
            for h in (
                "FRAGMENT_SHADER_DERIVATIVE_HINT",
                "TEXTURE_COMPRESSION_HINT",
                "LINE_SMOOTH_HINT",
                "POLYGON_SMOOTH_HINT",
                "POINT_SMOOTH_HINT",
                "FOG_HINT",
                "PERSPECTIVE_CORRECTION_HINT",
                "GENERATE_MIPMAP_HINT",
            )
        ),
        indices=1,
        read=("",),
        write="glHint",
    )

    # bindings
    add("active_texture", "e", _simple("glActiveTexture", "texture"), read=("ACTIVE_TEXTURE",), write="glActiveTexture")
    add(
        "texture", "o",
        {
            "glBindTexture": Setter(("texture",), ("@active_texture", "target")),
            "glBindTextureUnit": Setter(("texture",), ("unit",), own_target=True),
            "glBindTextures": Setter(("textures[*]",), ("+first",), many=("first", "count"), own_target=True),
        },
        indices=2, object_class="texture",
    )  # fmt: skip
    add(
        "sampler", "o",
        {
            "glBindSampler": Setter(("sampler",), ("unit",)),
            "glBindSamplers": Setter(("samplers[*]",), ("+first",), many=("first", "count")),
        },
        indices=1, object_class="sampler",
    )  # fmt: skip
    add(
        "image", "oibiee",
        {
            "glBindImageTexture": Setter(("texture", "level", "layered", "layer", "access", "format"), ("unit",)),
            # with the format of each texture, which is not among the arguments
            "glBindImageTextures": Setter(
                ("textures[*]", 0, 1, 0, GL.READ_WRITE, 0), ("+first",), many=("first", "count")
            ),
        },
        indices=1, labels=("texture", "level", "layered", "layer", "access", "format"), object_class="texture",
    )  # fmt: skip
    # binding to an index binds to the target as well
    binds = {
        name: Setter(("buffer",), ("target",)) for name in ("glBindBuffer", "glBindBufferBase", "glBindBufferRange")
    }
    add("buffer", "o", binds, indices=1, object_class="buffer")
    add(
        "indexed_buffer", "oii",
        {
            "glBindBufferBase": Setter(("buffer", 0, 0), ("target", "index")),
            "glBindBufferRange": Setter(("buffer", "offset", "size"), ("target", "index")),
            "glBindBuffersBase": Setter(("buffers[*]", 0, 0), ("target", "+first"), many=("first", "count")),
            "glBindBuffersRange": Setter(
                ("buffers[*]", "offsets[*]", "sizes[*]"), ("target", "+first"), many=("first", "count")
            ),
        },
        indices=2, labels=("buffer", "offset", "size"), object_class="buffer",
    )  # fmt: skip
    add(
        "program",
        "o",
        {"glUseProgram": Setter(("program",))},
        read=("CURRENT_PROGRAM",),
        write="glUseProgram",
        object_class="program",
    )
    add(
        "pipeline", "o", {"glBindProgramPipeline": Setter(("pipeline",))},
        read=("PROGRAM_PIPELINE_BINDING",), write="glBindProgramPipeline", object_class="program pipeline",
    )  # fmt: skip
    add(
        "transform_feedback", "o", {"glBindTransformFeedback": Setter(("id",))},
        read=("TRANSFORM_FEEDBACK_BINDING",), object_class="transform feedback",
    )  # fmt: skip
    add(
        "vertex_array",
        "o",
        {"glBindVertexArray": Setter(("array",))},
        read=("VERTEX_ARRAY_BINDING",),
        write="glBindVertexArray",
        object_class="vertex array",
    )
    add("drawable", "i", _simple("wendaDrawable", "drawable"))
    add(
        "framebuffer",
        "o",
        {
            name: Setter(("framebuffer",), (), faces="framebuffer")
            for name in ("glBindFramebuffer", "glBindFramebufferEXT")
        },
        indices=1,
        object_class="framebuffer",
    )
    renderbuffers = {name: Setter(("renderbuffer",)) for name in ("glBindRenderbuffer", "glBindRenderbufferEXT")}
    add("renderbuffer", "o", renderbuffers, read=("RENDERBUFFER_BINDING",), object_class="renderbuffer")

    # state of objects that draws depend on (read from the objects, not by glGet)
    _add_vertex_arrays(add)
    add(
        "draw_buffers", "e" * DRAW_BUFFERS,
        {
            "glDrawBuffer": Setter(("buf", *(0,) * (DRAW_BUFFERS - 1)), ("@framebuffer:DRAW_FRAMEBUFFER",)),
            "glDrawBuffers": Setter(_chosen("bufs"), ("@framebuffer:DRAW_FRAMEBUFFER",)),
            "glNamedFramebufferDrawBuffer": Setter(("buf", *(0,) * (DRAW_BUFFERS - 1)), ("framebuffer",)),
            "glNamedFramebufferDrawBuffers": Setter(_chosen("bufs"), ("framebuffer",)),
        },
        indices=1,
    )  # fmt: skip
    add("uniform", "rrrr", _uniform_setters(), indices=2)
    add(
        "block_binding",
        "i",
        {"glUniformBlockBinding": Setter(("uniformBlockBinding",), ("program", "uniformBlockIndex"))},
        indices=2,
    )
    add(
        "storage_binding", "i",
        {"glShaderStorageBlockBinding": Setter(("storageBlockBinding",), ("program", "storageBlockIndex"))},
        indices=2,
    )  # fmt: skip
    return table.patterns


def _four(array: str) -> tuple[Source, ...]:
    return tuple(f"{array}[4*+{k}]" for k in range(4))


def _chosen(array: str) -> tuple[Source, ...]:
    return tuple(f"{array}[{k}]" for k in range(DRAW_BUFFERS))


def _add_vertex_arrays(add: Callable[..., None]) -> None:
    """Where the attributes of each vertex array come from: the layout of an attribute, the binding point that it takes,
    and what is bound there. The older commands set all three.
    """
    bound, named = "@vertex_array", "vaobj"
    layouts: dict[str, Setter] = {}
    points: dict[str, Setter] = {}
    buffers: dict[str, Setter] = {}
    divisors: dict[str, Setter] = {}
    switches: dict[str, Setter] = {}
    for letter, normalized, integer in (("", "normalized", 0), ("I", 0, 1), ("L", 0, 0)):
        pointer = f"glVertexAttrib{letter}Pointer"
        layouts[pointer] = Setter(("size", "type", normalized, 0, integer), (bound, "index"))
        points[pointer] = Setter(("index",), (bound, "index"))
        buffers[pointer] = Setter(("@buffer:ARRAY_BUFFER", "pointer", "stride"), (bound, "index"))
        given = ("size", "type", normalized, "relativeoffset", integer)
        layouts[f"glVertexAttrib{letter}Format"] = Setter(given, (bound, "attribindex"))
        layouts[f"glVertexArrayAttrib{letter}Format"] = Setter(given, (named, "attribindex"))
    points["glVertexAttribBinding"] = Setter(("bindingindex",), (bound, "attribindex"))
    points["glVertexArrayAttribBinding"] = Setter(("bindingindex",), (named, "attribindex"))
    points["glVertexAttribDivisor"] = Setter(("index",), (bound, "index"))
    one, several = ("buffer", 0, "offset", "stride"), ("buffers[*]", 0, "offsets[*]", "strides[*]")
    many = ("first", "count")
    buffers["glBindVertexBuffer"] = Setter(one, (bound, "bindingindex"))
    buffers["glVertexArrayVertexBuffer"] = Setter(one, (named, "bindingindex"))
    buffers["glBindVertexBuffers"] = Setter(several, (bound, "+first"), many=many)
    buffers["glVertexArrayVertexBuffers"] = Setter(several, (named, "+first"), many=many)
    divisors["glVertexAttribDivisor"] = Setter(("divisor",), (bound, "index"))
    divisors["glVertexBindingDivisor"] = Setter(("divisor",), (bound, "bindingindex"))
    divisors["glVertexArrayBindingDivisor"] = Setter(("divisor",), (named, "bindingindex"))
    for word, on in (("Enable", 1), ("Disable", 0)):
        switches[f"gl{word}VertexAttribArray"] = Setter((on,), (bound, "index"))
        switches[f"gl{word}VertexArrayAttrib"] = Setter((on,), (named, "index"))
    add(
        "attribute_layout", "iebib", layouts,
        indices=2, labels=("size", "type", "normalised", "relative offset", "integer"),
    )  # fmt: skip
    add("attribute_binding", "i", points, indices=2)
    add(
        "vertex_buffer", "opi", buffers,
        indices=2, labels=("buffer", "offset", "stride"), object_class="buffer",
    )  # fmt: skip
    add("binding_divisor", "i", divisors, indices=2)
    add("attribute_enabled", "b", switches, indices=2)
    add(
        "attribute_value", "ffff", _attribute_setters(),
        indices=1, write="glVertexAttrib4f", labels=("x", "y", "z", "w"),
    )  # fmt: skip
    add(
        "element_buffer", "o",
        {
            "glBindBuffer": Setter(("buffer",), (bound,), when=("target", GL.ELEMENT_ARRAY_BUFFER)),
            "glVertexArrayElementBuffer": Setter(("buffer",), (named,)),
        },
        indices=1, object_class="buffer",
    )  # fmt: skip


OF_VERTEX_ARRAYS = (
    "attribute_layout", "attribute_binding", "vertex_buffer", "binding_divisor", "attribute_enabled", "element_buffer",
)  # fmt: skip
"""Patterns that are state of vertex arrays."""
OF_OBJECTS = (*OF_VERTEX_ARRAYS, "draw_buffers", "uniform", "block_binding", "storage_binding")
"""Patterns that are state of objects, not of contexts."""


def _attribute_setters() -> dict[str, Setter]:
    """Values of attributes without an array. Those that are given in other types than floats keep their own numbers:
    enough to tell whether two are the same.
    """
    setters = {}
    for size in range(1, 5):
        missing = (0, 0, 0, _ONE)[size:]
        setters[f"glVertexAttrib{size}f"] = Setter((*"xyzw"[:size], *missing), ("index",))
        setters[f"glVertexAttrib{size}fv"] = Setter((*(f"v[{k}]" for k in range(size)), *missing), ("index",))
        for kind in ("s", "d", "I{}i", "I{}ui", "L{}d"):
            name = f"glVertexAttrib{kind.format(size)}" if "{" in kind else f"glVertexAttrib{size}{kind}"
            setters[name] = Setter((*"xyzw"[:size], *missing), ("index",))
            setters[name + "v"] = Setter(("v",), ("index",))
        setters[f"glVertexAttribP{size}ui"] = Setter(("value", "type", "normalized"), ("index",))
        setters[f"glVertexAttribP{size}uiv"] = Setter(("value", "type"), ("index",))
    setters["glVertexAttrib4Nub"] = Setter(("x", "y", "z", "w"), ("index",))
    for kind in (
        "4b",
        "4i",
        "4ub",
        "4us",
        "4ui",
        "4Nb",
        "4Ns",
        "4Ni",
        "4Nub",
        "4Nus",
        "4Nui",
        "I4b",
        "I4s",
        "I4ub",
        "I4us",
    ):
        setters[f"glVertexAttrib{kind}v"] = Setter(("v",), ("index",))
    return setters


def _uniform_setters() -> dict[str, Setter]:
    """Every glUniform and glProgramUniform; the value is raw, or where the data of an array form lies."""
    setters = {}
    for kind in ("f", "i", "ui", "d"):
        for size in range(1, 5):
            setters[f"glUniform{size}{kind}v"] = Setter(("value",), ("@program", "location"))
            setters[f"glProgramUniform{size}{kind}v"] = Setter(("value",), ("program", "location"))
            for prefix, owner in (("", "@program"), ("Program", "program")):
                first = 0 if kind == "d" and not prefix else None
                names = "xyzw" if first == 0 else ("v0", "v1", "v2", "v3")
                setters[f"gl{prefix}Uniform{size}{kind}"] = Setter(tuple(names[:size]), (owner, "location"))
    for shape in ("2", "3", "4", "2x3", "3x2", "2x4", "4x2", "3x4", "4x3"):
        for kind in ("f", "d"):
            setters[f"glUniformMatrix{shape}{kind}v"] = Setter(("value",), ("@program", "location"))
            setters[f"glProgramUniformMatrix{shape}{kind}v"] = Setter(("value",), ("program", "location"))
    return setters


PATTERNS = _build()
