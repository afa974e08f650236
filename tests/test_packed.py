"""The packed call: what is put in comes out again, and damage is found."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Raw, split_strings
from wendascope.errors import DamagedFileError
from wendascope.registry import GL, tables


def parse(batch: CallBatch) -> CallStream:
    return CallStream.parse(np.array(batch.words, np.uint64), np.frombuffer(bytes(batch.arena), np.uint8))


@given(
    st.integers(-(2**31), 2**31 - 1),
    st.floats(width=32, allow_nan=False),
    st.binary(max_size=64),
    st.integers(0, 2**40),
)
def test_arguments_survive(number: int, value: float, data: bytes, offset: int) -> None:
    batch = CallBatch()
    batch.call("glUniform1i", 3, number)
    batch.call("glUniform1f", 4, value)
    batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, len(data), data)
    batch.call("glDrawElements", GL.TRIANGLES, 3, GL.UNSIGNED_INT, Raw(offset))
    stream = parse(batch)
    assert len(stream) == 4
    assert stream.argument(0, "v0") == number
    assert stream.argument(1, "v0") == value
    assert stream.argument(2, "data") == data
    assert stream.argument(3, "indices") == (Raw(offset) if offset else None)


@given(st.lists(st.binary(max_size=30), max_size=8))
def test_strings_survive(strings: list[bytes]) -> None:
    lengths = struct.pack(f"<{len(strings)}i", *map(len, strings))
    batch = CallBatch()
    batch.call("glShaderSource", 1, len(strings), strings, lengths)
    assert parse(batch).argument(0, "string") == strings


@given(st.binary(max_size=80))
def test_any_bytes_as_strings_never_fail(data: bytes) -> None:
    assert all(isinstance(item, bytes) for item in split_strings(data))


@given(st.data())
def test_damaged_streams_are_refused_or_valid(data: st.DataObject) -> None:
    batch = CallBatch()
    for i in range(5):
        batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, 8, bytes(8))
        batch.call("glUniform4f", i, 1.0, 2.0, 3.0, 4.0)
    words = np.array(batch.words, np.uint64)
    words[data.draw(st.integers(0, len(words) - 1))] = data.draw(st.integers(0, 2**64 - 1))
    try:
        stream = CallStream.parse(words, np.frombuffer(bytes(batch.arena), np.uint8))
    except DamagedFileError:
        return
    for call in range(len(stream)):
        for parameter in stream.command(call).parameters:
            stream.argument(call, parameter.name)


def test_every_registry_command_can_be_packed() -> None:
    for command in tables().commands:
        batch = CallBatch()
        batch.call(
            command.name,
            *(0.0 if p.kind in ("float", "double") else None if p.kind == "pointer" else 0 for p in command.parameters),
        )
        assert parse(batch).command(0).name == command.name


def test_wrong_number_of_arguments_is_refused() -> None:
    with pytest.raises(ValueError):
        CallBatch().call("glUniform1i", 1)
