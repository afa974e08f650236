"""What textures and buffers hold, read from the captured contents, and how the frame reads buffers."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.primitives import INDEX_TYPES
from wendascope.backends.opengl.objects.records import ImageRecord, RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.objects.texel_values import texel_values
from wendascope.backends.opengl.objects.uniform_blocks import block_layout
from wendascope.backends.opengl.tables.written import element_buffers
from wendascope.frame.contents import BufferColumn, BufferLayout, ImageValues
from wendascope.frame.steps import KINDS
from wendascope.glsl.globals import UnclearSourceError
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_OF_LETTER = {"f": "<f4", "i": "<i4", "u": "<u4", "d": "<f8"}


def stored_values(frame: OpenGLFrame, name: int, level: int, layer: int) -> ImageValues | None:
    """A texture as the frame finds it, by the name that it is bound by; None where its contents are not kept, or
    compressed.
    """
    texture = frame.objects.texture(name)
    image = image_of(texture, level, layer) if texture else None
    if texture is None or image is None or image.compressed or image.contents is None:
        return None
    data = frame.blobs.get(image.contents)
    return image_values(texture, image, data, layer)


def image_of(texture: TextureRecord, level: int, layer: int) -> ImageRecord | None:
    """The image of a level, and of a face where `layer` counts faces."""
    images = [image for image in texture.images if image.level == level]
    if texture.target == GL.TEXTURE_CUBE_MAP:
        return next((i for i in images if i.target - GL.TEXTURE_CUBE_MAP_POSITIVE_X == layer), None)
    return images[0] if images else None


def image_values(texture: TextureRecord, image: ImageRecord, data: bytes, layer: int) -> ImageValues | None:
    """One layer of an image with its transferred pixels; None for pixels that are not known here."""
    depth = max(image.depth, 1)
    shape = (depth, image.height, image.width)
    if texture.target == GL.TEXTURE_1D_ARRAY:
        shape = (image.height, 1, image.width)
    try:
        channels, values = texel_values(data, shape, image.format, image.type)
    except ValueError:
        return None
    slice_ = 0 if texture.target == GL.TEXTURE_CUBE_MAP else min(layer, values.shape[0] - 1)
    return ImageValues(channels, values[slice_])


def renderbuffer_values(record: RenderbufferRecord, data: bytes) -> ImageValues | None:
    """A renderbuffer with its transferred pixels; None for pixels that are not known here."""
    try:
        return ImageValues(*texel_values(data, (record.height, record.width), record.format, record.type))
    except ValueError:
        return None


def buffer_bytes(frame: OpenGLFrame, name: int) -> bytes | None:
    """What a buffer holds when the frame begins; None where that is not kept."""
    record = frame.objects.buffer(name)
    return frame.blobs.get(record.contents) if record and record.contents else None


def buffer_layouts(frame: OpenGLFrame, name: int) -> list[BufferLayout]:
    """Ways in which steps of the frame read a buffer, those of most steps first."""
    found: dict[str, tuple[int, BufferLayout]] = {}
    for steps, layout in (*_vertices(frame, name), *_indices(frame, name), *_blocks(frame, name)):
        count, known = found.get(layout.name, (0, layout))
        found[layout.name] = (count + steps, known)
    return [layout for _, layout in sorted(found.values(), key=lambda row: -row[0])]


def _vertices(frame: OpenGLFrame, name: int) -> Iterator[tuple[int, BufferLayout]]:
    which, inputs = frame.uses.inputs
    for index, attributes in enumerate(inputs):
        mine = [a for a in attributes if a.buffer == name and a.dtype is not None]
        for stride in sorted({a.stride for a in mine}):
            for start in sorted({a.offset // stride * stride for a in mine if a.stride == stride}):
                rows = [a for a in mine if a.stride == stride and a.offset // stride * stride == start]
                columns = [
                    BufferColumn(a.name or f"attribute {a.index}", a.dtype, a.size, a.offset) for a in rows if a.dtype
                ]
                columns.sort(key=lambda column: column.offset)
                names = ", ".join(column.name for column in columns)
                where = f" from byte {start:,}" if start else ""
                yield int((which == index).sum()), BufferLayout(f"vertices: {names}{where}", stride, columns)


def _indices(frame: OpenGLFrame, name: int) -> Iterator[tuple[int, BufferLayout]]:
    draws = np.flatnonzero(np.asarray(frame.steps.kind) == KINDS.index("draw"))
    calls = np.asarray(frame.steps.call)[draws]
    for call in calls[element_buffers(frame, calls) == name].tolist():
        if any(p.name == "type" for p in frame.calls.command(call).parameters):
            dtype = INDEX_TYPES.get(int(frame.calls.argument(call, "type")))
            if dtype is not None:
                column = BufferColumn("index", dtype, 1, 0)
                yield 1, BufferLayout(f"indices of {8 * dtype.itemsize} bits", dtype.itemsize, [column])


def _blocks(frame: OpenGLFrame, name: int) -> Iterator[tuple[int, BufferLayout]]:
    history = frame.history
    for program in frame.objects.programs:
        steps = np.flatnonzero(np.asarray(frame.steps.program) == program.name)
        for block, (index, binding) in program.blocks.items():
            for call in frame.steps.call[steps[:1]].tolist():
                point = history.number("block_binding", call, program.name, index, missing=binding)
                bound = history.value("indexed_buffer", call, GL.UNIFORM_BUFFER, point)
                if not bound or bound[0] != name:
                    continue
                try:
                    layout = block_layout(program, block, frame.context.dialect)
                except UnclearSourceError:
                    continue
                start = int(bound[1]) if len(bound) > 1 else 0
                columns = []
                for (member, kind, _, _), place in zip(layout.rows, layout.members, strict=True):
                    letter, count = uniform_type(kind)
                    dtype = np.dtype(_OF_LETTER[letter[0]])
                    for k in range(place.count):
                        label = f"{member}[{k}]" if place.count > 1 else member
                        columns.append(BufferColumn(label, dtype, count, start + place.offset + k * place.stride))
                yield len(steps), BufferLayout(f"block {block}", max(layout.bytes, 1), columns)
