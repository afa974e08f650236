"""The objects that batches bring in: buffers, programs, textures put together."""

from __future__ import annotations

import dataclasses
import struct
from dataclasses import dataclass, field

from wendascope.backends.opengl.changes.batching.layers import array_of, page_of
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.records import BufferRecord, Objects, ProgramRecord
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.errors import TrialError
from wendascope.registry import GL

_FIRST_NAME = 0xE0000000
"""Captured-side names of the new objects begin here."""
_SPACE = 0x100000
"""How many names one edit has to itself."""


@dataclass(frozen=True)
class Gathered:
    """Several textures in one: layers of an array in this order, or places on a page."""

    name: int
    target: int
    textures: tuple[int, ...]
    places: dict[int, tuple[float, float, float, float]]
    new_bytes: int

    def value(self, texture: int) -> bytes:
        """What a draw that reads one of the textures is told: its layer, or its place."""
        if self.places:
            return struct.pack("<4f", *self.places[texture])
        return struct.pack("<i", self.textures.index(texture))


@dataclass
class NewObjects:
    """Objects that batches bring in, in captured names; equal contents are one object."""

    frame: OpenGLFrame
    objects: Objects = field(default_factory=Objects)
    changed_programs: dict[int, ProgramRecord] = field(default_factory=dict)
    """Programs with other sources than the captured ones, which batches are to be made of as well."""
    space: int = 0
    """Edits whose objects are there at the same time have different numbers."""
    _names: int = _FIRST_NAME
    _buffers: dict[str, int] = field(default_factory=dict)
    _gathered: dict[tuple[int, ...], Gathered] = field(default_factory=dict)
    _written: set[int] | None = None

    def name(self) -> int:
        self._names += 1
        return self._names + self.space * _SPACE

    def known_contents(self) -> BufferContents:
        return self.frame.buffer_contents

    def buffer(self, data: bytes, usage: int = GL.STATIC_DRAW, shared: bool = True) -> tuple[int, int]:
        """(name, bytes that are new) of a buffer with these contents."""
        ref = self.frame.blobs.put(data)
        if shared and ref.hash in self._buffers:
            return self._buffers[ref.hash], 0
        record = BufferRecord(self.name(), len(data), usage, contents=ref)
        self.objects.buffers.append(record)
        self._buffers[ref.hash] = record.name
        return record.name, len(data)

    def gathered(self, textures: list[int], arrays: bool) -> Gathered:
        """These textures as one: an array where they have one shape and `arrays` are to be had, else an atlas page.
        Raises TrialError.
        """
        key = (arrays, *textures)
        if key in self._gathered:
            return dataclasses.replace(self._gathered[key], new_bytes=0)
        if self._written is None:
            self._written = written_objects(self.frame).textures
        record, places = None, {}
        try:
            if arrays:
                record = array_of(self.frame, textures, self._written, self.name())
        except TrialError as error:
            only_array = error
        else:
            only_array = TrialError("its GLSL is older than texture arrays")
        if record is None:
            try:
                page = page_of(self.frame, textures, self._written, self.name())
            except TrialError as error:
                raise TrialError(
                    f"no array: {only_array}; no atlas page: {error}" if str(error) != str(only_array) else str(error)
                ) from error
            record, places = page.record, page.places
        self.objects.textures.append(record)
        size = sum(i.contents.size for i in record.images if i.contents)
        self._gathered[key] = Gathered(record.name, record.target, tuple(textures), places, size)
        return self._gathered[key]
