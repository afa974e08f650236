"""An OpenGL frame as the parts that a file holds, and back. Everything read is checked before it is used."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from wendascope.backends.opengl.calls.contexts import OtherContext
from wendascope.backends.opengl.calls.packed import CallStream, merge_streams
from wendascope.backends.opengl.calls.runnable import may_set_up
from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.objects.records import DefaultFramebuffer, Objects
from wendascope.backends.opengl.state.state_table import PATTERNS
from wendascope.frame.blobs import BlobRef
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import FrameStatistics, Metadata, Picture
from wendascope.frame.parts import Parts
from wendascope.registry import tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_MOST_PIXELS = 1 << 28
_MOST_BYTES = 1 << 40
"""Of a buffer, and of offsets into one."""
_MOST_LOCATIONS = 1 << 17
"""Of a program; drivers have fewer."""


class _Reference(msgspec.Struct):
    width: int
    height: int
    framebuffer: int


def encode(frame: OpenGLFrame) -> Parts:
    """The parts of a frame."""
    text = msgspec.json.encode
    streams = {"": frame.calls, "setup_": frame.setup, "lists_": frame.lists, "following_": frame.following}
    local = np.unique(np.concatenate([stream.ids for stream in streams.values()]))
    sections: dict[str, bytes] = {}
    for prefix, stream in streams.items():
        words = stream.words.copy()
        heads = words[stream.offsets]
        words[stream.offsets] = (heads & ~np.uint64(0xFFFF)) | np.searchsorted(local, stream.ids).astype(np.uint64)
        sections |= {
            f"{prefix}calls": words.tobytes(),
            f"{prefix}offsets": stream.offsets.tobytes(),
            f"{prefix}arena": stream.arena.tobytes(),
        }
    meta = {
        "metadata": text(frame.metadata).decode(),
        "context": text(frame.context).decode(),
        "default_framebuffer": text(frame.default_framebuffer).decode(),
        "state": text({p: [[*key, *v] for key, v in keys.items()] for p, keys in frame.state.items()}).decode(),
        "commands": text([tables().commands[i].name for i in local.tolist()]).decode(),
        "heartbeats": text(frame.frame_statistics).decode(),
        "caveats": text(frame.caveats).decode(),
        "other_contexts": text(frame.other_contexts).decode(),
    }
    if frame.reference is not None:
        reference = _Reference(frame.reference.width, frame.reference.height, frame.reference_framebuffer)
        meta["reference"] = text(reference).decode()
        sections["reference"] = np.ascontiguousarray(frame.reference.pixels).tobytes()
    if frame.reference_depth is not None:
        sections["reference_depth"] = frame.reference_depth
    contents = {ref.hash: ref.size for ref in _all_refs(frame.objects, frame.default_framebuffer)}
    objects = {field: text(getattr(frame.objects, field)).decode() for field in Objects.__struct_fields__}
    return Parts(meta, sections, objects, frame.blobs, contents)


def decode(parts: Parts) -> OpenGLFrame:
    """The frame of some parts. Raises ValueError where they do not fit each other."""
    from wendascope.backends.opengl.frame import OpenGLFrame

    meta, sections = parts.meta, parts.sections
    objects = msgspec.json.decode("{" + ",".join(f'"{k}":{v}' for k, v in parts.objects.items()) + "}", type=Objects)
    read = msgspec.json.decode
    default = read(meta["default_framebuffer"], type=DefaultFramebuffer)
    _check_objects(objects, default, parts.contents)
    commands = read(meta["commands"], type=list[str])
    extra = [
        _calls(sections, commands, prefix) if f"{prefix}calls" in sections else merge_streams([])
        for prefix in ("setup_", "lists_", "following_")
    ]
    frame = OpenGLFrame(
        metadata=read(meta["metadata"], type=Metadata),
        context=read(meta["context"], type=ContextInfo),
        default_framebuffer=default,
        state=_state(read(meta["state"], type=dict[str, list[list[int]]])),
        objects=objects,
        blobs=parts.blobs,
        calls=_calls(sections, commands, ""),
        setup=extra[0],
        lists=extra[1],
        following=extra[2],
        frame_statistics=read(meta["heartbeats"], type=list[FrameStatistics]),
        caveats=read(meta["caveats"], type=list[str]),
        other_contexts=read(meta.get("other_contexts", "[]"), type=list[OtherContext]),
    )
    frame.reference = captured_picture(meta, sections)
    if frame.reference is not None:
        frame.reference_framebuffer = read(meta["reference"], type=_Reference).framebuffer
    if "reference_depth" in sections:
        if len(sections["reference_depth"]) != default.width * default.height * 4:
            raise ValueError("the depth of the reference picture has the wrong size")
        frame.reference_depth = sections["reference_depth"]
    return frame


def captured_picture(meta: Mapping[str, str], sections: Mapping[str, bytes]) -> Picture | None:
    """The picture that the program showed, of the part `reference` alone; None without one. Raises ValueError."""
    if "reference" not in meta:
        return None
    reference, data = msgspec.json.decode(meta["reference"], type=_Reference), sections["reference"]
    size = reference.width * reference.height * 4
    if len(data) != size or reference.width <= 0 or reference.height <= 0:
        raise ValueError("the reference picture has the wrong size")
    return Picture.from_bytes(data, reference.width, reference.height)


def _state(stored: dict[str, list[list[int]]]) -> dict[str, dict[tuple[int, int], tuple[int, ...]]]:
    state: dict[str, dict[tuple[int, int], tuple[int, ...]]] = {}
    for pattern, rows in stored.items():
        if pattern not in PATTERNS:
            raise ValueError(f"unknown state {pattern}")
        width = len(PATTERNS[pattern].kinds)
        whole = "o" in PATTERNS[pattern].kinds  # of others a context may not have told all
        for i, j, *values in rows:
            if (
                len(values) > width
                or (whole and len(values) != width)
                or any(not -(1 << 63) <= v < 1 << 64 for v in (i, j, *values))
            ):
                raise ValueError(f"bad value of state {pattern}")
            state.setdefault(pattern, {})[i, j] = tuple(values)
    return state


def _calls(sections: dict[str, bytes], commands: list[str], prefix: str) -> CallStream:
    by_name = tables().by_name
    unknown = [name for name in commands if name not in by_name]
    if unknown:
        raise ValueError(f"it calls {unknown[0]}, which does not exist")
    words = np.frombuffer(sections[f"{prefix}calls"], np.uint64).copy()
    offsets = np.frombuffer(sections[f"{prefix}offsets"], np.int64)
    if len(offsets):
        ends = np.append(offsets[1:], len(words))
        if offsets[0] != 0 or np.any(ends <= offsets) or ends[-1] != len(words):
            raise ValueError("the calls are not where their index says")
        heads = words[offsets]
        local = (heads & np.uint64(0xFFFF)).astype(np.int64)
        if int(local.max()) >= len(commands):
            raise ValueError("a call names no command")
        ids = np.array([by_name[name].id for name in commands], np.uint64)
        words[offsets] = (heads & ~np.uint64(0xFFFF)) | ids[local]
    elif len(words):
        raise ValueError("the calls are not where their index says")
    stream = CallStream(words, np.frombuffer(sections[f"{prefix}arena"], np.uint8), offsets)
    stream.validate()
    if prefix == "setup_":
        for number in np.unique(stream.ids).tolist():
            if not may_set_up(tables().commands[number]):
                raise ValueError(f"its set-up calls {tables().commands[number].name}, which sets nothing up")
    return stream


def _all_refs(objects: Objects, default: DefaultFramebuffer) -> list[BlobRef]:
    extra = (default.color, default.depth_contents, default.stencil_contents)
    return objects.blob_refs() + [ref for ref in extra if ref is not None]


def _check_objects(objects: Objects, default: DefaultFramebuffer, known: dict[str, int]) -> None:
    """Sizes must agree with contents: what is uploaded later is as long as GL will read."""
    for ref in _all_refs(objects, default):
        if known.get(ref.hash) != ref.size:
            raise ValueError("contents are missing")
    for buffer in objects.buffers:
        _expect(buffer.contents, buffer.size, f"buffer {buffer.name}")
        if not 0 <= buffer.size <= _MOST_BYTES:
            raise ValueError(f"buffer {buffer.name} is too large")
    for texture in objects.textures:
        for image in texture.images:
            if image.contents is not None and not image.compressed:
                pixels = image.width * image.height * image.depth
                _expect(
                    image.contents, _pixels(pixels) * pixel_size(image.format, image.type), f"texture {texture.name}"
                )
    for renderbuffer in objects.renderbuffers:
        if renderbuffer.contents is not None:
            size = _pixels(renderbuffer.width * renderbuffer.height) * pixel_size(
                renderbuffer.format, renderbuffer.type
            )
            _expect(renderbuffer.contents, size, f"renderbuffer {renderbuffer.name}")
    pixels = _pixels(default.width * default.height)
    for contents, size in ((default.color, 4), (default.depth_contents, 4), (default.stencil_contents, 1)):
        _expect(contents, pixels * size, "the window")
    for program in objects.programs:
        if len(program.uniforms) + sum(len(uniform.locations) for uniform in program.uniforms) > _MOST_LOCATIONS:
            raise ValueError(f"program {program.name} has too many uniforms")


def _pixels(count: int) -> int:
    if not 0 <= count <= _MOST_PIXELS:
        raise ValueError("an image is too large")
    return count


def _expect(ref: BlobRef | None, size: int, what: str) -> None:
    if ref is not None and ref.size != size:
        raise ValueError(f"contents of {what} have the wrong size")
