"""How GLSL types lie in a uniform block of layout std140 (OpenGL 4.6 core, section 7.6.2.2)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from wendascope.registry import GL

_VECTORS = {
    GL.FLOAT: ("float", 1),
    GL.FLOAT_VEC2: ("vec2", 2),
    GL.FLOAT_VEC3: ("vec3", 3),
    GL.FLOAT_VEC4: ("vec4", 4),
    GL.INT: ("int", 1),
    GL.INT_VEC2: ("ivec2", 2),
    GL.INT_VEC3: ("ivec3", 3),
    GL.INT_VEC4: ("ivec4", 4),
    GL.UNSIGNED_INT: ("uint", 1),
    GL.UNSIGNED_INT_VEC2: ("uvec2", 2),
    GL.UNSIGNED_INT_VEC3: ("uvec3", 3),
    GL.UNSIGNED_INT_VEC4: ("uvec4", 4),
    GL.BOOL: ("bool", 1),
    GL.BOOL_VEC2: ("bvec2", 2),
    GL.BOOL_VEC3: ("bvec3", 3),
    GL.BOOL_VEC4: ("bvec4", 4),
}
_MATRICES = {
    GL.FLOAT_MAT2: ("mat2", 2, 2),
    GL.FLOAT_MAT3: ("mat3", 3, 3),
    GL.FLOAT_MAT4: ("mat4", 4, 4),
    GL.FLOAT_MAT2x3: ("mat2x3", 2, 3),
    GL.FLOAT_MAT2x4: ("mat2x4", 2, 4),
    GL.FLOAT_MAT3x2: ("mat3x2", 3, 2),
    GL.FLOAT_MAT3x4: ("mat3x4", 3, 4),
    GL.FLOAT_MAT4x2: ("mat4x2", 4, 2),
    GL.FLOAT_MAT4x3: ("mat4x3", 4, 3),
}
_WORD = 4


@dataclass(frozen=True)
class Member:
    """One member of a structure in a block. Sizes and offsets in bytes."""

    name: str
    type: int
    """The GL type, such as GL_FLOAT_VEC4."""
    count: int
    """Elements of an array; 1 for none."""
    array: bool
    offset: int
    columns: int
    rows: int
    stride: int
    """From one element to the next."""

    @property
    def glsl(self) -> str:
        """As it is declared."""
        return f"{glsl_type(self.type)} {self.name}{f'[{self.count}]' if self.array else ''};"

    @property
    def element_bytes(self) -> int:
        """One element as glUniform takes it, without padding."""
        return self.columns * self.rows * _WORD


def glsl_type(type_: int) -> str:
    """Raises KeyError for types that a block of 32-bit values cannot hold (doubles, samplers)."""
    found = _MATRICES.get(type_) or _VECTORS[type_]
    return found[0]


def fits(type_: int) -> bool:
    """Whether `struct_layout` knows a type."""
    return type_ in _VECTORS or type_ in _MATRICES


def struct_layout(members: list[tuple[str, int, int, bool]]) -> tuple[list[Member], int]:
    """(members with their offsets, bytes of one structure in an array) of (name, type, count, is an array). Raises
    KeyError.
    """
    found, at, widest = [], 0, 16  # a structure is aligned like a vec4
    for name, type_, count, array in members:
        if type_ in _MATRICES:
            _, columns, rows = _MATRICES[type_]
            align, size = 16, 16 * columns
        else:
            columns, rows = 1, _VECTORS[type_][1]
            align = _WORD * (4 if rows == 3 else rows)
            size = _WORD * rows
        if array:
            align = 16
            size = (size + 15) // 16 * 16
        at = (at + align - 1) // align * align
        found.append(Member(name, type_, count, array, at, columns, rows, size))
        at += size * count
    return found, (at + widest - 1) // widest * widest


def pack(member: Member, data: bytes) -> bytes:
    """Values as glUniform takes them (tightly packed, column by column), as they lie in the block."""
    parts = []
    for k in range(member.count):
        element = data[k * member.element_bytes : (k + 1) * member.element_bytes]
        if member.columns > 1:
            row = member.rows * _WORD
            element = b"".join(element[c * row : (c + 1) * row].ljust(16, b"\0") for c in range(member.columns))
        parts.append(element.ljust(member.stride, b"\0"))
    return b"".join(parts)


def unpack(member: Member, data: bytes) -> bytes:
    """The reverse of `pack`, of a member at its offset in a block."""
    parts = []
    for k in range(member.count):
        at = member.offset + k * member.stride
        row = member.rows * _WORD
        parts += [data[at + 16 * c : at + 16 * c + row].ljust(row, b"\0") for c in range(member.columns)]
    return b"".join(parts)


def from_texels(member: Member, element: int, texel: Callable[[int], str]) -> str:
    """GLSL that puts together one element of a member from texels of four 32-bit words, the structure lying in them as
    it does in a block: `texel` gives the expression (a uvec4) of each, by its number in the structure.
    """
    at = member.offset + element * member.stride

    def words(offset: int, count: int) -> str:
        first = offset % 16 // _WORD
        return f"{texel(offset // 16)}.{'xyzw'[first : first + count]}"

    name = glsl_type(member.type)
    if member.columns > 1:
        columns = (f"uintBitsToFloat({words(at + 16 * c, member.rows)})" for c in range(member.columns))
        return f"{name}({', '.join(columns)})"
    value = words(at, member.rows)
    if name in ("float", "vec2", "vec3", "vec4"):
        return f"uintBitsToFloat({value})"
    if name.startswith("b"):
        return f"({value} != 0u)" if member.rows == 1 else f"notEqual({value}, uvec{member.rows}(0u))"
    return f"{name}({value})"


def texels_of(member: Member) -> range:
    """The texels of a structure that a member lies in."""
    last = member.offset + (member.count - 1) * member.stride
    last += 16 * (member.columns - 1) + (member.rows - 1) * _WORD
    return range(member.offset // 16, last // 16 + 1)


_BY_NAME = {name: type_ for type_, (name, _) in _VECTORS.items()} | {
    name: type_ for type_, (name, _, _) in _MATRICES.items()
}


def type_named(glsl: str) -> int | None:
    """The GL type of a GLSL type name; None for those that `struct_layout` does not know."""
    return _BY_NAME.get(glsl) or _BY_NAME.get(_SQUARE.get(glsl, ""))


_SQUARE = {"mat2x2": "mat2", "mat3x3": "mat3", "mat4x4": "mat4"}
