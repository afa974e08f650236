"""Runs in a process with the tap and the noting driver: executes random packed calls, and compares what the driver was
given with what was packed. Prints one line for each difference.
"""

from __future__ import annotations

import contextlib
import ctypes
import random
import struct
import sys
from typing import Any

import numpy as np

from tests.native.driver import POINTERS, command_named, scalar_commands
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream
from wendascope.backends.opengl.rebuild.executor import LocalExecutor
from wendascope.errors import ReplayError
from wendascope.registry._tables import Parameter

_BITS = {"GLbyte": 8, "GLubyte": 8, "GLboolean": 8, "GLchar": 8, "GLshort": 16, "GLushort": 16, "GLhalfNV": 16,
         "GLint64": 64, "GLint64EXT": 64, "GLuint64": 64, "GLuint64EXT": 64, "GLintptr": 64, "GLsizeiptr": 64,
         "GLintptrARB": 64, "GLsizeiptrARB": 64, "GLvdpauSurfaceNV": 64}  # fmt: skip


def _value(parameter: Parameter) -> tuple[Any, int]:
    """A random argument, and the 64 bits the driver must see."""
    if parameter.kind == "float":
        value = struct.unpack("<f", struct.pack("<f", random.uniform(-1e6, 1e6)))[0]
        return value, int.from_bytes(struct.pack("<f", value), "little")
    if parameter.kind == "double":
        value = random.uniform(-1e9, 1e9)
        return value, int.from_bytes(struct.pack("<d", value), "little")
    bits = _BITS.get(parameter.ctype, 32)
    if parameter.kind == "bool":
        value = random.randrange(2)
    elif parameter.kind == "int":
        value = random.randrange(-(1 << bits - 1), 1 << bits - 1)
    else:
        value = random.randrange(1 << bits)
    return value, value & (1 << 64) - 1


def _scalars(rounds: int) -> None:
    driver = ctypes.CDLL(None)
    log = (ctypes.c_uint64 * 64).in_dll(driver, "noted")
    executor = LocalExecutor()
    for command in scalar_commands():
        for _ in range(rounds):
            given = [_value(p) for p in command.parameters]
            batch = CallBatch()
            batch.call(command.name, *(value for value, _ in given))
            stream = CallStream.parse(np.array(batch.words, np.uint64), np.frombuffer(bytes(batch.arena), np.uint8))
            read = [stream.argument(0, p.name) for p in command.parameters]
            if read != [value for value, _ in given]:
                print(f"{command.name}: packed {[v for v, _ in given]}, read {read}")
            executor.run(batch)
            seen = list(log[: len(given) + 1])
            if seen != [command.id, *(bits for _, bits in given)]:
                print(f"{command.name}{tuple(v for v, _ in given)}: the driver saw {seen}")


def _pointers(rounds: int) -> None:
    """Data reaches the driver where it lies in the arena, and data that is too short never does."""
    driver = ctypes.CDLL(None)
    log = (ctypes.c_uint64 * 64).in_dll(driver, "noted")
    copied = (ctypes.c_uint8 * 4096).in_dll(driver, "copied")
    length = ctypes.c_uint64.in_dll(driver, "length")
    executor = LocalExecutor()
    for name, (arguments, needed) in POINTERS.items():
        identity = command_named(name).id
        for _ in range(rounds):
            count = random.randrange(1, 9)
            data = random.randbytes(needed(count))
            length.value = len(data)
            batch = CallBatch()
            batch.call(name, *arguments(count, data))
            executor.run(batch)
            if log[0] != identity or bytes(copied[: len(data)]) != data:
                print(f"{name}: {count} elements came out otherwise")
            log[0] = 0
            short = CallBatch()
            short.call(name, *arguments(count, data[: random.randrange(len(data))]))
            try:
                executor.run(short)
                print(f"{name}: too little data was taken")
            except ReplayError as error:
                if "too little data" not in str(error) or log[0]:
                    print(f"{name}: {error}, the driver saw {log[0]}")


def _damaged(rounds: int) -> None:
    """Words of any value are refused or run; the process lives, and pointers stay within the arena."""
    driver = ctypes.CDLL(None)
    outside = ctypes.c_uint64.in_dll(driver, "outside")
    executor = LocalExecutor()
    names = list(POINTERS)
    for _ in range(rounds):
        batch = CallBatch()
        for name in random.sample(names, 3):
            arguments, needed = POINTERS[name]
            count = random.randrange(1, 9)
            batch.call(name, *arguments(count, random.randbytes(needed(count))))
        words = np.array(batch.words, np.uint64)
        for _ in range(random.randrange(1, 4)):
            at = random.randrange(len(words))
            words[at] = random.choice([random.getrandbits(64), int(words[at]) ^ 1 << random.randrange(64), 0])
        arena = np.frombuffer(bytes(batch.arena) + b"\0", np.uint8)
        out = np.zeros(64, np.uint8)
        low = ctypes.c_uint64.in_dll(driver, "arena_low")
        high = ctypes.c_uint64.in_dll(driver, "arena_high")
        low.value, high.value = arena.ctypes.data, arena.ctypes.data + arena.nbytes
        with contextlib.suppress(ReplayError):
            executor.execute(words, arena, out)
        if outside.value:
            print("a pointer outside the arena reached the driver")
            outside.value = 0
        low.value = high.value = 0


if __name__ == "__main__":
    random.seed(int(sys.argv[1]))
    _scalars(3)
    _pointers(50)
    _damaged(5000)
    print("done")
