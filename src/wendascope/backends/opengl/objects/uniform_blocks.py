"""Uniform blocks as a program's sources declare them, with the places of their members."""

from __future__ import annotations

import functools
from dataclasses import dataclass

from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.glsl.globals import Block, Globals, UnclearSourceError
from wendascope.glsl.preprocessor import Dialect, compiled_text
from wendascope.glsl.std140 import Member, struct_layout, type_named


@dataclass(frozen=True)
class BlockLayout:
    """One block. `bytes` is what it takes as one structure of an array."""

    instance: str
    """The name it is used by; empty where its members are used by their own."""
    rows: tuple[tuple[str, int, int, bool], ...]
    """(name, GL type, elements, whether it is an array) of its members."""
    members: tuple[Member, ...]
    bytes: int

    @property
    def last_byte(self) -> int:
        """One past the last byte that a shader reads."""
        last = self.members[-1]
        return last.offset + last.stride * (last.count - 1) + last.element_bytes


@functools.lru_cache(maxsize=256)
def _blocks(source: str) -> tuple[Block, ...]:
    return tuple(Globals(source).blocks)


def block_layout(program: ProgramRecord, name: str, dialect: Dialect) -> BlockLayout:
    """Raises UnclearSourceError, saying why, where the sources do not tell."""
    declared: list[Block] = []
    for shader in program.shaders:
        declared += [b for b in _blocks(compiled_text(shader.source, dialect)) if b.name == name]
    if (
        not declared
        or any(b.members != declared[0].members for b in declared)
        or any("std140" not in b.layout for b in declared)
    ):
        raise UnclearSourceError(f"block {name} is not declared as std140 with members of plain types")
    if any("row_major" in b.layout for b in declared):
        raise UnclearSourceError(f"block {name} has its matrices row by row")
    instances = {b.instance for b in declared}
    if len(instances) > 1:
        raise UnclearSourceError(f"block {name} is used by different names in its stages")
    rows = []
    for type_, member, array in declared[0].members:
        known = type_named(type_)
        if known is None:
            raise UnclearSourceError(f"{member} of block {name} is a structure")
        rows.append((member, known, int(array.strip("[] \t")) if array else 1, bool(array)))
    if not rows:
        raise UnclearSourceError(f"block {name} has no members that can be seen")
    members, size = struct_layout(rows)
    return BlockLayout(instances.pop(), tuple(rows), tuple(members), size)
