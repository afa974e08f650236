"""Writes and builds a driver that draws nothing: its functions note their number and arguments."""

from __future__ import annotations

import functools
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import wendascope
from wendascope.registry import tables
from wendascope.registry._tables import Command
from wendascope.registry.build import compiler

SOURCE = Path(wendascope.__file__).parent
NATIVE = SOURCE / "tap" / "native"
BUILT = SOURCE / "_built"
Arguments = Callable[[int, bytes], list[Any]]
POINTERS: dict[str, tuple[Arguments, Callable[[int], int]]] = {
    "glUniform4fv": (lambda n, data: [3, n, data], lambda n: 16 * n),
    "glUniformMatrix3x2fv": (lambda n, data: [3, n, 0, data], lambda n: 24 * n),
    "glUniform1i64vARB": (lambda n, data: [3, n, data], lambda n: 8 * n),
    "glVertexAttrib4dv": (lambda n, data: [3, data], lambda n: 32),
    "glBufferSubData": (lambda n, data: [0x8892, 0, 4 * n, data], lambda n: 4 * n),
    "glDeleteQueries": (lambda n, data: [n, data], lambda n: 4 * n),
    "glDrawBuffers": (lambda n, data: [n, data], lambda n: 4 * n),
    "glViewportArrayv": (lambda n, data: [0, n, data], lambda n: 16 * n),
}
"""Command -> (its arguments for some elements and data, bytes of so many elements)."""


@functools.cache
def scalar_commands() -> list[Command]:
    """Commands that give nothing back, whose arguments are numbers, and that the tap does not look into."""
    return [
        c
        for c in tables().commands
        if c.name.startswith("gl") and c.returns == "void" and c.parameters and c.slots == len(c.parameters)
        and all(p.kind not in ("pointer", "opaque") for p in c.parameters)
    ]  # fmt: skip


@functools.cache
def command_named(name: str) -> Command:
    """A command by its name."""
    return next(c for c in tables().commands if c.name == name)


def _function(command: Command) -> str:
    parameters = ", ".join(f"{p.ctype} {p.name}_" for p in command.parameters)
    lines = [f"void {command.name}({parameters}) {{ noted[0] = {command.id};"]
    for place, p in enumerate(command.parameters, 1):
        if p.kind == "pointer":
            lines.append(f"note({p.name}_);")
        elif p.kind in ("float", "double"):
            lines.append(f"noted[{place}] = 0; __builtin_memcpy(&noted[{place}], &{p.name}_, sizeof {p.name}_);")
        else:
            lines.append(f"noted[{place}] = (uint64_t)(int64_t){p.name}_;")
    return " ".join(lines) + " }"


def build_driver(folder: Path) -> Path:
    """The driver as a library to preload behind the tap."""
    functions = [_function(c) for c in scalar_commands()] + [_function(command_named(name)) for name in POINTERS]
    source = folder / "noting.c"
    source.write_text(
        '#include "tap.h"\n#pragma GCC visibility push(default)\n'
        "uint64_t noted[64], outside, arena_low, arena_high, length;\nuint8_t copied[4096];\n"
        "static void note(const void *pointer) {\n"
        "  uint64_t at = (uint64_t)pointer;\n"
        "  if (arena_high && at && (at < arena_low || at >= arena_high)) { outside = 1; return; }\n"
        "  if (!arena_high && pointer) __builtin_memcpy(copied, pointer, length);\n}\n"
        "GLenum glGetError(void) { return 0; }\nvoid glFinish(void) {}\n"
        "void glGetIntegerv(GLenum name, GLint *value) { *value = 0; }\n" + "\n".join(functions) + "\n"
    )
    return _compile(folder / "noting.so", [source])


def build_sizes(folder: Path) -> Path:
    """sizes.c alone, with a table in the place of a context."""
    return _compile(folder / "sizes.so", [Path(__file__).parent / "sizes_alone.c", NATIVE / "sizes.c"])


def _compile(library: Path, sources: list[Path]) -> Path:
    command: list[str | Path] = [
        *compiler(),
        "-shared",
        "-fPIC",
        "-O1",
        "-std=gnu11",
        "-w",
        f"-I{NATIVE}",
        f"-I{BUILT}",
        "-o",
        library,
    ]
    subprocess.run([*command, *sources], check=True)
    return library
