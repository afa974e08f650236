"""What a program keeps on the GPU: every object with its bytes, what it is for and which steps use it."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field
from enum import Enum

import numpy as np

from wendascope.frame.formats import NO_TEXELS, Format
from wendascope.frame.numbers import Ints

NO_STEPS: Ints = np.zeros(0, np.int64)


class MemoryKind(Enum):
    """What memory is used as. The values are what one object of it is called."""

    TEXTURE = "texture"
    TARGET = "render target"
    MULTISAMPLE = "multisample target"
    BUFFER = "buffer"
    STAGING = "staging buffer"
    WINDOW = "window"


@dataclass(frozen=True)
class MemoryItem:
    """One object. A view of another object, and a texture that reads a buffer, take nothing themselves."""

    kind: MemoryKind
    object_class: str
    """`texture`, `renderbuffer`, `buffer` or `window`."""
    name: int
    label: str
    """The program's own debug label; empty where it gave none."""
    format: str
    """Of texels, or what a buffer holds: `vertices, indices`."""
    shape: str
    """`2D`, `cube`, `3D`, `2D array`, ...; empty for buffers."""
    width: int = 0
    height: int = 0
    layers: int = 1
    """Slices, layers and faces."""
    levels: int = 0
    """Mip levels that exist; 0 for buffers."""
    samples: int = 0
    bytes: int | None = None
    """None where the size of its format is not known."""
    how: str = ""
    """How the bytes were computed."""
    reads: Ints = field(default_factory=lambda: NO_STEPS, compare=False)
    """Steps that read it, in order."""
    writes: Ints = field(default_factory=lambda: NO_STEPS, compare=False)
    """Steps that write it."""
    read_parts: dict[str, Ints] = field(default_factory=dict, compare=False)
    """What it is read as by which steps: `vertices`, `indices`, `uniform block`."""
    by_calls: Ints = field(default_factory=lambda: NO_STEPS, compare=False)
    """Calls other than steps that read or write it: uploads, readbacks, mappings."""
    written_by: int = -1
    """The last call of the frame that writes it; -1 for none."""
    followed: bool = True
    """Whether everything that could use it is known."""
    read_next: bool = False
    """Whether the frame after reads what this one left in it."""
    written_next: bool = False
    """Whether the frame after writes to it. Both as far as that frame is known."""
    place: str = ""
    """Where in the program it was made, where that is known."""
    texels: Format = NO_TEXELS
    """What `format` is, of textures and targets."""
    hash: str = ""
    """Equal for objects of one class with the same contents in the same format; empty where they are not known."""

    @property
    def title(self) -> str:
        """`poster (texture 12)`."""
        own = "window" if self.object_class == "window" else f"{self.object_class} {self.name}"
        return f"{self.label} ({own})" if self.label else own

    @property
    def size(self) -> int:
        """Bytes, 0 where they are not known."""
        return self.bytes or 0

    @functools.cached_property
    def steps(self) -> Ints:
        """Steps that read or write it."""
        return np.flatnonzero(np.bincount(np.concatenate([self.reads, self.writes])))

    @property
    def stays(self) -> bool:
        """Whether the frame and the one after leave its contents as they are, as far as that is known."""
        return not len(self.writes) and self.written_by < 0 and not self.written_next

    @property
    def used(self) -> bool:
        """Whether any call of the frame uses it."""
        return bool(len(self.reads) or len(self.writes) or len(self.by_calls))

    @property
    def dimensions(self) -> str:
        """`1024 x 512`, with layers where it has several; empty for buffers."""
        if not self.width:
            return ""
        return f"{self.width} x {self.height}" + (f" x {self.layers}" if self.layers > 1 else "")


@dataclass(frozen=True)
class Fetched:
    """What the draws of a frame fetch of one buffer."""

    bytes: int
    index_bytes: int
    """Of one index, where all draws that take indices from it agree; 0 where it has none."""
    largest_index: int
