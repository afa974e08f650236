"""What a version of GLSL knows."""

from __future__ import annotations

import re
from dataclasses import dataclass

_DECLARED = re.compile(r"^[ \t]*#[ \t]*version[ \t]+(\d+)[ \t]*(\w*)", re.MULTILINE)


@dataclass(frozen=True)
class Version:
    number: int
    es: bool

    @property
    def has_blocks(self) -> bool:
        """Uniform blocks."""
        return self.number >= (300 if self.es else 140)

    @property
    def has_buffer_textures(self) -> bool:
        """Buffer textures, and numbers of any type read from words."""
        return self.number >= (320 if self.es else 330)

    @property
    def has_arrays(self) -> bool:
        """Texture arrays."""
        return self.number >= (300 if self.es else 130)

    @property
    def has_flat(self) -> bool:
        """Integers as attributes and between the stages."""
        return self.number >= 130


def version_of(source: str, es: bool) -> Version:
    """Of a source in a context of OpenGL ES or not; a source without `#version` has the first one there was."""
    found = _DECLARED.search(source)
    if found is None:
        return Version(100 if es else 110, es)
    number = int(found[1])
    return Version(number, number == 100 or found[2] == "es")
