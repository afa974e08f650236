"""Which bytes of its buffers a frame fetches as vertices and indices, and how large the indices are."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.calls.packed import Raw
from wendascope.backends.opengl.objects.primitives import INDEX_TYPES, restart_index
from wendascope.backends.opengl.state.tracker import signed32
from wendascope.backends.opengl.tables.written import element_buffers
from wendascope.frame.file import LARGEST_SECTION
from wendascope.frame.memory import Fetched
from wendascope.frame.resources import VertexInput
from wendascope.frame.steps import KINDS
from wendascope.frame.uses import UnknownContentsError
from wendascope.registry import tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_ARRAYS = ("glDrawArrays", "glDrawArraysInstanced", "glDrawArraysInstancedBaseInstance")
INDEXED = (
    "glDrawElements", "glDrawRangeElements", "glDrawElementsInstanced", "glDrawElementsBaseVertex",
    "glDrawRangeElementsBaseVertex", "glDrawElementsInstancedBaseVertex", "glDrawElementsInstancedBaseInstance",
    "glDrawElementsInstancedBaseVertexBaseInstance",
)  # fmt: skip
"""Draws by indices of one range each."""


@dataclass
class _Buffer:
    bytes: np.ndarray
    known: bool = True
    index_bytes: set[int] = field(default_factory=set)
    largest_index: int = 0


def fetched_bytes(frame: OpenGLFrame) -> dict[int, Fetched]:
    """Buffer -> what draws fetch of it; without buffers of which that is not known, or which other things read too."""
    return _Fetching(frame).find()


class _Fetching:
    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._contents = frame.buffer_contents
        # of buffers larger than what a file can hold nothing is followed, whatever their record says
        self._buffers = {
            b.name: _Buffer(np.zeros(b.size, bool)) for b in frame.objects.buffers if b.size <= LARGEST_SECTION
        }
        self._vertices: dict[tuple[int, int, int, int, int, int], np.ndarray | None] = {}

    def find(self) -> dict[int, Fetched]:
        frame = self._frame
        which, inputs = frame.uses.inputs
        draws = np.flatnonzero(np.asarray(frame.steps.kind) == KINDS.index("draw"))
        calls = np.asarray(frame.steps.call)[draws]
        elements = element_buffers(frame, calls)
        names = np.array([tables().commands[i].name for i in frame.calls.ids[calls].tolist()], object)
        alike = zip(which[draws].tolist(), elements.tolist(), names, frame.steps.instances[draws].tolist(), strict=True)
        groups: dict[tuple[int, int, str, int], list[int]] = {}
        for call, key in zip(calls.tolist(), alike, strict=True):
            groups.setdefault(key, []).append(call)
        for (inputs_of, element, command, instances), rows in groups.items():
            self._draws(rows, command, element, inputs[inputs_of], instances)
        found = {}
        for item in frame.memory:
            row = self._buffers.get(item.name) if item.object_class == "buffer" else None
            plain = set(item.read_parts) <= {"vertices", "indices"} and item.followed and not len(item.writes)
            if row is not None and row.known and plain and row.bytes.any():
                narrow = min(row.index_bytes, default=0) if len(row.index_bytes) == 1 else 0
                found[item.name] = Fetched(int(row.bytes.sum()), narrow, row.largest_index)
        return found

    def _draws(
        self, calls: list[int], command: str, element: int, attributes: list[VertexInput], instances: int
    ) -> None:
        """Draws by one command with the same inputs: what they fetch together."""
        vertices: np.ndarray | None = None
        if command in _ARRAYS:
            longest = max((len(b.bytes) for b in self._buffers.values()), default=0)  # no more lie in any of them
            vertices = self._ranges(calls, longest)
        elif command in INDEXED and element in self._buffers:
            parts = {id(part): part for part in (self._indexed(call, element) for call in calls)}
            known = [part for part in parts.values() if part is not None]
            if len(known) == len(parts):
                vertices = np.unique(np.concatenate(known))
        for attribute in attributes:
            row = self._buffers.get(attribute.buffer)
            if row is None:
                continue
            if vertices is None:
                row.known = False
                continue
            last = len(row.bytes) - attribute.bytes - attribute.offset
            if not attribute.offset >= 0 or last < 0:
                continue
            within = last // attribute.stride + 1 if attribute.stride > 0 else 1 << 31
            rounds = -(-max(instances, 1) // max(attribute.divisor, 1))
            places = vertices if not attribute.divisor else np.arange(min(rounds, within))
            starts = attribute.offset + places[(places >= 0) & (places < within)] * attribute.stride
            for k in range(attribute.bytes):
                row.bytes[starts + k] = True
        if vertices is None and element in self._buffers and "Elements" in command:
            self._buffers[element].known = False

    def _ranges(self, calls: list[int], longest: int) -> np.ndarray:
        """The vertices below `longest` that draws of a range each fetch."""
        stream, covered = self._frame.calls, np.zeros(longest + 1, np.int64)
        for call in calls:
            first, count = (int(stream.argument(call, name)) for name in ("first", "count"))
            begin, end = (min(max(place, 0), longest) for place in (first, first + count))
            if begin < end:
                covered[begin] += 1
                covered[end] -= 1
        return np.flatnonzero(np.cumsum(covered) > 0)

    def _indexed(self, call: int, element: int) -> np.ndarray | None:
        """The vertices that a draw by indices fetches, each once; None where that is not known."""
        calls, row = self._frame.calls, self._buffers[element]
        dtype = INDEX_TYPES.get(int(calls.argument(call, "type")))
        count, where = int(calls.argument(call, "count")), calls.argument(call, "indices")
        if dtype is None or isinstance(where, bytes) or count <= 0:
            return None
        start = where.value if isinstance(where, Raw) else 0
        base = next(
            (
                signed32(int(calls.argument(call, p.name)))
                for p in calls.command(call).parameters
                if p.name == "basevertex"
            ),
            0,
        )
        restart = restart_index(self._frame, call)
        key = (element, start, count, dtype.itemsize, base, -1 if restart is None else restart)
        if key not in self._vertices:
            self._vertices[key] = self._read(call, element, start, count, dtype, base, restart)
        row.bytes[start : start + count * dtype.itemsize] = True
        row.index_bytes.add(dtype.itemsize)
        return self._vertices[key]

    def _read(
        self,
        call: int,
        element: int,
        start: int,
        count: int,
        dtype: np.dtype[np.generic],
        base: int,
        restart: int | None,
    ) -> np.ndarray | None:
        try:
            data = self._contents.at(element, call)
            indices = np.unique(np.frombuffer(data, dtype, count, start)).astype(np.int64)
        except (UnknownContentsError, ValueError):
            return None
        if restart is not None:
            indices = indices[indices != restart]
        row = self._buffers[element]
        row.largest_index = max(row.largest_index, int(indices.max(initial=0)))
        return indices + base
