"""Calls that set context state as it was, by the one state table."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

import numpy as np

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import INDEXED, PATTERNS, decoded
from wendascope.backends.opengl.state.tracker import InitialState, Key
from wendascope.registry import GL

Names = Callable[[str, int], int]
"""(class, name) -> the name to set."""
_PLAIN = {
    "blend_func": "glBlendFuncSeparate", "blend_equation": "glBlendEquationSeparate", "color_mask": "glColorMask",
    "depth_range": "glDepthRange", "viewport": "glViewport", "scissor": "glScissor",
}  # fmt: skip
_SINGLE = {"glDepthRange": "glDepthRangef", "glClearDepth": "glClearDepthf"}
"""What OpenGL ES calls commands that take doubles."""
_SWITCHED = (("blend_enabled", GL.BLEND, "glEnablei"), ("scissor_test_enabled", GL.SCISSOR_TEST, "glScissorIndexed"))


def set_values(batch: CallBatch, offers: Offers, values: InitialState) -> None:
    """Set every value that is no binding."""
    call = batch.call
    for (cap, _), (on,) in values.get("capability", {}).items():
        if offers.value(cap) and cap != GL.DEBUG_OUTPUT:
            call("glEnable" if on else "glDisable", cap)
    for pattern, cap, indexed in _SWITCHED:
        rows = values.get(pattern, {})
        if _is_one(pattern, rows):
            call("glEnable" if rows[0, 0][0] else "glDisable", cap)
            continue
        for (i, _), (value,) in rows.items():
            if offers(indexed):
                call("glEnablei" if value else "glDisablei", cap, i)
            elif i == 0:
                call("glEnable" if value else "glDisable", cap)
    for row in PATTERNS.values():
        if row.read and row.write and not row.object_class:
            rows = values.get(row.name, {})
            whole = row.name in _PLAIN and _is_one(row.name, rows)
            for key, raw in [((0, 0), rows[0, 0])] if whole else rows.items():
                _write(batch, offers, row.name, key, raw, whole)
    for key, raw in values.get("attribute_value", {}).items():
        _write(batch, offers, "attribute_value", key, raw)
    polygon_mode = values.get("polygon_mode", {}).get((0, 0))
    if polygon_mode:
        call("glPolygonMode", GL.FRONT_AND_BACK, polygon_mode[0])
    clamp, offset = (values.get(name, {}).get((0, 0)) for name in ("polygon_offset_clamp", "polygon_offset"))
    if clamp and offset and clamp[0] and offers("glPolygonOffsetClamp"):
        call("glPolygonOffsetClamp", *(decoded("f", raw) for raw in (*offset, *clamp)))


def _is_one(name: str, rows: Mapping[Key, tuple[int, ...]]) -> bool:
    """Whether all draw buffers or viewports have the same value, which one command sets."""
    return len(rows) == len(PATTERNS[name].domain) and len(set(rows.values())) == 1


def _write(batch: CallBatch, offers: Offers, name: str, key: Key, raw: tuple[int, ...], whole: bool = False) -> None:
    pattern = PATTERNS[name]
    values = [decoded(kind, v) for kind, v in zip(pattern.kinds, raw, strict=False)]
    if len(values) != len(pattern.kinds):
        return
    if pattern.array_of:
        batch.call(pattern.write, pattern.array_of, np.array(values, np.float32).tobytes())
        return
    command, arguments = pattern.write, [*([key[0]] if pattern.indices else []), *values]
    if name in INDEXED and (whole or not offers(INDEXED[name])):
        if key[0] or name not in _PLAIN:
            return
        command, arguments = _PLAIN[name], values
        if name == "viewport":
            arguments = [int(v) for v in values]
    if not offers(command) and command in _SINGLE:
        command = _SINGLE[command]
    batch.call(command, *arguments)


def set_textures(batch: CallBatch, values: InitialState, names: Names) -> None:
    """Textures, samplers and images of units; leaves another unit active than before."""
    call = batch.call
    for (unit, target), (texture,) in values.get("texture", {}).items():
        if target == 0:
            call("glBindTextureUnit", unit - GL.TEXTURE0, names("texture", texture))
        else:
            call("glActiveTexture", unit)
            call("glBindTexture", target, names("texture", texture))
    for (unit, _), (sampler,) in values.get("sampler", {}).items():
        call("glBindSampler", unit, names("sampler", sampler))
    for (unit, _), (texture, level, layered, layer, access, format_) in values.get("image", {}).items():
        call(
            "glBindImageTexture", unit, names("texture", texture), level, layered, layer,
            access or GL.READ_ONLY, format_ or GL.R8,
        )  # fmt: skip


def set_buffers(batch: CallBatch, offers: Offers, values: InitialState, names: Names) -> None:
    """Transform feedback, indexed buffers, the vertex array, buffers."""
    call = batch.call
    for (feedback,) in _single(values, "transform_feedback"):
        call("glBindTransformFeedback", GL.TRANSFORM_FEEDBACK, names("transform feedback", feedback))
    for (target, index), (buffer, offset, size) in values.get("indexed_buffer", {}).items():
        if size:
            call("glBindBufferRange", target, index, names("buffer", buffer), offset, size)
        else:
            call("glBindBufferBase", target, index, names("buffer", buffer))
    for (vertex_array,) in _single(values, "vertex_array"):
        call("glBindVertexArray", names("vertex array", vertex_array))
    for (target, _), (buffer,) in values.get("buffer", {}).items():
        if target != GL.ELEMENT_ARRAY_BUFFER and offers.value(target):
            call("glBindBuffer", target, names("buffer", buffer))


def set_targets(batch: CallBatch, offers: Offers, values: InitialState, names: Names) -> None:
    """The renderbuffer, the framebuffers, the pipeline and the program."""
    call = batch.call
    for (renderbuffer,) in _single(values, "renderbuffer"):
        call("glBindRenderbuffer", GL.RENDERBUFFER, names("renderbuffer", renderbuffer))
    framebuffers = values.get("framebuffer", {})
    targets = [(GL.DRAW_FRAMEBUFFER, offers.draw_target)]
    if offers.read_target != offers.draw_target:
        targets.append((GL.READ_FRAMEBUFFER, offers.read_target))
    for key, target in targets:
        if (key, 0) in framebuffers:
            call("glBindFramebuffer", target, names("framebuffer", framebuffers[key, 0][0]))
    for (pipeline,) in _single(values, "pipeline"):
        call("glBindProgramPipeline", names("program pipeline", pipeline))
    for (program,) in _single(values, "program"):
        call("glUseProgram", names("program", program))


def _single(values: InitialState, pattern: str) -> Iterable[tuple[int, ...]]:
    found = values.get(pattern, {}).get((0, 0))
    return () if found is None else (found,)
