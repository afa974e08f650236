"""The stages of a program, by the numbers that the Khronos registry gives them: as files and remedies keep them."""

from __future__ import annotations

from enum import IntEnum


class Stage(IntEnum):
    """A stage of a program."""

    FRAGMENT = 0x8B30
    VERTEX = 0x8B31
    GEOMETRY = 0x8DD9
    TESSELLATION_EVALUATION = 0x8E87
    TESSELLATION_CONTROL = 0x8E88
    COMPUTE = 0x91B9


STAGE_NAMES: dict[int, str] = {
    Stage.VERTEX: "vertex",
    Stage.FRAGMENT: "fragment",
    Stage.GEOMETRY: "geometry",
    Stage.TESSELLATION_CONTROL: "tessellation control",
    Stage.TESSELLATION_EVALUATION: "tessellation",
    Stage.COMPUTE: "compute",
}

ENDINGS: dict[int, str] = {
    Stage.VERTEX: ".vert",
    Stage.FRAGMENT: ".frag",
    Stage.GEOMETRY: ".geom",
    Stage.TESSELLATION_CONTROL: ".tesc",
    Stage.TESSELLATION_EVALUATION: ".tese",
    Stage.COMPUTE: ".comp",
}
"""Of files of their sources, as compilers know them."""
