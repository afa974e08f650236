"""Snapshot readers against a driver played in Python: what they ask, what they take back, and that they leave every
binding as they found it.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

import numpy as np

from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream
from wendascope.backends.opengl.snapshot._buffers import read_buffers, watch_mappings
from wendascope.backends.opengl.snapshot._reader import Reader, State
from wendascope.backends.opengl.snapshot._textures import read_textures
from wendascope.backends.opengl.snapshot._vertex_arrays import read_vertex_arrays
from wendascope.backends.opengl.state.state_table import TEXTURE_TARGETS
from wendascope.frame.context import ContextInfo
from wendascope.registry import GL
from wendascope.registry.numbers import HEADER_WORDS

Call = dict[str, Any]
_PATTERN = bytes(range(256))


class PlayedDriver:
    """Buffers, textures and vertex arrays of a context, with the bindings that queries go by."""

    def __init__(self) -> None:
        self.buffers = {3: b"tracks" * 10, 8: b"mapped", 9: b""}
        self.mapped = {8}
        self.textures = {4: (GL.TEXTURE_2D, 6, 2), 5: (GL.TEXTURE_CUBE_MAP, 4, 4)}
        """Name -> (target, width, height)."""
        self.arrays = {2: (7, {0: (3, 12), 3: (8, 20)})}
        """Name -> (element buffer, attribute -> (its buffer, its stride))."""
        self.bound: dict[str, int] = {}
        self.log: list[str] = []
        self.watched: list[int] = []

    # ---- running ---------------------------------------------------------------------------------------

    def run(self, batch: CallBatch) -> None:
        words = np.array(batch.words, np.uint64)
        calls = CallStream(words, np.frombuffer(bytes(batch.arena) + b"\0", np.uint8), np.array(batch.starts, np.int64))
        out = bytearray(batch.out_size + 64)
        for i in range(len(calls)):
            command = calls.command(i)
            given: Call = {"name": command.name}
            for p in command.parameters:
                at = int(calls.offsets[i]) + HEADER_WORDS + p.slot
                if p.kind == "pointer" and int(words[at]) >> 60 == 2:
                    given[p.name] = int(words[at]) & ((1 << 60) - 1)
                    given["room"] = int(words[at + 1])
                else:
                    given[p.name] = calls.argument(i, p.name)
            self.log.append(command.name)
            answer: Callable[[Call, bytearray], int | None] | None = getattr(self, command.name, None)
            result = answer(given, out) if answer else None
            if command.returns != "void":
                words[int(calls.offsets[i]) + HEADER_WORDS + command.slots - 1] = int(result or 0)
            elif result:  # an error code, where the batch asks for it
                head = int(calls.offsets[i]) + 1
                words[head] = (int(words[head]) & 0xFFFFFFFF) | result << 32
        batch.finish(words, bytes(out))

    def _put(self, out: bytearray, at: int, data: bytes, room: int) -> None:
        out[at : at + len(data)] = data
        assert len(data) <= room, "the reader made too little room"

    # ---- its commands ------------------------------------------------------------------------------------

    def glIsBuffer(self, c: Call, _out: bytearray) -> int:
        return int(c["buffer"] in self.buffers)

    def glIsTexture(self, c: Call, _out: bytearray) -> int:
        return int(c["texture"] in self.textures)

    def glIsVertexArray(self, c: Call, _out: bytearray) -> int:
        return int(c["array"] in self.arrays)

    def glBindBuffer(self, c: Call, _out: bytearray) -> None:
        self.bound[f"buffer {c['target']:#x}"] = c["buffer"]

    def glBindVertexArray(self, c: Call, _out: bytearray) -> None:
        self.bound["vertex array"] = c["array"]

    def glActiveTexture(self, c: Call, _out: bytearray) -> None:
        self.bound["unit"] = c["texture"]

    def glPixelStorei(self, c: Call, _out: bytearray) -> None:
        self.bound[f"store {c['pname']:#x}"] = c["param"]

    def glBindTexture(self, c: Call, _out: bytearray) -> int:
        known = self.textures.get(c["texture"])
        if known and known[0] != c["target"]:
            return int(GL.INVALID_OPERATION)
        self.bound[f"texture {c['target']:#x}"] = c["texture"]
        return 0

    def glGetBufferParameteriv(self, c: Call, out: bytearray) -> None:
        name = self.bound[f"buffer {c['target']:#x}"]
        value = {
            GL.BUFFER_SIZE: len(self.buffers[name]),
            GL.BUFFER_USAGE: GL.STATIC_DRAW,
            GL.BUFFER_MAPPED: int(name in self.mapped),
        }.get(c["pname"], 0)
        self._put(out, c["params"], struct.pack("<i", value), c["room"])

    def glGetBufferSubData(self, c: Call, out: bytearray) -> int:
        name = self.bound[f"buffer {c['target']:#x}"]
        if name in self.mapped:
            return int(GL.INVALID_OPERATION)
        self._put(out, c["data"], self.buffers[name][c["offset"] : c["offset"] + c["size"]], c["room"])
        return 0

    def wendaReadBuffer(self, c: Call, out: bytearray) -> None:
        self._put(out, c["data"], self.buffers[c["buffer"]], c["room"])

    def wendaWatchBuffer(self, c: Call, _out: bytearray) -> None:
        self.watched.append(c["buffer"])

    def glGetTexParameteriv(self, c: Call, out: bytearray) -> None:
        value = {GL.TEXTURE_MAX_LEVEL: 0, GL.TEXTURE_MIN_FILTER: int(GL.NEAREST)}.get(c["pname"], 0)
        self._put(out, c["params"], struct.pack("<i", value), c["room"])

    def glGetTexLevelParameteriv(self, c: Call, out: bytearray) -> None:
        face = GL.TEXTURE_CUBE_MAP_POSITIVE_X <= c["target"] < GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6
        target = GL.TEXTURE_CUBE_MAP if face else c["target"]
        _, width, height = self.textures.get(self.bound.get(f"texture {target:#x}", 0), (0, 0, 0))
        known = {
            GL.TEXTURE_WIDTH: width,
            GL.TEXTURE_HEIGHT: height,
            GL.TEXTURE_DEPTH: 1,
            GL.TEXTURE_INTERNAL_FORMAT: GL.RGBA8,
            **dict.fromkeys((GL.TEXTURE_RED_SIZE, GL.TEXTURE_GREEN_SIZE, GL.TEXTURE_BLUE_SIZE), 8),
            GL.TEXTURE_ALPHA_SIZE: 8,
            GL.TEXTURE_RED_TYPE: GL.UNSIGNED_NORMALIZED,
            GL.TEXTURE_ALPHA_TYPE: GL.UNSIGNED_NORMALIZED,
        }
        value = int(known.get(c["pname"], 0)) if c["level"] == 0 else 0
        self._put(out, c["params"], struct.pack("<i", value), c["room"])

    def glGetTexImage(self, c: Call, out: bytearray) -> None:
        face = GL.TEXTURE_CUBE_MAP_POSITIVE_X <= c["target"] < GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6
        name = self.bound[f"texture {GL.TEXTURE_CUBE_MAP if face else c['target']:#x}"]
        _, width, height = self.textures[name]
        start = c["target"] - GL.TEXTURE_CUBE_MAP_POSITIVE_X if face else 10
        self._put(out, c["pixels"], _PATTERN[start : start + 4 * width * height], c["room"])

    def glGetIntegerv(self, c: Call, out: bytearray) -> None:
        value = self.arrays[self.bound["vertex array"]][0] if c["pname"] == GL.ELEMENT_ARRAY_BUFFER_BINDING else 0
        self._put(out, c["data"], struct.pack("<i", value), c["room"])

    def glGetVertexAttribiv(self, c: Call, out: bytearray) -> None:
        used = self.arrays[self.bound["vertex array"]][1].get(c["index"])
        value = 0
        if used:
            value = {
                GL.VERTEX_ATTRIB_ARRAY_ENABLED: 1,
                GL.VERTEX_ATTRIB_ARRAY_BUFFER_BINDING: used[0],
                GL.VERTEX_ATTRIB_ARRAY_STRIDE: used[1],
                GL.VERTEX_ATTRIB_ARRAY_SIZE: 3,
                GL.VERTEX_ATTRIB_ARRAY_TYPE: int(GL.FLOAT),
            }.get(c["pname"], 0)
        self._put(out, c["params"], struct.pack("<i", value), c["room"])

    def glGetVertexAttribPointerv(self, c: Call, out: bytearray) -> None:
        self._put(out, c["pointer"], struct.pack("<q", 4 * c["index"]), c["room"])


STATE: State = {
    "buffer": {(GL.COPY_READ_BUFFER, 0): (77,), (GL.PIXEL_PACK_BUFFER, 0): (78,)},
    "texture": {(GL.TEXTURE0, getattr(GL, t)): (70 + i,) for i, t in enumerate(TEXTURE_TARGETS)},
    "active_texture": {(0, 0): (int(GL.TEXTURE0) + 3,)},
    "vertex_array": {(0, 0): (2,)},
    "pixel_store": {(int(GL.PACK_ALIGNMENT), 0): (4,), (int(GL.PACK_ROW_LENGTH), 0): (12,)},
}


def _reader(driver: PlayedDriver, **names: list[int]) -> Reader:
    context = ContextInfo(major=3, minor=3, profile="core", limits={"MAX_VERTEX_ATTRIBS": 8})
    calls = CallStream(np.zeros(0, np.uint64), np.zeros(1, np.uint8), np.zeros(0, np.int64))
    reader = Reader(
        driver, context, {k.replace("_", " "): v for k, v in names.items()}, Journal(calls, 0), Kept({}, {}), (64, 64)
    )
    reader.state = STATE
    return reader


def _as_before(driver: PlayedDriver) -> None:
    assert driver.bound[f"buffer {GL.COPY_READ_BUFFER:#x}"] == 77
    assert driver.bound[f"buffer {GL.PIXEL_PACK_BUFFER:#x}"] == 78
    assert driver.bound["unit"] == GL.TEXTURE0 + 3 and driver.bound["vertex array"] == 2
    assert driver.bound[f"store {GL.PACK_ALIGNMENT:#x}"] == 4 and driver.bound[f"store {GL.PACK_ROW_LENGTH:#x}"] == 12
    for i, target in enumerate(TEXTURE_TARGETS):
        assert driver.bound.get(f"texture {getattr(GL, target):#x}", 70 + i) == 70 + i


def test_buffers_are_read_whole_and_mapped_ones_through_their_pointer() -> None:
    driver = PlayedDriver()
    reader = _reader(driver, buffer=[3, 8, 9, 12])
    records = read_buffers(reader)
    assert [(r.name, r.size, r.usage) for r in records] == [
        (3, 60, GL.STATIC_DRAW),
        (8, 6, GL.STATIC_DRAW),
        (9, 0, GL.STATIC_DRAW),
    ]
    contents = [reader.blobs.get(r.contents) if r.contents else None for r in records]
    assert contents == [b"tracks" * 10, b"mapped", None]
    assert driver.log.count("wendaReadBuffer") == 1
    _as_before(driver)
    watch_mappings(reader)
    assert driver.watched == [8]


def test_textures_find_their_target_and_every_face() -> None:
    driver = PlayedDriver()
    reader = _reader(driver, texture=[4, 5, 6])
    records = {r.name: r for r in read_textures(reader)}
    assert {name: r.target for name, r in records.items()} == {4: GL.TEXTURE_2D, 5: GL.TEXTURE_CUBE_MAP}
    (image,) = records[4].images
    assert (image.width, image.height, image.format, image.type) == (6, 2, GL.RGBA, GL.UNSIGNED_BYTE)
    assert reader.blobs.get(image.contents) == _PATTERN[10:58]  # type: ignore[arg-type]
    faces = records[5].images
    assert len(faces) == 6 and [reader.blobs.get(f.contents)[0] for f in faces] == list(range(6))  # type: ignore[arg-type]
    assert records[4].parameters["TEXTURE_MIN_FILTER"] == [float(GL.NEAREST)]
    _as_before(driver)


def test_vertex_arrays_have_the_attributes_in_use() -> None:
    driver = PlayedDriver()
    (record,) = read_vertex_arrays(_reader(driver, vertex_array=[2, 9]))
    assert record.name == 2 and record.element_buffer == 7
    assert [(a.index, a.buffer, a.stride, a.offset, a.size) for a in record.attributes] == [
        (0, 3, 12, 0, 3),
        (3, 8, 20, 12, 3),
    ]
    _as_before(driver)


def test_contents_come_in_batches_of_bounded_size() -> None:
    driver = PlayedDriver()
    driver.buffers = {n: bytes([n]) * (40 << 20) for n in range(1, 4)}
    driver.mapped = set()
    reader = _reader(driver, buffer=[1, 2, 3])
    before = len([name for name in driver.log if name == "glGetBufferSubData"])
    runs: list[int] = []
    run = driver.run
    driver.run = lambda batch: (runs.append(batch.out_size), run(batch))[1]  # type: ignore[method-assign, func-returns-value]
    assert all(r.contents and r.contents.size == 40 << 20 for r in read_buffers(reader))
    assert before == 0 and max(runs) <= 64 << 20, "two of 40 MB do not go together"


def test_nothing_alive_is_nothing_read() -> None:
    driver = PlayedDriver()
    reader = _reader(driver, buffer=[1000])
    assert read_buffers(reader) == [] and read_textures(reader) == [] and read_vertex_arrays(reader) == []
