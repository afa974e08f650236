"""The registry as the program uses it: loaded once from a file that the build wrote."""

from __future__ import annotations

import functools
from collections.abc import Collection
from pathlib import Path

import msgspec

from wendascope.registry.roles import Role

BUILT = Path(__file__).parent.parent / "_built"
"""Folder of everything the build makes: the tables and the native library."""


class Parameter(msgspec.Struct, array_like=True, frozen=True, gc=False):
    """One parameter of a command."""

    name: str
    ctype: str
    kind: str
    """`int`, `uint`, `enum`, `bitfield`, `bool`, `float`, `double` or `pointer`."""
    slot: int
    """First 8-byte argument slot; a pointer takes two, everything else one."""
    group: str | None
    object_class: str | None
    role: str | None
    """For pointers, the role from `registry.rules`; None otherwise."""


class Command(msgspec.Struct, array_like=True, frozen=True, gc=False):
    """One OpenGL command, or one of the tap's own (named `wenda...`)."""

    id: int
    name: str
    canonical: str
    """Name of the command that this one is an alias of; its own name otherwise."""
    returns: str
    """`void` or the kind of the result, which then takes the last slot."""
    return_class: str | None
    slots: int
    """Number of 8-byte slots, result included."""
    parameters: list[Parameter]
    roles: int = 0
    """Its `Role` flags."""

    def has(self, role: Role) -> bool:
        """Whether it has one of some roles."""
        return bool(self.roles & int(role))

    def parameter(self, name: str) -> Parameter:
        """The parameter of that name. Raises KeyError."""
        for parameter in self.parameters:
            if parameter.name == name:
                return parameter
        raise KeyError(f"{self.name} has no parameter {name}")


class TableFile(msgspec.Struct, array_like=True):
    fingerprint: str
    commands: list[Command]
    enums: list[tuple[str, int, list[str]]]


class Tables:
    """Commands by id and name, enumerants by name and value."""

    def __init__(self, file: TableFile) -> None:
        self.fingerprint = file.fingerprint
        self.commands = file.commands
        self.by_name = {command.name: command for command in file.commands}
        self.enum_value = {name: value for name, value, _ in file.enums}
        self._enums = file.enums

    @functools.cached_property
    def _enum_names(self) -> dict[int, list[tuple[str, list[str]]]]:
        found: dict[int, list[tuple[str, list[str]]]] = {}
        for name, value, groups in self._enums:
            found.setdefault(value, []).append((name, groups))
        return found

    def enum_name(self, value: int, group: str | None = None) -> str:
        """Best name for a value: of the wanted group if any has it, shortest otherwise; hex when unknown."""
        names = self._enum_names.get(value)
        if not names:
            return f"0x{value:04X}"
        in_group = [name for name, groups in names if group in groups]
        return min(in_group or [name for name, _ in names], key=lambda name: (len(name), name))

    def names_of(self, value: int) -> list[str]:
        """Every name of a value."""
        return [name for name, _ in self._enum_names.get(value, ())]

    def bit_names(self, value: int, group: str | None) -> str:
        """Names of the bits set in a bitfield value, joined by `|`."""
        if value == 0:
            return "0"
        names, rest = [], value
        for name, bit, groups in self._enums:
            if group in groups and bit and bit & (bit - 1) == 0 and value & bit and rest & bit:
                names.append(name)
                rest &= ~bit
        if rest:
            names.append(hex(rest))
        return " | ".join(names)

    def having(self, role: Role) -> list[bool]:
        """Which commands, by id, have one of some roles."""
        wanted = int(role)  # operators of enumerations are slow
        return [command.roles & wanted != 0 for command in self.commands]

    @functools.cached_property
    def _likes(self) -> dict[str, list[Command]]:
        found: dict[str, list[Command]] = {}
        for command in self.commands:
            found.setdefault(command.canonical, []).append(command)
        return found

    def commands_like(self, canonical: str) -> list[Command]:
        """The command of that name and every alias of it with the same parameters, whatever their names."""
        if canonical not in self.by_name:
            return []
        shape = [(p.kind, p.slot) for p in self.by_name[canonical].parameters]
        return [c for c in self._likes.get(canonical, []) if [(p.kind, p.slot) for p in c.parameters] == shape]

    def __getitem__(self, name: str) -> Command:
        return self.by_name[name]


@functools.cache
def tables() -> Tables:
    """The tables of this build. Raises FileNotFoundError, saying how to build, when there are none."""
    path = BUILT / "registry.msgpack"
    if not path.exists():
        raise FileNotFoundError(f"{path.name} has not been built: run `make setup`")
    return Tables(msgspec.msgpack.decode(path.read_bytes(), type=TableFile))


@functools.cache
def _offered() -> dict[str, list[str]]:
    return msgspec.msgpack.decode((BUILT / "offered.msgpack").read_bytes(), type=dict[str, list[str]])


def is_offered(name: str, api: str, number: int, core: bool, extensions: Collection[str]) -> bool:
    """Whether a context offers a command or enumerant (full name), by the registry.

    `api` is `gl` or `es`, `number` the version times ten, `core` whether removed names are gone.
    """
    offered = False
    for source in _offered().get(name, ()):
        if source.startswith(f"-{api}"):
            if core and number >= int(source[1 + len(api) :]):
                return False
        elif source.startswith("GL_"):
            offered = offered or source in extensions
        elif source.startswith(api):
            offered = offered or number >= int(source[len(api) :])
    return offered


def native_library() -> Path:
    """Path of the tap. Raises FileNotFoundError, saying how to build, when it is missing."""
    path = BUILT / "libwendatap.so"
    if not path.exists():
        raise FileNotFoundError(f"{path.name} has not been built: run `make setup`")
    return path


class _EnumNamespace:
    """Enumerants as attributes without their prefix: `GL.TEXTURE_2D`."""

    def __getattr__(self, name: str) -> int:
        try:
            value = tables().enum_value["GL_" + name]
        except KeyError:
            raise AttributeError(f"no enumerant GL_{name}") from None
        setattr(self, name, value)
        return value


GL = _EnumNamespace()
