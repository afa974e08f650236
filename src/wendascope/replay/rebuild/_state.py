"""The context state before the frame, by the one state table."""

from __future__ import annotations

from wendascope.opengl.packed import CallBatch
from wendascope.opengl.state_table import INDEXED, PATTERNS, TEXTURE_TARGETS, decoded
from wendascope.registry import GL
from wendascope.replay.rebuild._site import Site

_PLAIN = {
    "blend_func": "glBlendFuncSeparate", "blend_equation": "glBlendEquationSeparate", "color_mask": "glColorMask",
    "depth_range": "glDepthRange", "viewport": "glViewport", "scissor": "glScissor",
}  # fmt: skip
_SINGLE = {"glDepthRange": "glDepthRangef", "glClearDepth": "glClearDepthf"}
"""What OpenGL ES calls commands that take doubles."""


def set_state(site: Site, batch: CallBatch) -> None:
    """The whole context state before the frame, and every binding that the frame touches."""
    state = site.frame.state
    call = batch.call
    for (cap, _), (on,) in state.get("capability", {}).items():
        if site.offers.value(cap) and cap != GL.DEBUG_OUTPUT:
            call("glEnable" if on else "glDisable", cap)
    for pattern, cap, indexed in (
        ("blend_enabled", GL.BLEND, "glEnablei"),
        ("scissor_test_enabled", GL.SCISSOR_TEST, "glScissorIndexed"),
    ):
        for (i, _), (value,) in state.get(pattern, {}).items():
            if site.offers(indexed):
                call("glEnablei" if value else "glDisablei", cap, i)
            elif i == 0:
                call("glEnable" if value else "glDisable", cap)
    for row in PATTERNS.values():
        if row.read and row.write and not row.object_class:
            for key, values in state.get(row.name, {}).items():
                _write(site, batch, row.name, key, values)
    for key, values in state.get("attribute_value", {}).items():
        _write(site, batch, "attribute_value", key, values)
    polygon_mode = state.get("polygon_mode", {}).get((0, 0))
    if polygon_mode:
        call("glPolygonMode", GL.FRONT_AND_BACK, polygon_mode[0])
    _bindings(site, batch)


def _write(site: Site, batch: CallBatch, name: str, key: tuple[int, int], raw: tuple[int, ...]) -> None:
    pattern = PATTERNS[name]
    values = [decoded(kind, v) for kind, v in zip(pattern.kinds, raw, strict=False)]
    if len(values) != len(pattern.kinds):
        return
    command, arguments = pattern.write, [*([key[0]] if pattern.indices else []), *values]
    if name in INDEXED and not site.offers(INDEXED[name]):
        if key[0] or name not in _PLAIN:
            return
        command, arguments = _PLAIN[name], values
        if name == "viewport":
            arguments = [int(v) for v in values]
    if not site.offers(command) and command in _SINGLE:
        command = _SINGLE[command]
    batch.call(command, *arguments)


def _bindings(site: Site, batch: CallBatch) -> None:
    _texture_bindings(site, batch)
    _image_bindings(site, batch)
    _buffer_bindings(site, batch)
    _framebuffer_bindings(site, batch)


def _keys(site: Site, pattern: str) -> list[tuple[int, int]]:
    """Every key of a pattern that has a value before the frame or gets one in it."""
    return sorted(set(site.frame.history.keys(pattern)) | set(site.frame.state.get(pattern, {})))


def _value(site: Site, pattern: str, key: tuple[int, int] = (0, 0)) -> tuple[int, ...]:
    """The value of a key before the frame."""
    return tuple(site.frame.state.get(pattern, {}).get(key, (0,) * len(PATTERNS[pattern].kinds)))


def _texture_bindings(site: Site, batch: CallBatch) -> None:
    names, call = site.names, batch.call
    for unit, target in _keys(site, "texture"):
        if target == 0:  # glBindTextureUnit: every target of the unit
            continue
        call("glActiveTexture", unit)
        call("glBindTexture", target, names.get("texture", _value(site, "texture", (unit, target))[0]))
    # unit 0 served the uploads: nothing of ours may stay bound there
    call("glActiveTexture", GL.TEXTURE0)
    for name, binding in TEXTURE_TARGETS.items():
        if site.offers.value(getattr(GL, binding)) and (GL.TEXTURE0, getattr(GL, name)) not in _keys(site, "texture"):
            call("glBindTexture", getattr(GL, name), 0)
    call("glActiveTexture", _value(site, "active_texture")[0] or GL.TEXTURE0)
    for unit, _ in _keys(site, "sampler"):
        call("glBindSampler", unit, names.get("sampler", _value(site, "sampler", (unit, 0))[0]))


def _image_bindings(site: Site, batch: CallBatch) -> None:
    names, call = site.names, batch.call
    for unit, _ in _keys(site, "image"):
        texture, level, layered, layer, access, format_ = _value(site, "image", (unit, 0))
        if texture or (unit, 0) in site.frame.history.keys("image"):
            call(
                "glBindImageTexture",
                unit,
                names.get("texture", texture),
                level,
                layered,
                layer,
                access or GL.READ_ONLY,
                format_ or GL.R8,
            )


def _buffer_bindings(site: Site, batch: CallBatch) -> None:
    names, call = site.names, batch.call
    call(
        "glBindTransformFeedback",
        GL.TRANSFORM_FEEDBACK,
        names.get("transform feedback", _value(site, "transform_feedback")[0]),
    )
    for target, index in _keys(site, "indexed_buffer"):
        buffer, offset, size = _value(site, "indexed_buffer", (target, index))
        if size:
            call("glBindBufferRange", target, index, names.get("buffer", buffer), offset, size)
        else:
            call("glBindBufferBase", target, index, names.get("buffer", buffer))
    call("glBindVertexArray", names.get("vertex array", _value(site, "vertex_array")[0]))
    for target in sorted(
        {t for t, _ in _keys(site, "buffer")} | {GL.ARRAY_BUFFER, GL.COPY_WRITE_BUFFER, GL.PIXEL_UNPACK_BUFFER}
    ):
        if target != GL.ELEMENT_ARRAY_BUFFER and site.offers.value(target):
            call("glBindBuffer", target, names.get("buffer", _value(site, "buffer", (target, 0))[0]))


def _framebuffer_bindings(site: Site, batch: CallBatch) -> None:
    names, call = site.names, batch.call
    call("glBindRenderbuffer", GL.RENDERBUFFER, names.get("renderbuffer", _value(site, "renderbuffer")[0]))
    window = site.frame.default_framebuffer
    call("glBindFramebuffer", GL.FRAMEBUFFER, 0)
    if window.draw_buffer:
        # a pbuffer may have a front buffer only: the second call is refused where there is no back
        for buffer in (GL.FRONT, window.draw_buffer):
            call("glDrawBuffer", GL.NONE if window.draw_buffer == GL.NONE else buffer)
        for buffer in (GL.FRONT, window.read_buffer):
            call("glReadBuffer", buffer)
    call(
        "glBindFramebuffer",
        site.offers.draw_target,
        names.get("framebuffer", _value(site, "framebuffer", (GL.DRAW_FRAMEBUFFER, 0))[0]),
    )
    if site.offers.read_target != site.offers.draw_target:
        call(
            "glBindFramebuffer",
            site.offers.read_target,
            names.get("framebuffer", _value(site, "framebuffer", (GL.READ_FRAMEBUFFER, 0))[0]),
        )
    call("glBindProgramPipeline", names.get("program pipeline", _value(site, "pipeline")[0]))
    call("glUseProgram", names.get("program", _value(site, "program")[0]))
