"""What can be changed of a frame and tried in the replay, as data."""

from __future__ import annotations

from typing import Final, Literal

import msgspec

INSTANCE, MERGE, MULTI_DRAW = "instance", "merge", "multi-draw"
"""How draws become one: copies of one mesh; their vertices put together; ranges that one call names."""
SAME: Final = "same"
ARRAY: Final = "array"
ATLAS: Final = "atlas"
UNITS: Final = "units"
Textures = Literal["same", "array", "atlas", "units"]
"""How textures that differ come together: they are the same; layers of an array; places on a page of an atlas; bound
side by side, each on a texture unit of its own.
"""


class Part(msgspec.Struct):
    """Steps that one draw takes the place of, and how."""

    how: str
    steps: list[int]
    textures: str = ""
    """How textures that differ come together: `array`, `atlas` or `units`; empty where none do."""


class EditedSource(msgspec.Struct):
    """A shader of a program as somebody wrote it anew."""

    stage: int
    text: str


class Remedy(msgspec.Struct):
    """A change of the frame that can be tried in the replay. `kind` names how; the rest is what it is done to."""

    kind: str
    steps: list[int]
    order: list[int] = []
    """The steps in a better order, where that is the remedy."""
    orders: list[list[int]] = []
    """Runs of steps in the orders in which they are to come, where draws of several steps need others to move."""
    parts: list[Part] = []
    """What each draw holds, where steps are drawn together."""
    program: int = 0
    """The program that is changed, where that is the remedy."""
    sources: list[EditedSource] = []
    """Its sources as they are to be."""
    values: dict[str, float] = {}
    """Uniforms that get other values than they have in the frame; `depth` (0 to 1) of what is drawn small; `triangles`
    and `error` of a simpler mesh.
    """
    names: list[str] = []
    """Outputs of a shader that are left out."""
    boxes: list[tuple[int, int, int, int]] = []
    """Where each step is drawn, in pixels of its target: (x0, y0, x1, y1), y from the bottom; empty for nowhere."""
    divide: int = 1
    """By what width and height of the target are divided, where that is the remedy."""
    lines: list[int] = []
    """Of the fragment shader, that are changed."""
    loops: dict[int, int] = {}
    """Line of a loop in the fragment shader -> the most rounds it may run."""
    textures: list[int] = []
    """Grey ones that become channels of one, where that is the remedy."""
    calls: list[int] = []
    """Of the frame, that are left out, where that is the remedy."""
    frames_ago: int = 0
    """How many frames before this one in its sequence a result is from, where that is the remedy."""
