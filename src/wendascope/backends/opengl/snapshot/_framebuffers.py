"""Framebuffers, renderbuffers and the window."""

from __future__ import annotations

import struct
from typing import Literal

from wendascope.backends.opengl.calls.packed import CallBatch, Out
from wendascope.backends.opengl.objects.formats import (
    Components,
    attachment_of,
    named_types,
    pixel_size,
    transfer_format,
)
from wendascope.backends.opengl.objects.records import (
    AttachmentRecord,
    DefaultFramebuffer,
    FramebufferRecord,
    ImageRecord,
    Objects,
    RenderbufferRecord,
)
from wendascope.backends.opengl.snapshot._context import describe_default_framebuffer
from wendascope.backends.opengl.snapshot._es_images import es_converted, es_transfer
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL

_DEFAULTS = (
    "FRAMEBUFFER_DEFAULT_WIDTH",
    "FRAMEBUFFER_DEFAULT_HEIGHT",
    "FRAMEBUFFER_DEFAULT_LAYERS",
    "FRAMEBUFFER_DEFAULT_SAMPLES",
)


def read_renderbuffers(reader: Reader) -> list[RenderbufferRecord]:
    names = reader.alive("renderbuffer", "glIsRenderbuffer")
    queries = (
        "WIDTH",
        "HEIGHT",
        "INTERNAL_FORMAT",
        "SAMPLES",
        "RED_SIZE",
        "GREEN_SIZE",
        "BLUE_SIZE",
        "ALPHA_SIZE",
        "DEPTH_SIZE",
        "STENCIL_SIZE",
    )
    batch = reader.batch()
    rows = []
    for name in names:
        batch.call("glBindRenderbuffer", GL.RENDERBUFFER, name)
        outs = [batch.out(4) for _ in queries]
        for query, out in zip(queries, outs, strict=True):
            if reader.offers.value(getattr(GL, f"RENDERBUFFER_{query}")):
                batch.call("glGetRenderbufferParameteriv", GL.RENDERBUFFER, getattr(GL, f"RENDERBUFFER_{query}"), out)
        rows.append(outs)
    reader.run(batch)
    records = []
    for name, outs in zip(names, rows, strict=True):
        width, height, internal_format, samples, red, green, blue, alpha, depth, stencil = (
            out.ints()[0] for out in outs
        )
        record = RenderbufferRecord(name, width, height, internal_format, samples)
        component_type, depth_type = named_types(internal_format)
        chosen = transfer_format(
            internal_format, Components(red, green, blue, alpha, depth, stencil, component_type, depth_type)
        )
        if chosen:
            record.format, record.type = chosen
        records.append(record)
    return records


def read_renderbuffer_contents(reader: Reader, objects: Objects) -> None:
    """Read renderbuffers through a framebuffer that has them attached; others nobody can see."""
    by_name = {r.name: r for r in objects.renderbuffers}
    es = reader.context.es
    readable = []
    for framebuffer in objects.framebuffers:
        for attachment in framebuffer.attachments:
            record = by_name.get(attachment.name) if attachment.kind == "renderbuffer" else None
            if (
                record
                and record.format
                and record.samples == 0
                and record.width
                and (not es or attachment_of(record.format)[0] == GL.COLOR_ATTACHMENT0)
            ):
                readable.append((framebuffer, attachment, record))
                del by_name[record.name]

    def read(item: tuple[FramebufferRecord, AttachmentRecord, RenderbufferRecord], batch: CallBatch) -> Out:
        framebuffer, attachment, record = item
        image = _image_of(record)
        format_, type_ = es_transfer(image) if es else (record.format, record.type)
        out = batch.out(record.width * record.height * pixel_size(format_, type_))
        batch.call("glBindFramebuffer", reader.offers.read_target, framebuffer.name)
        color = attachment.point not in (GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT)
        if color:
            batch.call("glReadBuffer", attachment.point)
        batch.call("glReadPixels", 0, 0, record.width, record.height, format_, type_, out)
        if color:
            batch.call("glReadBuffer", framebuffer.read_buffer)
        return out

    size = lambda item: item[2].width * item[2].height * 8  # noqa: E731
    for (_, _, record), out in reader.contents(readable, size, read):
        if es:
            image = _image_of(record)
            record.contents = reader.blobs.put(es_converted(image, out.data))
            record.format, record.type = image.format, image.type
        else:
            record.contents = reader.blobs.put(out.data)


def _image_of(record: RenderbufferRecord) -> ImageRecord:
    return ImageRecord(
        GL.RENDERBUFFER, 0, record.width, record.height, 1, record.internal_format, record.format, record.type
    )


