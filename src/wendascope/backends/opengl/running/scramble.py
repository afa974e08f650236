"""Fills what a frame writes with patterns, to see whether anything reads what was there before."""

from __future__ import annotations

import struct
from collections.abc import Iterable

from wendascope.backends.contents import OTHER_WINDOW, WINDOW, Store
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.records import ImageRecord, RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.registry import GL

_COLOURS = {1: (0.29, 0.83, 0.11, 0.62), 2: (0.91, 0.07, 0.57, 0.23)}
_DEPTHS = {1: 0.13, 2: 0.87}
_NUMBERS = {1: (0x5A, 0x33, 0x69, 0x17), 2: (0xA5, 0x0C, 0x96, 0x68)}
_MOST_BUFFER_BYTES = 64 << 20
_DEPTH_FORMATS = (GL.DEPTH_COMPONENT, GL.DEPTH_STENCIL)
_INTEGERS = (GL.RED_INTEGER, GL.RG_INTEGER, GL.RGB_INTEGER, GL.RGBA_INTEGER)
_UNSIGNED = (GL.UNSIGNED_BYTE, GL.UNSIGNED_SHORT, GL.UNSIGNED_INT, GL.UNSIGNED_INT_2_10_10_10_REV)


def written_stores(session: ReplaySession) -> list[Store]:
    """Everything that a session's frame writes and that was there before it."""
    frame, written = session.frame, session.written
    objects = frame.objects
    there = {
        "texture": {t.name for t in objects.textures if t.images and not t.view_of and t.target != GL.TEXTURE_BUFFER},
        "renderbuffer": {r.name for r in objects.renderbuffers if r.width},
        "buffer": {b.name for b in objects.buffers if 0 < b.size <= _MOST_BUFFER_BYTES},
    }
    found = [Store("texture", n) for n in sorted(written.textures & there["texture"])]
    found += [Store("renderbuffer", n) for n in sorted(written.renderbuffers & there["renderbuffer"])]
    found += [Store("buffer", n) for n in sorted(written.buffers & there["buffer"])]
    window = frame.default_framebuffer
    if window.width and window.height:
        found += [Store(OTHER_WINDOW, number) for number in session.other_windows]
        found += [
            Store(kind) for kind, there_is in zip(WINDOW, (True, window.depth, window.stencil), strict=True) if there_is
        ]
    return found


def undefined_stores(session: ReplaySession) -> list[Store]:
    """Renderbuffers with depth and stencil that the frame writes and of which no contents were kept: a frame that
    clears the depth alone leaves in the stencil what was there, which nothing defined.
    """
    return [
        Store("renderbuffer", record.name)
        for record in session.frame.objects.renderbuffers
        if record.name in session.written.renderbuffers and record.width and record.contents is None
        if record.format == GL.DEPTH_STENCIL and not record.samples
    ]


