"""Vertices and indices of several draws put into one buffer, with the number of the draw beside each vertex."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.primitives import INDEX_TYPES, restart_index, separate
from wendascope.backends.opengl.tables.vertex_inputs import client_array, vertex_inputs
from wendascope.backends.opengl.tables.written import element_buffers
from wendascope.errors import TrialError
from wendascope.frame.resources import VertexInput
from wendascope.frame.uses import UnknownContentsError
from wendascope.registry import GL

_FLOATS = re.compile(r"glVertexAttrib[1-4]fv?")
INSTANCED_DRAWS = (
    "glDrawArraysInstanced",
    "glDrawArraysInstancedBaseInstance",
    "glDrawElementsInstanced",
    "glDrawElementsInstancedBaseInstance",
    "glDrawElementsInstancedBaseVertex",
    "glDrawElementsInstancedBaseVertexBaseInstance",
)
"""Draws that count as single ones here: of one instance, as `plan_batch` makes sure."""
_SINGLE = {
    "glDrawArrays",
    "glDrawElements",
    "glDrawElementsBaseVertex",
    "glDrawRangeElements",
    "glDrawRangeElementsBaseVertex",
    *INSTANCED_DRAWS,
}


@dataclass(frozen=True)
class MergedAttribute:
    """One attribute in the merged vertex: `source` tells its format, `offset` its place in bytes."""

    source: VertexInput
    offset: int


@dataclass(frozen=True)
class Merged:
    mode: int
    vertices: bytes
    stride: int
    attributes: tuple[MergedAttribute, ...]
    number_offset: int
    """Where the number of the draw lies in each vertex."""
    indices: npt.NDArray[np.uint32]
    from_memory: bool
    """Whether vertices come from the program's own memory, so that they may be others in the next frame."""

    @property
    def count(self) -> int:
        return len(self.vertices) // self.stride


def merge(frame: OpenGLFrame, steps: list[int], contents: BufferContents, numbers_as_floats: bool) -> Merged:
    """Gather what the steps draw. Raises TrialError, saying what stands in the way."""
    pieces, indices = [], []
    modes: set[int] = set()
    layout: tuple[MergedAttribute, ...] | None = None
    at, from_memory = 0, False
    constants = _differing_constants(frame, steps)
    for number, step in enumerate(steps):
        inputs = [row for row in vertex_inputs(frame, step) if row.name]
        found = _layout(inputs)
        from_memory |= any(not row.buffer for row in inputs)
        if layout is not None and [(a.offset, _format(a.source)) for a in layout] != [
            (a.offset, _format(a.source)) for a in found
        ]:
            raise TrialError("the draws have vertices of different layouts")
        layout = layout or found
        mode, used = drawn_indices(frame, step, contents)
        modes.add(mode)
        unique, renamed = np.unique(used, return_inverse=True)
        rows = _vertices(frame, step, layout, inputs, unique, contents)
        rows = np.hstack([rows, *(np.tile(values[number], (len(unique), 1)) for values in constants.values())])
        which = np.full(len(unique), number, np.float32 if numbers_as_floats else np.int32)
        pieces.append(np.hstack([rows, which.view(np.uint8).reshape(-1, 4)]))
        indices.append(renamed.reshape(-1).astype(np.uint32) + np.uint32(at))
        at += len(unique)
    if len(modes) > 1 or layout is None:
        raise TrialError("the draws are of points, lines and triangles mixed")
    width = sum(_padded(a.source) for a in layout)
    for row in constants:
        layout = (*layout, MergedAttribute(row, width))
        width += row.bytes
    whole = np.concatenate(pieces)
    return Merged(modes.pop(), whole.tobytes(), whole.shape[1], layout, width, np.concatenate(indices), from_memory)


def _differing_constants(frame: OpenGLFrame, steps: list[int]) -> dict[VertexInput, list[npt.NDArray[np.uint8]]]:
    """Attributes without an array whose values differ -> the four floats of each step. Raises TrialError."""
    record = frame.objects.program(int(frame.steps.program[steps[0]]))
    found = {}
    for name, index in record.attributes.items() if record else ():
        arrays = [any(row.index == index for row in vertex_inputs(frame, step)) for step in steps]
        if index < 0 or all(arrays):
            continue
        if any(arrays):
            raise TrialError(f"{name} has an array in some draws and one value in others")
        values = [_constant(frame, name, index, int(frame.steps.call[step])) for step in steps]
        if any(value != values[0] for value in values):
            row = VertexInput(index, name, 4, GL.FLOAT, False, 16, 0, 0, 0, False, np.dtype(np.float32))
            found[row] = [np.frombuffer(value, np.uint8) for value in values]
    return found