def read_resolved_contents(reader: Reader, objects: Objects) -> None:
    """Multisampled textures and renderbuffers, resolved by a blit into a texture that lives as long as the batch."""
    wanted: list[tuple[str, int, ImageRecord | RenderbufferRecord]] = []
    if not reader.offers("glBlitFramebuffer") or reader.context.es:
        return  # a frame that needs them says so
    for texture in objects.textures:
        if texture.target == GL.TEXTURE_2D_MULTISAMPLE and texture.images and texture.images[0].format:
            wanted.append(("texture", texture.name, texture.images[0]))
    wanted += [("renderbuffer", r.name, r) for r in objects.renderbuffers if r.samples and r.format and r.width]
    for kind, name, record in wanted:
        reserve = CallBatch()
        temporary, framebuffers = reserve.out(4), reserve.out(8)
        reserve.call("glGenTextures", 1, temporary)
        reserve.call("glGenFramebuffers", 2, framebuffers)
        reader.executor.run(reserve)
        out = _resolve(reader, kind, name, record, temporary.uints()[0], framebuffers.uints())
        record.contents = reader.blobs.put(out.data)


def _resolve(
    reader: Reader,
    kind: str,
    name: int,
    record: ImageRecord | RenderbufferRecord,
    temporary: int,
    framebuffers: list[int],
) -> Out:
    batch = reader.batch()
    call, size = batch.call, (record.width, record.height)
    read, draw = framebuffers
    point, mask = attachment_of(record.format)
    call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, 0)
    call("glBindTexture", GL.TEXTURE_2D, temporary)
    call("glTexImage2D", GL.TEXTURE_2D, 0, record.internal_format, *size, 0, record.format, record.type, None)
    call("glBindFramebuffer", GL.READ_FRAMEBUFFER, read)
    if kind == "texture":
        call("glFramebufferTexture2D", GL.READ_FRAMEBUFFER, point, GL.TEXTURE_2D_MULTISAMPLE, name, 0)
    else:
        call("glFramebufferRenderbuffer", GL.READ_FRAMEBUFFER, point, GL.RENDERBUFFER, name)
    call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, draw)
    call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, point, GL.TEXTURE_2D, temporary, 0)
    for cap in (GL.SCISSOR_TEST, GL.FRAMEBUFFER_SRGB):
        call("glDisable", cap)
    call("glBlitFramebuffer", 0, 0, *size, 0, 0, *size, mask, GL.NEAREST)
    call("glBindFramebuffer", GL.READ_FRAMEBUFFER, draw)
    out = batch.out(record.width * record.height * pixel_size(record.format, record.type))
    call("glReadPixels", 0, 0, *size, record.format, record.type, out)
    call("glDeleteFramebuffers", 2, struct.pack("<II", read, draw))
    call("glDeleteTextures", 1, struct.pack("<I", temporary))
    call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, reader.value("buffer", GL.PIXEL_UNPACK_BUFFER))
    if reader.value("capability", GL.FRAMEBUFFER_SRGB):
        call("glEnable", GL.FRAMEBUFFER_SRGB)
    for (viewport, _), (on,) in reader.state["scissor_test_enabled"].items():
        if on and reader.context.number >= 41:
            call("glEnablei", GL.SCISSOR_TEST, viewport)
        elif on:
            call("glEnable", GL.SCISSOR_TEST)
    reader.run(batch)
    return out


def read_framebuffers(reader: Reader) -> list[FramebufferRecord]:
    """Every framebuffer object with its attachments; two rounds of queries, since what to ask depends on the kind."""
    names = reader.alive("framebuffer", "glIsFramebuffer")
    colors = min(reader.context.limits.get("MAX_COLOR_ATTACHMENTS", 8), 32)
    points = [*(GL.COLOR_ATTACHMENT0 + i for i in range(colors)), GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT]
    batch = reader.batch()
    asked = [_ask_of_framebuffer(reader, batch, name, points) for name in names]
    reader.run(batch)
    records = []
    batch = reader.batch()
    details = []
    for name, (kinds, draws, read, defaults) in zip(names, asked, strict=True):
        draw_buffers = [out.ints()[0] for out in draws] if reader.offers("glDrawBuffers") else []
        while len(draw_buffers) > 1 and draw_buffers[-1] == GL.NONE:
            draw_buffers.pop()
        width, height, layers, samples = (out.ints()[0] for out in defaults)
        record = FramebufferRecord(name, [], draw_buffers, read.ints()[0], (width, height, layers, samples))
        records.append(record)
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, name)
        for point, kind in zip(points, kinds, strict=True):
            if kind.ints()[0] not in (GL.TEXTURE, GL.RENDERBUFFER):
                continue
            texture = kind.ints()[0] == GL.TEXTURE
            questions = ("OBJECT_NAME", *(_OF_TEXTURES if texture else ()))
            outs = [_ask_of_attachment(reader, batch, point, question) for question in questions]
            details.append((record, point, _attached_kind(texture), outs))
    reader.run(batch)
    for record, point, object_kind, outs in details:
        name, level, face, layer, layered = [out.ints()[0] for out in outs] + [0] * (5 - len(outs))
        record.attachments.append(AttachmentRecord(point, object_kind, name, level, face, layer, bool(layered)))
    for record, label in zip(records, reader.labels(GL.FRAMEBUFFER, names), strict=True):
        record.label = label
    return records


