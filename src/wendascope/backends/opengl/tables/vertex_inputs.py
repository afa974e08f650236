"""The vertex attributes that a step fetches: from its vertex array as it was, and what the frame set since."""

from __future__ import annotations

import dataclasses
import functools
import itertools
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.frame.resources import VertexInput
from wendascope.glsl.words import tokens
from wendascope.registry import GL, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame
    from wendascope.backends.opengl.objects.records import ProgramRecord, VertexArrayRecord

_DTYPES: dict[int, type[np.generic]] = {
    GL.BYTE: np.int8, GL.UNSIGNED_BYTE: np.uint8, GL.SHORT: np.int16, GL.UNSIGNED_SHORT: np.uint16, GL.INT: np.int32,
    GL.UNSIGNED_INT: np.uint32, GL.HALF_FLOAT: np.float16, GL.FLOAT: np.float32, GL.DOUBLE: np.float64,
}  # fmt: skip


def _dtype(kind: int) -> np.dtype[np.generic] | None:
    """Of one component of a type; None for packed types."""
    found = _DTYPES.get(kind)
    return None if found is None else np.dtype(found)


def vertex_inputs(frame: OpenGLFrame, step: int) -> list[VertexInput]:
    """Enabled attributes of a draw, in order of their index."""
    call = int(frame.steps.call[step])
    array = frame.history.number("vertex_array", call)
    return array_inputs(
        frame,
        call,
        array,
        frame.objects.vertex_array(array),
        attribute_names(frame.objects.program(int(frame.steps.program[step]))),
    )


def array_inputs(
    frame: OpenGLFrame, call: int, array: int, record: VertexArrayRecord | None, names: Mapping[int, str]
) -> list[VertexInput]:
    """The same for one vertex array as a call finds it; `names` are those of the program that reads it."""
    history = frame.history
    before = {a.index: a for a in record.attributes} if record else {}
    # in a frame that defines attributes, an array may have others than it had before
    indices = set(before) | {i for a, i in history.keys("attribute_enabled") if a == array}
    at_point = {a.point: a for a in before.values()}
    found = []
    for index in sorted(indices):
        old = before.get(index)
        enabled = history.value("attribute_enabled", call, array, index)
        if not (enabled[0] if enabled else old is not None and old.enabled):
            continue
        layout = history.value("attribute_layout", call, array, index)
        if layout is None and old is not None:
            layout = (old.size, old.type, int(old.normalized), old.relative_offset, int(old.integer))
        point = history.number("attribute_binding", call, array, index, missing=old.point if old else index)
        there = at_point.get(point)
        bound = history.value("vertex_buffer", call, array, point)
        if bound is None and there is not None:
            bound = (there.buffer, 0, there.offset - there.relative_offset, there.stride)
        if layout is None or bound is None:
            continue
        divisor = history.number("binding_divisor", call, array, point, missing=there.divisor if there else 0)
        size, kind, normalized, relative, integer = layout
        buffer, mode, offset, stride = bound
        row = VertexInput(
            index,
            names.get(index, ""),
            4 if size == GL.BGRA else size,
            kind,
            bool(normalized),
            stride,
            offset + relative,
            buffer if mode >> 60 == 0 else 0,
            divisor,
            bool(integer),
            _dtype(kind),
        )
        found.append(row if row.stride else dataclasses.replace(row, stride=row.bytes))
    return found


@dataclass(frozen=True)
class ClientArray:
    """What a draw reads of an array in the program's own memory."""

    data: npt.NDArray[np.uint8]
    stride: int
    """0: one element after the other."""
    skip: int
    """Bytes of the array that lie before `data`."""


def client_array(frame: OpenGLFrame, call: int, index: int) -> ClientArray | None:
    """The array of a generic attribute, as the tap kept it right before a draw; None where it kept none."""
    calls = frame.calls
    for before in range(call - 1, -1, -1):
        command = calls.command(before)
        if not command.has(Role.WITH_DRAW):
            return None
        if command.name != "wendaClientArray":
            continue
        if int(calls.argument(before, "array")) == 0 and int(calls.argument(before, "index")) == index:
            data = calls.argument(before, "data")
            stride, skip = int(calls.argument(before, "stride")), int(calls.argument(before, "skip"))
            return ClientArray(np.frombuffer(data, np.uint8), stride, skip) if isinstance(data, bytes) else None
    return None


def attribute_changes(frame: OpenGLFrame) -> npt.NDArray[np.int64]:
    """Calls that change what `vertex_inputs` tells of an array, in order."""
    return np.flatnonzero(frame.calls.having(Role.CHANGES_ATTRIBUTES))


def attribute_names(program: ProgramRecord | None) -> dict[int, str]:
    """Attribute index -> name, every column of a matrix included."""
    if program is None:
        return {}
    columns: dict[str, int] = {}
    for shader in program.shaders:
        if shader.type == GL.VERTEX_SHADER:
            columns |= _matrix_columns(shader.source)
    return {
        location + k: name
        for name, location in program.attributes.items()
        if location >= 0
        for k in range(columns.get(name, 1))
    }


@functools.lru_cache(256)
def _matrix_columns(source: str) -> dict[str, int]:
    words = [t.text for t in tokens(source) if t.kind in ("word", "mark")]
    return {
        name: int(kind[3])
        for kind, name in itertools.pairwise(words)
        if kind[:3] == "mat" and kind[3:4] in ("2", "3", "4")
    }
