"""What every step of a frame uses and how its state is set: columns over the steps, built once by the API.

Analysis asks these columns, and no API, whether two steps have the same blending, which textures a step samples, and
what may change places.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from enum import IntEnum

import numpy as np
import numpy.typing as npt

from wendascope.frame.numbers import Ints, Mask, Numbers
from wendascope.frame.resources import VertexInput

STATE_ASPECTS = ("blend", "depth", "raster", "scissor or stencil", "viewport")
"""Groups of state that keep draws apart."""


class UnknownContentsError(Exception):
    """A buffer is written in a way that only a replay can follow. The message says by which command."""


class Compare(IntEnum):
    """What a depth or stencil test asks, by the numbers of the Khronos registry: as files keep them."""

    NEVER = 0x200
    LESS = 0x201
    EQUAL = 0x202
    LESS_OR_EQUAL = 0x203
    GREATER = 0x204
    NOT_EQUAL = 0x205
    GREATER_OR_EQUAL = 0x206
    ALWAYS = 0x207


NEAR_FIRST = (Compare.LESS, Compare.LESS_OR_EQUAL)
"""Tests that let nearer fragments through."""
FAR_FIRST = (Compare.GREATER, Compare.GREATER_OR_EQUAL)


class Primitive(IntEnum):
    """What vertices make up. Anything from OTHER on (patches, adjacency) is a kind of its own."""

    POINTS = 0
    LINES = 1
    TRIANGLES = 2
    OTHER = 3


@dataclass(frozen=True)
class TextureUse:
    """What one sampler of a program reads at each of the program's steps; arrays of shape (steps of the program,)."""

    program: int
    sampler: str
    plain: bool
    """Whether it reads two-dimensional textures without layers, faces and samples."""
    steps: Ints
    textures: Ints
    numbers: Numbers
    """Equal where the texture and the way in which it is sampled are."""


@dataclass(frozen=True)
class Detail:
    """One named thing that differs between steps of a program: a sampler, a uniform, a block. `numbers` has one entry
    for each of `steps`.
    """

    aspect: str
    """`texture`, `uniform` or `block`."""
    name: str
    program: int
    steps: Ints
    numbers: Numbers


@dataclass(frozen=True)
class DepthState:
    """Columns of shape (steps,)."""

    tests: Mask
    writes: Mask
    compare: Ints
    """A `Compare`."""