_OF_TEXTURES = ("TEXTURE_LEVEL", "TEXTURE_CUBE_MAP_FACE", "TEXTURE_LAYER", "LAYERED")


def _ask_of_attachment(reader: Reader, batch: CallBatch, point: int, question: str) -> Out:
    out = batch.out(4)
    name = getattr(GL, f"FRAMEBUFFER_ATTACHMENT_{question}")
    if reader.offers.value(name):
        batch.call("glGetFramebufferAttachmentParameteriv", reader.offers.draw_target, point, name, out)
    return out


def _ask_of_framebuffer(
    reader: Reader, batch: CallBatch, name: int, points: list[int]
) -> tuple[list[Out], list[Out], Out, list[Out]]:
    """Answers to come: kind of each attachment, draw buffers, read buffer, defaults without attachments."""
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, name)
    kinds = [_ask_of_attachment(reader, batch, point, "OBJECT_TYPE") for point in points]

    def ask(offered: int, command: str, *arguments: int) -> Out:
        out = batch.out(4)
        if reader.offers.value(offered):
            batch.call(command, *arguments, out)
        return out

    buffers = min(reader.context.limits.get("MAX_DRAW_BUFFERS", 8), 32)
    draws = [ask(GL.DRAW_BUFFER0 + i, "glGetIntegerv", GL.DRAW_BUFFER0 + i) for i in range(buffers)]
    read = ask(GL.READ_BUFFER, "glGetIntegerv", GL.READ_BUFFER)
    numbers = [getattr(GL, default) for default in _DEFAULTS]
    defaults = [ask(n, "glGetFramebufferParameteriv", reader.offers.draw_target, n) for n in numbers]
    return kinds, draws, read, defaults


def read_default_framebuffer(reader: Reader) -> DefaultFramebuffer:
    width, height = reader.size
    framebuffer = describe_default_framebuffer(reader)
    framebuffer.width, framebuffer.height = width, height
    if not width or not height:
        return framebuffer
    batch = reader.batch()
    batch.call("glBindFramebuffer", reader.offers.read_target, 0)
    before = batch.out(4)
    if reader.offers.value(GL.READ_BUFFER):
        batch.call("glGetIntegerv", GL.READ_BUFFER, before)
    reader.run(batch)
    batch = reader.batch()
    batch.call("glBindFramebuffer", reader.offers.read_target, 0)
    batch.call("glReadBuffer", GL.BACK if framebuffer.double else GL.FRONT)
    color = batch.out(width * height * 4)
    batch.call("glReadPixels", 0, 0, width, height, GL.RGBA, GL.UNSIGNED_BYTE, color)
    depth = stencil = None
    # OpenGL ES reads no depth, and the samples of a window cannot be told apart
    whole = not reader.context.es and not framebuffer.samples
    if framebuffer.depth and whole:
        depth = batch.out(width * height * 4)
        batch.call("glReadPixels", 0, 0, width, height, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT, depth)
    if framebuffer.stencil and whole:
        stencil = batch.out(width * height)
        batch.call("glReadPixels", 0, 0, width, height, GL.STENCIL_INDEX, GL.UNSIGNED_BYTE, stencil)
    batch.call("glReadBuffer", before.ints()[0])
    reader.run(batch)
    framebuffer.color = reader.blobs.put(color.data)
    if depth:
        framebuffer.depth_contents = reader.blobs.put(depth.data)
    if stencil:
        framebuffer.stencil_contents = reader.blobs.put(stencil.data)
    return framebuffer


def _attached_kind(texture: bool) -> Literal["texture", "renderbuffer"]:
    return "texture" if texture else "renderbuffer"