def scramble(session: ReplaySession, stores: Iterable[Store], pattern: int) -> CallBatch:
    """Calls, in names of this context, that fill some stores with a pattern (of `contents.PATTERNS`). They leave state
    behind.
    """
    batch = CallBatch(session.offers)
    call = batch.call
    for capability in (GL.SCISSOR_TEST, GL.RASTERIZER_DISCARD, GL.FRAMEBUFFER_SRGB):
        if session.offers.value(capability):
            call("glDisable", capability)
    call("glColorMask", 1, 1, 1, 1)
    call("glDepthMask", 1)
    call("glStencilMask", 0xFF)
    call("glClearColor", *_COLOURS[pattern])
    call("glClearDepth" if session.offers("glClearDepth") else "glClearDepthf", _DEPTHS[pattern])
    call("glClearStencil", _NUMBERS[pattern][0])
    objects = session.frame.objects
    attached: list[tuple[str, RenderbufferRecord | TextureRecord, ImageRecord | RenderbufferRecord]] = []
    mask = 0
    for store in stores:
        if store.kind == OTHER_WINDOW:
            call("wendaDrawable", store.name, *session.other_windows[store.name])
            call("glBindFramebuffer", session.offers.draw_target, 0)
            call("glClear", GL.COLOR_BUFFER_BIT | GL.DEPTH_BUFFER_BIT | GL.STENCIL_BUFFER_BIT)
            call("wendaDrawable", 0, 0, 0)
        elif store.kind in WINDOW:
            mask |= (GL.COLOR_BUFFER_BIT, GL.DEPTH_BUFFER_BIT, GL.STENCIL_BUFFER_BIT)[WINDOW.index(store.kind)]
        elif store.kind == "buffer":
            size = next(b.size for b in objects.buffers if b.name == store.name)
            data = bytes(_NUMBERS[pattern]) * (size // 4 + 1)
            call("wendaWriteBuffer", session.names.get("buffer", store.name), 0, size, data[:size])
        elif store.kind == "renderbuffer":
            attached += [("renderbuffer", r, r) for r in objects.renderbuffers if r.name == store.name]
        else:
            texture = objects.texture(store.name)
            assert texture is not None
            if session.offers("glClearTexImage"):
                _clear_texture(session, batch, texture, pattern)
            elif texture.target == GL.TEXTURE_2D:
                attached += [("texture", texture, image) for image in texture.images]
    if mask:
        call("glBindFramebuffer", session.offers.draw_target, 0)
        call("glClear", mask)
    if attached:
        _clear_attached(session, batch, attached, pattern)
    return batch


def _clear_texture(session: ReplaySession, batch: CallBatch, texture: TextureRecord, pattern: int) -> None:
    here = session.names.get("texture", texture.name)
    for level in sorted({image.level for image in texture.images}):
        image = next(i for i in texture.images if i.level == level)
        if image.compressed or not image.format:
            continue
        batch.call("glClearTexImage", here, level, *_texel(image, pattern))


def _texel(image: ImageRecord, pattern: int) -> tuple[int, int, bytes]:
    """(format, type, data) of one texel."""
    if image.format == GL.DEPTH_COMPONENT:
        return GL.DEPTH_COMPONENT, GL.FLOAT, struct.pack("<f", _DEPTHS[pattern])
    if image.format == GL.DEPTH_STENCIL:
        if image.type == GL.FLOAT_32_UNSIGNED_INT_24_8_REV:
            return GL.DEPTH_STENCIL, image.type, struct.pack("<fI", _DEPTHS[pattern], _NUMBERS[pattern][0])
        return (
            GL.DEPTH_STENCIL,
            GL.UNSIGNED_INT_24_8,
            struct.pack("<I", int(_DEPTHS[pattern] * 0xFFFFFF) << 8 | _NUMBERS[pattern][0]),
        )
    if image.format == GL.STENCIL_INDEX:
        return GL.STENCIL_INDEX, GL.UNSIGNED_BYTE, bytes(_NUMBERS[pattern][:1])
    if image.format in _INTEGERS:
        unsigned = image.type in _UNSIGNED
        return GL.RGBA_INTEGER, GL.UNSIGNED_INT if unsigned else GL.INT, struct.pack("<4I", *_NUMBERS[pattern])
    return GL.RGBA, GL.FLOAT, struct.pack("<4f", *_COLOURS[pattern])


def _clear_attached(
    session: ReplaySession,
    batch: CallBatch,
    attached: list[tuple[str, RenderbufferRecord | TextureRecord, ImageRecord | RenderbufferRecord]],
    pattern: int,
) -> None:
    """Through a framebuffer that lives as long as the batch."""
    reserve = CallBatch(session.offers)
    name = reserve.out(4)
    reserve.call("glGenFramebuffers", 1, name)
    session.run_batch(reserve)
    here, target = name.uints()[0], session.offers.draw_target
    call = batch.call
    call("glBindFramebuffer", target, here)
    for kind, record, image in attached:
        depth = image.format in (*_DEPTH_FORMATS, GL.STENCIL_INDEX)
        both = image.format == GL.DEPTH_STENCIL
        points = (
            [GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT]
            if both
            else [GL.DEPTH_ATTACHMENT if depth else GL.COLOR_ATTACHMENT0]
        )
        if image.format == GL.STENCIL_INDEX:
            points = [GL.STENCIL_ATTACHMENT]
        for attach in (True, False):
            for point in points:
                if kind == "renderbuffer":
                    call(
                        "glFramebufferRenderbuffer",
                        target,
                        point,
                        GL.RENDERBUFFER,
                        session.names.get(kind, record.name) if attach else 0,
                    )
                else:
                    assert isinstance(image, ImageRecord)
                    call(
                        "glFramebufferTexture2D",
                        target,
                        point,
                        image.target,
                        session.names.get(kind, record.name) if attach else 0,
                        image.level,
                    )
            if not attach:
                continue
            if session.offers("glDrawBuffer"):
                call("glDrawBuffer", GL.NONE if depth else GL.COLOR_ATTACHMENT0)
            if image.format in _INTEGERS:
                command = "glClearBufferuiv" if image.type in _UNSIGNED else "glClearBufferiv"
                call(command, GL.COLOR, 0, struct.pack("<4I", *_NUMBERS[pattern]))
            else:
                call("glClear", GL.DEPTH_BUFFER_BIT | GL.STENCIL_BUFFER_BIT if depth else GL.COLOR_BUFFER_BIT)
    call("glBindFramebuffer", target, 0)
    call("glDeleteFramebuffers", 1, struct.pack("<I", here))
