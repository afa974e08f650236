"""What a uniform holds when a call comes: its value from before the frame, and every call that set it since."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.records import ProgramRecord, UniformRecord

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_MATRIX = re.compile(r"Matrix(\d)(?:x(\d))?")
_COUNT = re.compile(r"(\d)(f|i|ui|d)v?$")


def variable_of(uniform: str) -> str:
    """The variable that a uniform's full name is a part of: `lights` of `lights[2].colour`."""
    return re.split(r"[.\[]", uniform, maxsplit=1)[0]


def uniform_setters(frame: OpenGLFrame, program: ProgramRecord, uniform: UniformRecord, call: int) -> list[int]:
    """Calls of the frame that made the value that `call` finds, in order; none where it is as before the frame.

    Elements of an array may be set one by one, and several at once by the first of them.
    """
    found = set()
    set_here = frame.history.keys_set("uniform", program.name)
    if len(uniform.locations) > len(set_here):  # long arrays of which the frame sets a few elements, or none
        locations = set_here & {location & 0xFFFFFFFF for location in uniform.locations} if set_here else set_here
    else:
        locations = frozenset(uniform.locations)
    for location in locations:
        setter = frame.history.setter("uniform", call, program.name, location)
        if setter is not None and setter >= 0:
            found.add(setter)
    return sorted(found)


def uniform_value(frame: OpenGLFrame, program: ProgramRecord, uniform: UniformRecord, call: int) -> bytes:
    """All elements as glUniform takes them: tightly packed, matrices column by column. Empty where nothing is known."""
    letter, count = uniform_type(uniform.type)
    width = count * (8 if letter[0] == "d" else 4)
    value = bytearray(uniform.values.ljust(width * len(uniform.locations), b"\0"))
    for setter in uniform_setters(frame, program, uniform, call):
        command = frame.calls.command(setter)
        location = int(frame.calls.argument(setter, "location"))
        first = next((k for k, known in enumerate(uniform.locations) if known & 0xFFFFFFFF == location & 0xFFFFFFFF), 0)
        data = _set_to(frame, setter, command.canonical)
        value[first * width : first * width + len(data)] = data
    return bytes(value[: width * len(uniform.locations)])


def initial_value(uniform: UniformRecord, location: int) -> bytes:
    """What the element at a location held before the frame, as glUniform takes it; empty where that is not kept."""
    letter, count = uniform_type(uniform.type)
    width = count * (8 if letter[0] == "d" else 4)
    for k, known in enumerate(uniform.locations):
        if known & 0xFFFFFFFF == location & 0xFFFFFFFF:
            data = uniform.values[k * width : (k + 1) * width]
            return data if len(data) == width else b""
    return b""


def set_uniform(batch: CallBatch, type_: int, location: int, data: bytes) -> None:
    """One element of a uniform of the program in use, by the tightly packed bytes of its value."""
    letter, count = uniform_type(type_)
    if len(letter) > 1:
        batch.call(f"glUniformMatrix{letter[1:]}{letter[0]}v", location, 1, 0, data)
    else:
        suffix = {"u": "ui"}.get(letter, letter)
        batch.call(f"glUniform{count}{suffix}v", location, 1, data)


def _set_to(frame: OpenGLFrame, call: int, name: str) -> bytes:
    """The bytes that one call sets."""
    calls = frame.calls
    if name.endswith("v"):
        data = calls.argument(call, "value")
        if not isinstance(data, bytes):
            return b""
        shape = _MATRIX.search(name)
        if shape and calls.argument(call, "transpose"):
            columns, rows = int(shape[1]), int(shape[2] or shape[1])
            kind = np.float64 if name.endswith("dv") else np.float32
            values = np.frombuffer(data, kind).reshape(-1, rows, columns)
            return np.ascontiguousarray(values.transpose(0, 2, 1)).tobytes()
        return data
    shape = _COUNT.search(name)
    assert shape is not None
    slots = [p.slot for p in calls.command(call).parameters][-int(shape[1]) :]
    width = 8 if shape[2] == "d" else 4
    where = np.array([call])
    return b"".join(int(calls.column(where, slot)[0]).to_bytes(8, "little")[:width] for slot in slots)
