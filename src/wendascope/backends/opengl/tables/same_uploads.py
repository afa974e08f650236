"""Uploads of bytes that are there already: a buffer or texture that is filled again with what it holds."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.objects.records import ImageRecord
from wendascope.backends.opengl.tables.written import buffer_writes, texture_writes, written_by_shaders
from wendascope.frame.uses import UnknownContentsError
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_PARTS = ("glBufferSubData", "glNamedBufferSubData", "wendaWriteBuffer")
_WHOLE = ("glBufferData", "glNamedBufferData")
_PIXELS = ("glTexSubImage2D", "glTextureSubImage2D")
_SKIPS = ("ROW_LENGTH", "SKIP_PIXELS", "SKIP_ROWS", "SWAP_BYTES", "LSB_FIRST")


def same_uploads(frame: OpenGLFrame) -> list[tuple[int, int]]:
    """(call, bytes) of every upload that changes nothing, in the order of the calls. What is not known is left out."""
    return sorted([*_buffers(frame), *_textures(frame)])


def _buffers(frame: OpenGLFrame) -> list[tuple[int, int]]:
    contents, calls = frame.buffer_contents, frame.calls
    records = {b.name: b for b in frame.objects.buffers}
    writes = buffer_writes(frame)
    elsewhere = written_by_shaders(frame).buffers
    found = []
    for buffer, rows in writes.items():
        record = records.get(buffer)
        if record is None or record.contents is None or buffer in elsewhere:
            continue  # what it held before the frame was not kept
        for call in rows.tolist():
            name = calls.command(call).name
            given = calls.argument(call, "data") if name in (*_PARTS, *_WHOLE) else None
            if not isinstance(given, bytes) or not given:
                continue
            at = int(calls.argument(call, "offset")) if name in _PARTS else 0
            try:
                size, before = contents.part(buffer, call, at, len(given))
            except UnknownContentsError:
                break
            whole = name in _PARTS or (len(given) == size and _same_usage(frame, call, record.usage))
            if whole and before == given:
                found.append((call, len(given)))
    return found


def _same_usage(frame: OpenGLFrame, call: int, usage: int) -> bool:
    """Whether a buffer defined anew is as it was: a program that asks for new memory may do so on purpose."""
    return int(frame.calls.argument(call, "usage")) == usage


def _textures(frame: OpenGLFrame) -> list[tuple[int, int]]:
    """Uploads into plain textures that nothing but uploads writes, from packed memory of the program."""
    calls, history = frame.calls, frame.history
    drawn = {a.name for t in frame.passes.targets for a in t.attachments if a.kind == "texture"}
    drawn |= written_by_shaders(frame).textures
    found = []
    for name, rows in texture_writes(frame).items():
        record = frame.objects.texture(name)
        if record is None or name in drawn or record.view_of or not record.readable or record.target != GL.TEXTURE_2D:
            continue
        levels = {image.level: _pixels(frame, image) for image in record.images}
        images = {image.level: image for image in record.images}
        for call in rows.tolist():
            command = calls.command(call)
            if command.name not in _PIXELS:
                break  # mip levels, copies, other shapes: what it holds from here on is not followed
            x, y, width, height, level = (
                int(calls.argument(call, p)) for p in ("xoffset", "yoffset", "width", "height", "level")
            )
            image, data = images.get(level), calls.argument(call, "pixels")
            kind = int(calls.argument(call, "format")), int(calls.argument(call, "type"))
            unpacked = any(history.number("pixel_store", call, getattr(GL, f"UNPACK_{skip}")) for skip in _SKIPS)
            if image is None or kind != (image.format, image.type) or unpacked or not isinstance(data, bytes):
                break
            size = width * height * pixel_size(*kind)
            inside = x >= 0 and y >= 0 and x + width <= image.width and y + height <= image.height
            if not inside or len(data) != size or size == 0:
                break
            part = np.frombuffer(data, np.uint8).reshape(height, width, -1)
            held = levels[level][y : y + height, x : x + width]
            if np.array_equal(held, part):
                found.append((call, size))
            held[:] = part
    return found


def _pixels(frame: OpenGLFrame, image: ImageRecord) -> npt.NDArray[np.uint8]:
    assert image.contents is not None
    data = np.frombuffer(frame.blobs.get(image.contents), np.uint8).copy()
    return data.reshape(image.height, image.width, -1)
