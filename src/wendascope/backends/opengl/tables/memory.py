"""Everything that an OpenGL frame finds in graphics memory when it begins, with its bytes and its uses."""

from __future__ import annotations

import dataclasses
import hashlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.objects.records import BufferRecord, ImageRecord, RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.objects.texel_formats import texel_format
from wendascope.backends.opengl.objects.texel_sizes import format_name, texel_size
from wendascope.backends.opengl.state.texture_parameters import parameter_calls
from wendascope.backends.opengl.tables.buffer_uses import BufferUses, joined
from wendascope.backends.opengl.tables.written import images_of, texture_writes
from wendascope.frame.formats import NO_TEXELS
from wendascope.frame.memory import NO_STEPS, MemoryItem, MemoryKind
from wendascope.frame.numbers import Ints
from wendascope.registry import GL, tables
from wendascope.texts import plural

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_SHAPES = {
    GL.TEXTURE_1D: "1D", GL.TEXTURE_2D: "2D", GL.TEXTURE_3D: "3D", GL.TEXTURE_CUBE_MAP: "cube",
    GL.TEXTURE_RECTANGLE: "rectangle", GL.TEXTURE_1D_ARRAY: "1D array", GL.TEXTURE_2D_ARRAY: "2D array",
    GL.TEXTURE_CUBE_MAP_ARRAY: "cube array", GL.TEXTURE_BUFFER: "buffer", GL.TEXTURE_2D_MULTISAMPLE: "2D",
    GL.TEXTURE_2D_MULTISAMPLE_ARRAY: "2D array",
}  # fmt: skip
_STAGING = ("source of uploads", "readbacks", "source of copies")


def memory_items(frame: OpenGLFrame) -> list[MemoryItem]:
    """One for each object that there is, in the order of their names by class, the window last."""
    flow = _Flow(frame)
    items = [*_Textures(frame, flow).items(), *_renderbuffers(frame, flow), *_buffers(frame), *_window(frame)]
    if not frame.knows_following:
        return items
    following = _Following(frame)
    return [following.with_next(item) for item in items]


class _Following:
    """What the frame after does to what this one leaves, as far as its calls tell."""

    def __init__(self, frame: OpenGLFrame) -> None:
        whole = frame.with_following
        self._flow, self._steps, self._calls = _Flow(whole), len(frame.steps), len(frame.calls)
        self._uploads = texture_writes(whole)

    def with_next(self, item: MemoryItem) -> MemoryItem:
        """The item with what becomes of it."""
        reads, writes, _ = self._flow.steps(item.object_class, item.name)
        reads, writes = reads[reads >= self._steps], writes[writes >= self._steps]
        uploads = self._uploads.get(item.name, NO_STEPS) if item.object_class == "texture" else NO_STEPS
        if not (len(reads) or len(writes) or len(uploads) or item.read_next or item.written_next):
            return item
        return dataclasses.replace(
            item,
            read_next=bool(len(reads)) and (not len(writes) or int(reads[0]) < int(writes[0])),
            written_next=bool(len(writes) or (uploads >= self._calls).any()),
        )


# ---- images ------------------------------------------------------------------------------------------------


class _Flow:
    """Steps that read and write each image."""

    def __init__(self, frame: OpenGLFrame) -> None:
        flow = frame.resource_flow
        self.followed = flow.followed
        self._numbers = {resource: number for number, resource in enumerate(flow.resources)}
        self._reads, self._writes, self._back = (_by_resource(*p) for p in (flow.reads, flow.writes, flow.read_back))

    def steps(self, kind: str, name: int) -> tuple[Ints, Ints, Ints]:
        """(reading steps, writing steps, calls that read it back)."""
        number = self._numbers.get((kind, name))
        if number is None:
            return NO_STEPS, NO_STEPS, NO_STEPS
        reads, writes, back = (rows.get(number, NO_STEPS) for rows in (self._reads, self._writes, self._back))
        return reads, writes, back


def _by_resource(steps: Ints, resources: Ints) -> dict[int, Ints]:
    """The number of each resource -> its steps in order, each once."""
    order = np.lexsort((steps, resources))
    numbers, starts = np.unique(resources[order], return_index=True)
    return {n: joined([rows]) for n, rows in zip(numbers.tolist(), np.split(steps[order], starts[1:]), strict=False)}


