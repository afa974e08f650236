"""Buffers, renderbuffers, and the objects that hold others: framebuffers, vertex arrays, pipelines, feedback
objects.
"""

from __future__ import annotations

import struct

from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.objects.records import (
    BufferRecord,
    FeedbackRecord,
    FramebufferRecord,
    PipelineRecord,
    RenderbufferRecord,
    VertexArrayRecord,
)
from wendascope.backends.opengl.rebuild._site import Site
from wendascope.backends.opengl.rebuild._textures import dimensions_of
from wendascope.registry import GL

_MAP_READ_WRITE = 0x1 | 0x2
_DYNAMIC_STORAGE = 0x100


def define_buffer(site: Site, batch: CallBatch, record: BufferRecord) -> None:
    data = site.frame.blobs.get(record.contents) if record.contents else None
    batch.call("glBindBuffer", site.spare_buffer, site.names.get("buffer", record.name))
    if record.immutable:
        # contents must be put back between runs, so writing is allowed whatever the program asked for
        flags = record.storage_flags & ~0xC0 | _DYNAMIC_STORAGE | _MAP_READ_WRITE
        batch.call("glBufferStorage", site.spare_buffer, record.size, data, flags)
    elif record.size:
        batch.call("glBufferData", site.spare_buffer, record.size, data, record.usage)


def restore_buffer(site: Site, batch: CallBatch, record: BufferRecord) -> None:
    """Put the contents back; a resized buffer gets its size back too."""
    if not record.immutable:
        define_buffer(site, batch, record)
    elif record.contents:
        batch.call("glBindBuffer", site.spare_buffer, site.names.get("buffer", record.name))
        batch.call("glBufferSubData", site.spare_buffer, 0, record.size, site.frame.blobs.get(record.contents))


def define_renderbuffer(site: Site, batch: CallBatch, record: RenderbufferRecord) -> None:
    batch.call("glBindRenderbuffer", GL.RENDERBUFFER, site.names.get("renderbuffer", record.name))
    if record.width and record.height:
        shape = (record.internal_format, record.width, record.height)
        if record.samples:
            batch.call("glRenderbufferStorageMultisample", GL.RENDERBUFFER, record.samples, *shape)
        else:
            batch.call("glRenderbufferStorage", GL.RENDERBUFFER, *shape)


def define_framebuffer(site: Site, batch: CallBatch, record: FramebufferRecord) -> None:
    call = batch.call
    call("glBindFramebuffer", GL.FRAMEBUFFER, site.names.get("framebuffer", record.name))
    for attachment in record.attachments:
        name = site.names.get(attachment.kind, attachment.name)
        if attachment.kind == "renderbuffer":
            call("glFramebufferRenderbuffer", GL.FRAMEBUFFER, attachment.point, GL.RENDERBUFFER, name)
            continue
        texture = site.frame.objects.texture(attachment.name)
        if texture is None:
            continue
        if attachment.face:
            call("glFramebufferTexture2D", GL.FRAMEBUFFER, attachment.point, attachment.face, name, attachment.level)
        elif texture.target == GL.TEXTURE_2D:
            call("glFramebufferTexture2D", GL.FRAMEBUFFER, attachment.point, GL.TEXTURE_2D, name, attachment.level)
        elif attachment.layered or (dimensions_of(texture.target) < 3 and texture.target != GL.TEXTURE_1D_ARRAY):
            call("glFramebufferTexture", GL.FRAMEBUFFER, attachment.point, name, attachment.level)
        else:
            call(
                "glFramebufferTextureLayer", GL.FRAMEBUFFER, attachment.point, name, attachment.level, attachment.layer
            )
    if record.draw_buffers:
        call(
            "glDrawBuffers",
            len(record.draw_buffers),
            struct.pack(f"<{len(record.draw_buffers)}I", *record.draw_buffers),
        )
    if record.read_buffer:
        call("glReadBuffer", record.read_buffer)
    width, height, layers, samples = record.default_size
    if width and height:
        for what, value in (("WIDTH", width), ("HEIGHT", height), ("LAYERS", layers), ("SAMPLES", samples)):
            call("glFramebufferParameteri", GL.FRAMEBUFFER, getattr(GL, f"FRAMEBUFFER_DEFAULT_{what}"), value)


def define_vertex_array(site: Site, batch: CallBatch, record: VertexArrayRecord) -> None:
    call = batch.call
    call("glBindVertexArray", site.names.get("vertex array", record.name))
    for a in record.attributes:
        buffer = site.names.get("buffer", a.buffer)
        if a.binding >= 0:
            call("glBindVertexBuffer", a.binding, buffer, a.offset - a.relative_offset, a.stride)
            call("glVertexBindingDivisor", a.binding, a.divisor)
            if a.long:
                call("glVertexAttribLFormat", a.index, a.size, a.type, a.relative_offset)
            elif a.integer:
                call("glVertexAttribIFormat", a.index, a.size, a.type, a.relative_offset)
            else:
                call("glVertexAttribFormat", a.index, a.size, a.type, a.normalized, a.relative_offset)
            call("glVertexAttribBinding", a.index, a.binding)
        elif a.buffer:
            call("glBindBuffer", GL.ARRAY_BUFFER, buffer)
            if a.long:
                call("glVertexAttribLPointer", a.index, a.size, a.type, a.stride, Raw(a.offset))
            elif a.integer:
                call("glVertexAttribIPointer", a.index, a.size, a.type, a.stride, Raw(a.offset))
            else:
                call("glVertexAttribPointer", a.index, a.size, a.type, a.normalized, a.stride, Raw(a.offset))
            call("glVertexAttribDivisor", a.index, a.divisor)
        call("glEnableVertexAttribArray" if a.enabled else "glDisableVertexAttribArray", a.index)
    call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, site.names.get("buffer", record.element_buffer))


def define_pipeline(site: Site, batch: CallBatch, record: PipelineRecord) -> None:
    pipeline = site.names.get("program pipeline", record.name)
    for bit, program in record.stages.items():
        batch.call("glUseProgramStages", pipeline, bit, site.names.get("program", program))
    if record.active:
        batch.call("glActiveShaderProgram", pipeline, site.names.get("program", record.active))


def define_feedback(site: Site, batch: CallBatch, record: FeedbackRecord) -> None:
    batch.call("glBindTransformFeedback", GL.TRANSFORM_FEEDBACK, site.names.get("transform feedback", record.name))
    for index, (buffer, offset, size) in enumerate(record.buffers):
        here = site.names.get("buffer", buffer)
        if size:
            batch.call("glBindBufferRange", GL.TRANSFORM_FEEDBACK_BUFFER, index, here, offset, size)
        else:
            batch.call("glBindBufferBase", GL.TRANSFORM_FEEDBACK_BUFFER, index, here)
