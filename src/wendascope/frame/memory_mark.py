"""Moments of a running program: every object that lives in graphics memory, as the tap has followed it from the start.

A mark is a file of JSON, so that two of them can be compared whenever somebody wants to.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from wendascope.errors import DamagedFileError, FileError
from wendascope.files import write_atomically
from wendascope.frame.blobs import Number
from wendascope.frame.memory import MemoryItem, MemoryKind

VERSION = 1
SUFFIX = ".json"
_LARGEST = 256 << 20
_KINDS = {
    "texture": MemoryKind.TEXTURE, "renderbuffer": MemoryKind.TARGET, "buffer": MemoryKind.BUFFER
}  # fmt: skip


class MarkedObject(msgspec.Struct, frozen=True):
    """One object that lived when the mark was made."""

    object_class: str
    """`texture`, `renderbuffer` or `buffer`."""
    owner: Number
    """Which group of contexts shares it."""
    name: Number
    format: str
    width: Number
    height: Number
    depth: Number
    levels: Number
    samples: Number
    bytes: Number
    born_ns: Number
    """When it was made, on the clock of `MemoryMark.at_ns`."""
    born_frame: Number
    """How many frames had ended by then."""
    thread: Number
    place: str = ""
    """The innermost debug group that it was made in."""
    stack: list[str] = []
    """Calls that led to it, innermost first; only where the program was started with stacks."""


class MemoryMark(msgspec.Struct):
    """All of one moment."""

    program: list[str]
    number: Number
    """Marks of one run are counted from 1."""
    frame: Number
    at_ns: Number
    objects: list[MarkedObject]
    version: int = VERSION

    @property
    def bytes(self) -> int:
        return sum(item.bytes for item in self.objects)


def save_mark(mark: MemoryMark, path: Path) -> None:
    """Write it whole or not at all. Raises FileError."""
    data = msgspec.json.format(msgspec.json.encode(mark), indent=1)
    write_atomically(path, lambda scratch: scratch.write_bytes(data))


def load_mark(path: Path) -> MemoryMark:
    """Raises FileError where it is no mark."""
    try:
        if path.stat().st_size > _LARGEST:
            raise DamagedFileError(f"{path} is too large for a memory mark")
        mark = msgspec.json.decode(path.read_bytes(), type=MemoryMark)
    except OSError as error:
        raise FileError(f"cannot read {path}: {error.strerror or error}") from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise DamagedFileError(f"{path} is no memory mark ({error}); make one with `wendascope mark`") from error
    if mark.version > VERSION:
        raise FileError(f"{path} has version {mark.version}, this Wendascope reads up to {VERSION}; update Wendascope")
    return mark


def marked_items(mark: MemoryMark) -> list[MemoryItem]:
    """The objects of a mark as those of a frame are, to be grouped and compared like them. Who uses them is not
    known.
    """
    return [_item(row) for row in mark.objects]


def _item(row: MarkedObject) -> MemoryItem:
    where = row.stack[0] if row.stack else ""
    place = ", ".join(part for part in (row.place, where) if part)
    how = f"made before the end of frame {row.born_frame + 1}" + (f" in {place}" if place else "")
    return MemoryItem(
        _KINDS.get(row.object_class, MemoryKind.BUFFER), row.object_class, row.name, "", row.format, "", row.width,
        row.height, max(row.depth, 1), row.levels, row.samples, row.bytes, how, followed=False, place=place,
    )  # fmt: skip