class _Textures:
    def __init__(self, frame: OpenGLFrame, flow: _Flow) -> None:
        self._frame, self._flow = frame, flow
        settings = np.flatnonzero(parameter_calls(frame)[0])
        self._uploads = {name: np.setdiff1d(calls, settings) for name, calls in texture_writes(frame).items()}
        self._targets = images_of(frame.passes.targets).textures | {
            a.name for f in frame.objects.framebuffers for a in f.attachments if a.kind == "texture"
        }

    def items(self) -> Iterator[MemoryItem]:
        for texture in self._frame.objects.textures:
            if texture.images or not texture.is_default:
                yield self._item(texture)

    def _item(self, texture: TextureRecord) -> MemoryItem:
        frame = self._frame
        first = texture.images[0] if texture.images else None
        samples = first.samples if first else 0
        target = texture.name in self._targets
        kind = MemoryKind.MULTISAMPLE if samples else MemoryKind.TARGET if target else MemoryKind.TEXTURE
        bytes_, how = texture_bytes(texture)
        reads, writes, back = self._flow.steps("texture", texture.view_of or texture.name)
        uploads = self._uploads.get(texture.name, NO_STEPS)
        called = joined([uploads, back[back >= 0]])
        last = max([*frame.steps.call[writes][-1:].tolist(), *uploads[-1:].tolist()], default=-1)
        own = f"texture {texture.target & 0xFFFF:#x} without a name" if texture.is_default else ""
        return MemoryItem(
            kind, "texture", texture.bound_name, texture.label or own,
            format_name(first.internal_format) if first else "", _SHAPES.get(texture.target, "unknown"),
            first.width if first else 0, first.height if first else 0, _layers(texture), texture.levels, samples,
            bytes_, how, reads, writes, {"texels": reads} if len(reads) else {}, called, int(last),
            followed=self._flow.followed and not (back < 0).any() and not texture.buffer and not texture.is_default,
            texels=texel_format(first.internal_format) if first else NO_TEXELS, hash=_texture_hash(texture),
        )  # fmt: skip


def _layers(texture: TextureRecord) -> int:
    if texture.target == GL.TEXTURE_CUBE_MAP:
        return 6
    return texture.images[0].depth if texture.images else 1


def texture_bytes(texture: TextureRecord) -> tuple[int | None, str]:
    """(bytes, how they were computed)."""
    if texture.view_of:
        return 0, f"a view of texture {texture.view_of}, which has the memory"
    if texture.buffer:
        return 0, f"it shows buffer {texture.buffer}, which has the memory"
    if not texture.images:
        return 0, "nothing was stored in it yet"
    sizes = [image_bytes(image) for image in texture.images]
    if any(size is None for size in sizes):
        return None, f"{format_name(texture.format)} tells no size"
    first, size = texture.images[0], texel_size(texture.format, texture.images[0].format, texture.images[0].type)
    if size is None:
        text = "as its compressed contents"
    elif size.compressed:
        text = f"{first.width} x {first.height} in blocks of {size.width} x {size.height} with {size.bits // 8} bytes"
    else:
        text = f"{first.width} x {first.height} x {size.bits} bits"
    faces = len({image.target for image in texture.images})
    depth = first.depth * faces
    text += f" x {plural(depth, 'layer')}" if depth > 1 else ""
    text += f" x {plural(first.samples, 'sample')}" if first.samples else ""
    text += f", {plural(texture.levels, 'level')} together" if texture.levels > 1 else ""
    return sum(size or 0 for size in sizes), text + "; alignment is the driver's own and not counted"


def image_bytes(image: ImageRecord) -> int | None:
    """Bytes of one level of one face, all its layers and samples; None where its format tells no size."""
    size = texel_size(image.internal_format, image.format, image.type)
    if size is not None:
        return size.image(image.width, image.height, max(image.depth, 1), image.samples)
    return image.contents.size if image.compressed and image.contents else None


def _texture_hash(texture: TextureRecord) -> str:
    if not texture.images or texture.view_of or not all(image.contents for image in texture.images):
        return ""
    parts = [(i.target, i.level, i.width, i.height, i.depth, i.internal_format, i.contents) for i in texture.images]
    return hashlib.sha256(repr((texture.target, parts)).encode()).hexdigest()


