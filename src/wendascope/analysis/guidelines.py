"""Rules of thumb that findings measure by, from a TOML that users may put a copy of in their settings folder."""

from __future__ import annotations

import contextlib
import functools
import tomllib
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from wendascope.errors import FileError

_SHIPPED = Path(__file__).with_name("guidelines.toml")


class GeometryGuidelines(msgspec.Struct, forbid_unknown_fields=True):
    lost_to_size: float
    partial: float
    pixels_a_triangle: int
    large_mesh: int
    small_part: float


class BatchGuidelines(msgspec.Struct, forbid_unknown_fields=True):
    uniform_block_bytes: int
    vertices_a_batch: int
    atlas_page: int
    array_layers: int
    texture_units: int
    least_copies: int
    least_instance_vertices: int
    least_saved: int
    least_switches: int
    tiny_mesh: int


class OperationCosts(msgspec.Struct, forbid_unknown_fields=True):
    """Cost of each class of operation in a shader; 1 is an addition of two scalars. `nearest` and `linear` are
    parts of a fetch.
    """

    arithmetic: float
    conversion: float
    division: float
    square_root: float
    transcendental: float
    power: float
    fetch: float
    dependent_fetch: float
    nearest: float
    linear: float
    texel_fetch: float
    derivative: float
    branch: float
    discard: float
    unknown_loop: int


class DeviceClass(msgspec.Struct, forbid_unknown_fields=True):
    device: str
    high: int
    low: int = 0


class ProofGuidelines(msgspec.Struct, forbid_unknown_fields=True):
    budget_seconds: float
    seconds: float


class Guidelines(msgspec.Struct, forbid_unknown_fields=True):
    """What each field means stands in `guidelines.toml`."""

    geometry: GeometryGuidelines
    batches: BatchGuidelines
    operations: OperationCosts
    proofs: ProofGuidelines
    steps: list[DeviceClass]


def own_file() -> Path:
    """Where a user's own guidelines are looked for. A file of the name that they had at first gets the new one."""
    folder = Path(platformdirs.user_config_dir("wendascope"))
    own, first = folder / "guidelines.toml", folder / "yardsticks.toml"
    if first.exists() and not own.exists():
        with contextlib.suppress(OSError):
            first.rename(own)
    return own


def shipped_text() -> str:
    """The guidelines that ship with Wendascope, to begin a copy from."""
    return _SHIPPED.read_text()


_adopted: list[Guidelines] = []


def adopt(given: Guidelines | None) -> None:
    """Work with these from now on, in a process that does not look for the user's own; None for the shipped ones."""
    _adopted[:] = [given or read_guidelines(None)]


def guidelines() -> Guidelines:
    """The guidelines in force. Raises FileError when the user's own are no valid ones."""
    return _adopted[0] if _adopted else _own_guidelines()


def read_again() -> None:
    """Look for the user's own guidelines anew: they were changed."""
    _own_guidelines.cache_clear()


@functools.cache
def _own_guidelines() -> Guidelines:
    path = own_file()
    return read_guidelines(path if path.exists() else None)


def read_guidelines(path: Path | None) -> Guidelines:
    """The shipped guidelines, with what a file changes of them. Raises FileError."""
    merged = tomllib.loads(shipped_text())
    if path is None:
        return msgspec.convert(merged, Guidelines)
    try:
        _merge(merged, tomllib.loads(path.read_text()))
        return msgspec.convert(merged, Guidelines)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise FileError(f"{path}: {error}; fix the file, or remove it to use the shipped guidelines") from error


def _merge(into: dict[str, Any], changes: dict[str, Any]) -> None:
    for key, value in changes.items():
        if isinstance(value, dict) and isinstance(into.get(key), dict):
            _merge(into[key], value)
        else:
            into[key] = value