def _constant(frame: OpenGLFrame, name: str, index: int, call: int) -> bytes:
    """The value of an attribute without an array, four floats."""
    setter = frame.history.setter("attribute_value", call, index)
    if setter is not None and setter >= 0 and not _FLOATS.fullmatch(frame.calls.command(setter).canonical):
        raise TrialError(f"{name} has one value, given by {frame.calls.command(setter).name} and not as floats")
    raw = frame.history.value("attribute_value", call, index) or (0, 0, 0, 0x3F800000)
    return np.array([value & 0xFFFFFFFF for value in raw[:4]], np.uint32).tobytes()


def _format(row: VertexInput) -> tuple[int, int, int, bool, bool]:
    return row.index, row.size, row.type, row.normalized, row.integer


def _padded(row: VertexInput) -> int:
    return (row.bytes + 3) // 4 * 4


def _layout(inputs: list[VertexInput]) -> tuple[MergedAttribute, ...]:
    found, at = [], 0
    for row in inputs:
        if row.divisor:
            raise TrialError(f"attribute {row.name} is one of each instance already")
        found.append(MergedAttribute(row, at))
        at += _padded(row)
    if not found:
        raise TrialError("the draws have no vertices in buffers: the shader makes them up from gl_VertexID")
    return tuple(found)


def drawn_indices(frame: OpenGLFrame, step: int, contents: BufferContents) -> tuple[int, npt.NDArray[np.int64]]:
    """(mode, vertices in the order in which a step draws them), strips and fans taken apart. Raises TrialError."""
    call, calls = int(frame.steps.call[step]), frame.calls
    name = calls.command(call).name
    if name not in _SINGLE:
        raise TrialError(f"{name} draws more than one range, or takes its counts from a buffer")
    mode, count = int(calls.argument(call, "mode")), max(int(calls.argument(call, "count")), 0)
    if "BaseInstance" in name and calls.argument(call, "baseinstance"):
        raise TrialError(f"{name} begins at another instance than the first")
    base = int(calls.argument(call, "basevertex")) if "BaseVertex" in name else 0
    restart = None
    if name.startswith("glDrawArrays"):
        plain = np.arange(count, dtype=np.uint32) + np.uint32(int(calls.argument(call, "first")))
    else:
        type_ = INDEX_TYPES.get(int(calls.argument(call, "type")))
        if type_ is None:
            raise TrialError("the type of the indices is unknown")
        given = calls.argument(call, "indices")
        if isinstance(given, bytes):
            data, offset = given, 0
        else:
            buffer = int(element_buffers(frame, np.array([call]))[0])
            data, offset = _contents(contents, buffer, call), given.value if given is not None else 0
        if offset + count * type_.itemsize > len(data):
            raise TrialError(f"step {step} reads indices beyond the end of their buffer")
        plain = np.frombuffer(data, type_, count, offset).astype(np.uint32)
        restart = restart_index(frame, call)
    try:
        mode, plain = separate(mode, plain, restart)
    except ValueError as error:
        raise TrialError(f"{error} cannot be merged here") from error
    return mode, plain.astype(np.int64) + base


def _vertices(
    frame: OpenGLFrame,
    step: int,
    layout: tuple[MergedAttribute, ...],
    inputs: list[VertexInput],
    used: npt.NDArray[np.int64],
    contents: BufferContents,
) -> npt.NDArray[np.uint8]:
    """The bytes of each vertex, shape (vertices, width)."""
    columns = []
    for row in inputs:
        values = vertex_values(frame, step, row, used, contents)
        columns.append(np.pad(values, ((0, 0), (0, _padded(row) - row.bytes))))
    return np.hstack(columns)


def vertex_values(
    frame: OpenGLFrame, step: int, row: VertexInput, used: npt.NDArray[np.int64], contents: BufferContents
) -> npt.NDArray[np.uint8]:
    """The bytes of one attribute of some vertices of a step, shape (vertices, bytes). Raises TrialError."""
    if row.buffer:
        data = np.frombuffer(_contents(contents, row.buffer, int(frame.steps.call[step])), np.uint8)
        at = row.offset + used * row.stride
    else:
        found = client_array(frame, int(frame.steps.call[step]), row.index)
        if found is None:
            raise TrialError(f"what step {step} read of {row.name} in the program's own memory was not recorded")
        data, at = found.data, used * (found.stride or row.bytes) - found.skip
    if len(used) and (int(at.min()) < 0 or int(at.max()) + row.bytes > len(data)):
        what = "its buffer" if row.buffer else "what was recorded"
        raise TrialError(f"step {step} reads {row.name} beyond the end of {what}")
    return np.asarray(data[at[:, None] + np.arange(row.bytes)])


def _contents(contents: BufferContents, buffer: int, call: int) -> bytes:
    try:
        return contents.at(buffer, call)
    except UnknownContentsError as error:
        raise TrialError(f"{error} writes the vertices: what they are is only known to the GPU") from error
