"""What steps work with, as analysis sees it: programs, textures, vertex attributes. An API's own records have these
attributes, and more.
"""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np


class Shader(Protocol):
    """A stage of a program."""

    @property
    def stage(self) -> int:
        """A `glsl.stages.Stage`."""
        ...

    @property
    def source(self) -> str: ...
    @property
    def spirv(self) -> bytes:
        """A SPIR-V module in place of source; empty where there is none."""
        ...


class Program(Protocol):
    """A program that steps draw or dispatch with."""

    @property
    def name(self) -> int: ...
    @property
    def label(self) -> str: ...
    @property
    def linked(self) -> bool: ...
    @property
    def runs(self) -> bool:
        """Whether it has anything to run: sources or a binary."""
        ...

    @property
    def shaders(self) -> Sequence[Shader]: ...
    @property
    def plain_uniforms(self) -> frozenset[str]:
        """Names of the uniforms that are no samplers, `[0]` left out."""
        ...

    @property
    def captures_vertices(self) -> bool:
        """Whether what its vertex stages give can be captured into buffers."""
        ...

    @property
    def output_numbers(self) -> dict[str, int]:
        """Fragment output -> number of the colour that it goes to, as the program bound it."""
        ...


class Texture(Protocol):
    """A texture with what tells whether it could share an array or a page with others."""

    @property
    def name(self) -> int: ...
    @property
    def label(self) -> str: ...
    @property
    def width(self) -> int: ...
    @property
    def height(self) -> int: ...
    @property
    def levels(self) -> int: ...
    @property
    def plain(self) -> bool:
        """Whether it is two-dimensional, without layers, faces and samples, and has an image."""
        ...

    @property
    def repeats(self) -> bool:
        """Whether coordinates beyond 0 and 1 find it again."""
        ...

    @property
    def format(self) -> int:
        """Number of the internal format of its first level; 0 without one."""
        ...

    @property
    def texels(self) -> int:
        """Of all levels."""
        ...

    @property
    def stored_bytes(self) -> int:
        """Of the captured contents of all levels; 0 where none are kept."""
        ...

    @property
    def first_level_bytes(self) -> int:
        """Of the captured contents of the first level."""
        ...

    @property
    def readable(self) -> bool:
        """Whether all levels are kept, and none compressed."""
        ...

    @property
    def filter(self) -> str:
        """`nearest` or `linear` without mip levels, `mipmaps` with them."""
        ...

    @property
    def shape(self) -> Hashable:
        """Equal for textures that could be layers of one array: sizes, formats, levels and parameters."""
        ...

    @property
    def look(self) -> Hashable:
        """Equal for textures that could share a page, whatever their sizes: format and parameters."""
        ...


@dataclass(frozen=True)
class VertexInput:
    """One enabled attribute array."""

    index: int
    name: str
    """What the program calls it; empty where no shader reads it."""
    size: int
    type: int
    """Number of the type in the API."""
    normalized: bool
    stride: int
    """Bytes from one vertex to the next, never 0."""
    offset: int
    buffer: int
    divisor: int
    integer: bool = False
    """Read as integers, not converted to floats."""
    dtype: np.dtype[np.generic] | None = None
    """Of one component; None for packed types."""

    @property
    def bytes(self) -> int:
        """Of one value."""
        return self.size * self.dtype.itemsize if self.dtype else 4


_PLACES = ("pos", "vert", "coord", "place", "gl_vertex")
"""Parts of names of the attribute that holds positions."""


def holding_positions(inputs: Sequence[VertexInput], least: int = 2) -> VertexInput | None:
    """The attribute that most likely holds the positions, with so many floating-point components at least."""
    floats = [a for a in inputs if a.dtype is not None and a.dtype.kind == "f" and a.dtype.itemsize == 4]
    fitting = [a for a in floats if a.size >= least and not a.integer and not a.divisor]
    named = [a for a in fitting if any(part in a.name.lower() for part in _PLACES)]
    return min(named or fitting, key=lambda a: a.index, default=None)
