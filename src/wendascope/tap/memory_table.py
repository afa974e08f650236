"""The objects that live in a target, as its tap tells them."""

from __future__ import annotations

import struct
from typing import Any

from wendascope.errors import TargetError
from wendascope.frame.memory_mark import MarkedObject
from wendascope.registry import tables

_ROW = struct.Struct("<16Q")
_CLASSES = {0: "buffer", 1: "texture", 3: "renderbuffer"}
"""As `tap.h` numbers them."""
_NOT_UNDERSTOOD = "the target told its memory in a way that is not understood"


def marked_objects(data: bytes) -> list[MarkedObject]:
    """From the rows that `tap_memory_write` gives. Raises TargetError where they cannot be that."""
    found = []
    at = 0
    while at < len(data):
        if at + _ROW.size > len(data):
            raise TargetError(_NOT_UNDERSTOOD)
        class_, owner, name, format_, *numbers, place, stack, _ = _ROW.unpack_from(data, at)
        at += _ROW.size
        end = at + (place + stack + 7) // 8 * 8
        if end > len(data) or class_ not in _CLASSES:
            raise TargetError(_NOT_UNDERSTOOD)
        kind = tables().enum_name(format_, "InternalFormat").removeprefix("GL_") if format_ else ""
        where = data[at : at + place].decode("utf-8", "replace")
        calls = data[at + place : at + place + stack].decode("utf-8", "replace").split("\n")[:-1]
        values: list[Any] = [_CLASSES[class_], owner, name, kind, *numbers, where, calls]
        found.append(MarkedObject(*values))
        at = end
    return found