def _renderbuffers(frame: OpenGLFrame, flow: _Flow) -> Iterator[MemoryItem]:
    for record in frame.objects.renderbuffers:
        reads, writes, back = flow.steps("renderbuffer", record.name)
        bytes_, how = _renderbuffer_bytes(record)
        kind = MemoryKind.MULTISAMPLE if record.samples else MemoryKind.TARGET
        last = max(frame.steps.call[writes][-1:].tolist(), default=-1)
        yield MemoryItem(
            kind, "renderbuffer", record.name, "", format_name(record.internal_format), "2D", record.width,
            record.height, 1, 1, record.samples, bytes_, how, reads, writes, {}, back[back >= 0], int(last),
            followed=flow.followed and not (back < 0).any(), texels=texel_format(record.internal_format),
        )  # fmt: skip


def _renderbuffer_bytes(record: RenderbufferRecord) -> tuple[int | None, str]:
    if not record.width or not record.height:
        return 0, "nothing was stored in it yet"
    size = texel_size(record.internal_format, record.format, record.type)
    if size is None:
        return None, f"{format_name(record.internal_format)} tells no size"
    text = f"{record.width} x {record.height} x {size.bits} bits"
    text += f" x {plural(record.samples, 'sample')}" if record.samples else ""
    bytes_ = size.image(record.width, record.height, 1, record.samples)
    return bytes_, text + "; alignment is the driver's own and not counted"


def _window(frame: OpenGLFrame) -> Iterator[MemoryItem]:
    window = frame.default_framebuffer
    if not window.width or not window.height:
        return
    colour = window.red + window.green + window.blue + window.alpha
    depth, colours = window.depth + window.stencil, 2 if window.double else 1
    samples = max(window.samples, 1)
    bits = colour * colours + (colour if window.samples else 0) * samples + depth * samples
    how = f"{window.width} x {window.height}: {plural(colours, 'colour buffer')} of {colour} bits"
    how += f", colours of {plural(samples, 'sample')}" if window.samples else ""
    how += f", {depth} bits of depth and stencil" if depth else ""
    passes = frame.passes
    into = [i for i, t in enumerate(passes.targets) if t.framebuffer in (0, frame.reference_framebuffer)]
    writes = np.flatnonzero(np.isin(passes.of_step, into))
    yield MemoryItem(
        MemoryKind.WINDOW, "window", 0, "", f"RGB{'A' if window.alpha else ''}{window.red}", "2D", window.width,
        window.height, 1, 1, window.samples, window.width * window.height * bits // 8,
        how + "; the window system may hold more of them", NO_STEPS, writes,
        written_by=int(frame.steps.call[writes][-1]) if len(writes) else -1,
    )  # fmt: skip


# ---- buffers -----------------------------------------------------------------------------------------------


def _buffers(frame: OpenGLFrame) -> Iterator[MemoryItem]:
    uses = BufferUses(frame)
    for record in frame.objects.buffers:
        yield _buffer(frame, uses, record)


def _buffer(frame: OpenGLFrame, uses: BufferUses, record: BufferRecord) -> MemoryItem:
    parts = uses.reads.get(record.name, {})
    steps = {kind: joined(rows) for kind, rows in parts.items()}
    writes, calls = joined(uses.writes.get(record.name, [])), joined(uses.calls.get(record.name, []))
    staging = bool(parts) and all(kind in _STAGING for kind in parts)
    last = max([*frame.steps.call[writes][-1:].tolist(), *calls[-1:].tolist()], default=-1)
    usage = tables().enum_name(record.usage, "BufferUsageARB").removeprefix("GL_").lower().replace("_", " ")
    how = f"its size as stored; {'immutable' if record.immutable else f'usage {usage}'}"
    return MemoryItem(
        MemoryKind.STAGING if staging else MemoryKind.BUFFER, "buffer", record.name, record.label,
        ", ".join(sorted(parts)), "", bytes=record.size, how=how, reads=joined(steps.values()), writes=writes,
        read_parts=steps, by_calls=calls, written_by=int(last), followed=uses.followed,
        hash=record.contents.hash if record.contents else "",
    )  # fmt: skip