class StepUses(ABC):
    """Columns over all steps of a frame, shape (steps,). Numbers are equal where what they stand for is."""

    @property
    @abstractmethod
    def pipeline(self) -> Numbers:
        """The program, with all that is combined into one pipeline."""

    @property
    @abstractmethod
    def state(self) -> dict[str, Numbers]:
        """Aspect of `STATE_ASPECTS` -> number of its setting; only of state that changes in the frame."""

    @property
    @abstractmethod
    def depth(self) -> DepthState: ...

    @property
    @abstractmethod
    def stencil(self) -> Mask:
        """Whether the stencil test is on."""

    @property
    @abstractmethod
    def mixes_colours(self) -> Mask:
        """Whether blending or a logical operation mixes with what is there."""

    @property
    def colour_mask(self) -> Numbers:
        """Which parts of colours a step may write: equal where they are the same, 0 for all of them."""
        return np.zeros(len(self.stencil), np.uint64)

    @property
    def writes_no_colour(self) -> Mask:
        """Steps all of whose colours are masked."""
        return np.zeros(len(self.stencil), bool)

    @property
    def clockwise(self) -> Mask:
        """Steps whose front faces are wound clockwise."""
        return np.zeros(len(self.stencil), bool)

    @property
    def adds(self) -> Mask:
        """Whether a step's colours come out the same in whatever order steps of equal blending come: it only adds to
        fixed-point colours, or takes the larger or the smaller, and writes no depth.
        """
        return np.zeros(len(self.stencil), bool)

    @property
    @abstractmethod
    def textures(self) -> list[TextureUse]:
        """Every sampler of every program that draws or dispatches."""

    @property
    @abstractmethod
    def values(self) -> list[Detail]:
        """Uniforms and blocks, as far as the frame changes them; contents of blocks included."""

    @property
    @abstractmethod
    def geometry(self) -> Numbers:
        """The draw's own arguments and the data that its vertices come from: equal data is equal wherever it lies."""

    @property
    def mesh(self) -> Numbers:
        """The same with the positions alone: equal for one mesh whatever programs read of it."""
        return self.geometry

    @property
    @abstractmethod
    def layout(self) -> Numbers:
        """Formats of the attributes read, without where they lie, and the kind of primitive."""

    @property
    def constant_inputs(self) -> Numbers:
        """Values of attributes without an array, where the frame sets any."""
        return np.zeros(len(self.stencil), np.uint64)

    @property
    @abstractmethod
    def inputs(self) -> tuple[Ints, list[list[VertexInput]]]:
        """(index into the list for each step, the attributes that its program reads)."""

    @property
    @abstractmethod
    def vertex_array(self) -> Ints:
        """Which set of attribute arrays is bound, as the program names it; 0 where there are none."""

    @property
    @abstractmethod
    def primitive(self) -> Ints:
        """A `Primitive`, or more than OTHER for kinds of their own; OTHER where it is no draw."""

    @property
    @abstractmethod
    def range_draw(self) -> Ints:
        """Equal and not 0 for draws of plain ranges that one multi-draw could hold."""

    @property
    @abstractmethod
    def separated(self) -> Mask:
        """Of each pair of consecutive steps, shape (steps - 1,), whether a call between them keeps them on their
        sides.
        """

    @property
    @abstractmethod
    def written_buffers(self) -> frozenset[int]:
        """Buffers that calls of the frame write."""

    @property
    def written_textures(self) -> frozenset[int]:
        """Textures that calls of the frame write."""
        return frozenset()

    def knows_arrays(self, program: int) -> bool:
        """Whether the shaders of a program can read texture arrays."""
        return True

    @property
    @abstractmethod
    def buffer_sizes(self) -> dict[int, int]:
        """Buffer -> bytes."""

    @abstractmethod
    def unread_inputs(self, step: int) -> dict[int, int]:
        """Attributes that are enabled and that the step's program does not read: index -> bytes of one value."""

    @abstractmethod
    def vertex_values(self, step: int, attribute: VertexInput) -> npt.NDArray[np.generic]:
        """Components of an attribute for the vertices that a step draws, shape (n, size): of all that the buffer
        holds where it draws by indices. Raises UnknownContentsError.
        """

    @abstractmethod
    def colours_taken(self, step: int) -> set[int]:
        """Numbers of fragment outputs that reach a colour of the step's target."""

    def matrices(self, step: int) -> dict[str, npt.NDArray[np.float32]]:
        """4 x 4 matrices that the step's program reads, by name, shape (4, 4), as far as they are known."""
        return {}

    def depth_range(self, step: int) -> tuple[float, float, bool]:
        """(depth that the near end of the view has in the target, that of the far end, whether depths run from 0 before
        that and not from -1).
        """
        return 0.0, 1.0, True

    @property
    def undefined_colours(self) -> Mask:
        """Steps whose target takes a colour that their shader does not write: what it holds afterwards is undefined."""
        return np.zeros(len(self.stencil), bool)

    @abstractmethod
    def block_bytes(self, program: int, block: str) -> int:
        """What a block takes as data of each draw; 0 where it cannot be taken apart."""

    @abstractmethod
    def uniform_bytes(self, program: int, uniforms: list[str], numbers: int, places: int) -> int:
        """What some uniforms take as data of each draw by the rules of std140, with so many whole numbers (texture
        layers) and vectors of four (places on a page) beside them.
        """

    @abstractmethod
    def buffer_texels(self, program: int) -> int:
        """Texels of four 32-bit words that the shaders of a program can read from one buffer; 0 for none."""

    @abstractmethod
    def scalar_values(self, program: int, step: int, wanted: set[str]) -> dict[str, bool | int | float]:
        """Values of scalar and vector uniforms as a step finds them, by `name`, or `name.x` for parts of vectors."""
