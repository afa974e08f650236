"""What the tap kept from the moment it was called: display lists, and texture images of OpenGL ES."""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass, field

import numpy as np

from wendascope.backends.opengl.calls.packed import FLAG_LOST, CallStream, merge_streams
from wendascope.backends.opengl.objects.formats import named_format, pixel_size
from wendascope.backends.opengl.objects.records import ImageRecord
from wendascope.errors import DamagedFileError
from wendascope.frame.blobs import BlobStore
from wendascope.registry import GL, tables
from wendascope.registry.numbers import KeptKind
from wendascope.registry.rules import ALL_LEVELS, MIPMAPS

_ROW = struct.Struct("<5Q")


@dataclass
class Kept:
    """Kept calls of one share group."""

    lists: dict[int, CallStream] = field(default_factory=dict)
    """Display list -> the calls that make it."""
    images: dict[int, dict[int, CallStream]] = field(default_factory=dict)
    """Texture -> (target << 8 | level) -> the calls that made the image."""

    @classmethod
    def parse(cls, data: bytes) -> Kept:
        """From the rows that the tap sends. Raises DamagedFileError."""
        kept, at = cls(), 0
        while at + _ROW.size <= len(data):
            kind, name, key, words, arena = _ROW.unpack_from(data, at)
            at += _ROW.size
            if words % 8 or words > len(data) - at or arena > len(data) - at - words:
                raise DamagedFileError("kept calls are cut short")
            stream = CallStream.parse(
                np.frombuffer(data, np.uint64, words // 8, at).copy(),
                np.frombuffer(data, np.uint8, arena, at + words).copy(),
            )
            at += words + arena
            if kind == KeptKind.LIST:
                kept.lists[name] = stream
            elif kind == KeptKind.IMAGE:
                kept.images.setdefault(name, {})[key] = stream
        return kept

    def all_lists(self) -> CallStream:
        """Every display list in the order of names: a list may call others, which need not exist yet."""
        return merge_streams([self.lists[name] for name in sorted(self.lists)])

    @property
    def caveats(self) -> list[str]:
        lost = sum(bool(np.any(stream.flags & FLAG_LOST)) for stream in self.lists.values())
        return [f"{lost} display lists draw in a way that was not kept"] if lost else []

    def texture_images(self, name: int, blobs: BlobStore) -> list[ImageRecord]:
        """Shapes, and contents where they were kept, of one texture's images."""
        streams = self.images.get(name, {})
        records: dict[tuple[int, int], ImageRecord] = {}
        for key, stream in sorted(streams.items()):
            if key & 0xFF == ALL_LEVELS:
                records |= {(image.target, image.level): image for image in _storage(stream)}
        for key, stream in sorted(streams.items()):
            target, level = key >> 8, key & 0xFF
            if level >= MIPMAPS:
                continue
            image = records.get((target, level)) or _defined(stream, target, level)
            if image is not None:
                records[target, level] = image
                data = pixels_of(stream, image) if image.compressed or image.format else None
                image.contents = blobs.put(data) if data is not None else None
        if any(key & 0xFF == MIPMAPS for key in streams):
            _add_mipmaps(records)
        return sorted(records.values(), key=lambda image: (image.level, image.target))

    def compressed(self, name: int, image: ImageRecord) -> bytes | None:
        """Contents of a compressed image of known shape, or None when they were not kept whole."""
        stream = self.images.get(name, {}).get(image.target << 8 | image.level)
        return None if stream is None else pixels_of(stream, image)


def _storage(stream: CallStream) -> list[ImageRecord]:
    def get(name: str) -> int:
        return int(stream.argument(0, name))

    names = {p.name for p in stream.command(0).parameters}
    width, height, depth = get("width"), get("height"), get("depth") if "depth" in names else 1
    target, levels = get("target"), min(get("levels"), 20)
    compressed = "COMPRESSED" in tables().enum_name(get("internalformat"), "InternalFormat")
    format_, type_ = (named_format(get("internalformat")) if not compressed else None) or (0, 0)
    faces = (
        range(GL.TEXTURE_CUBE_MAP_POSITIVE_X, GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6)
        if target == GL.TEXTURE_CUBE_MAP
        else (target,)
    )
    return [
        ImageRecord(
            face,
            level,
            max(1, width >> level),
            max(1, height >> level),
            max(1, depth >> level) if target == GL.TEXTURE_3D else depth,
            get("internalformat"),
            format_,
            type_,
            compressed,
        )
        for level in range(levels)
        for face in faces
    ]


def _defined(stream: CallStream, target: int, level: int) -> ImageRecord | None:
    command = stream.command(0)
    names = {p.name for p in command.parameters}
    if "Sub" in command.name or "internalformat" not in names:
        return None

    def get(name: str) -> int:
        return int(stream.argument(0, name))

    image = ImageRecord(
        target, level, get("width"), get("height"), get("depth") if "depth" in names else 1, get("internalformat")
    )
    image.compressed = "Compressed" in command.name
    if "type" in names:
        image.format, image.type = get("format"), get("type")
    elif not image.compressed:
        image.format, image.type = image.internal_format, GL.UNSIGNED_BYTE
    return image


def _add_mipmaps(records: dict[tuple[int, int], ImageRecord]) -> None:
    for (target, level), base in list(records.items()):
        if level:
            continue
        for below in range(1, max(base.width, base.height).bit_length()):
            records.setdefault(
                (target, below),
                ImageRecord(
                    target,
                    below,
                    max(1, base.width >> below),
                    max(1, base.height >> below),
                    base.depth,
                    base.internal_format,
                    base.format,
                    base.type,
                ),
            )


def pixels_of(stream: CallStream, image: ImageRecord) -> bytes | None:
    """Put an image together from its uploads, tightly packed; None when nothing of it was kept."""
    block = _block(image.internal_format) if image.compressed else (1, 1)
    canvas: np.ndarray | None = None
    for call in range(len(stream)):
        command = stream.command(call)
        names = {p.name for p in command.parameters}
        data = stream.argument(call, "data" if "data" in names else "pixels") if names & {"data", "pixels"} else None
        if not isinstance(data, bytes):
            continue
        width, height, depth, x, y, z = (
            int(stream.argument(call, name)) if name in names else missing
            for name, missing in (
                ("width", 1),
                ("height", 1),
                ("depth", 1),
                ("xoffset", 0),
                ("yoffset", 0),
                ("zoffset", 0),
            )
        )
        columns, rows = -(-width // block[0]), -(-height // block[1])
        if image.compressed:
            unit = len(data) // max(columns * rows * depth, 1)
        else:
            unit = pixel_size(image.format, image.type)
            data = _tight(data, width * unit, height * depth)
        piece = np.frombuffer(data, np.uint8)[: depth * rows * columns * unit]
        if unit == 0 or len(piece) < depth * rows * columns * unit:
            return None
        if canvas is None:
            canvas = np.zeros((image.depth, -(-image.height // block[1]), -(-image.width // block[0]), unit), np.uint8)
        x, y = x // block[0], y // block[1]
        place = canvas[z : z + depth, y : y + rows, x : x + columns]
        if place.shape != (depth, rows, columns, unit):
            return None
        place[...] = piece.reshape(place.shape)
    return None if canvas is None else canvas.tobytes()


def _tight(data: bytes, row: int, rows: int) -> bytes:
    """Take the padding of the unpack alignment out again."""
    if rows <= 1 or len(data) <= row * rows:
        return data
    stride = (len(data) - row) // (rows - 1)
    padded = np.frombuffer(data + bytes(stride), np.uint8)[: stride * rows].reshape(rows, stride)
    return padded[:, :row].tobytes()


def _block(internal_format: int) -> tuple[int, int]:
    """Block size of a compressed format: ASTC names say theirs, all others here have 4x4."""
    found = next((m for n in tables().names_of(internal_format) if (m := re.search(r"ASTC_(\d+)x(\d+)", n))), None)
    return (int(found[1]), int(found[2])) if found else (4, 4)
