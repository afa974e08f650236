"""Rules of thumb that findings measure by, from a TOML that users may put a copy of in their settings folder."""

from __future__ import annotations

import functools
import tomllib
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from wendascope.errors import FileError

_SHIPPED = Path(__file__).with_name("yardsticks.toml")


class GeometryYardsticks(msgspec.Struct, forbid_unknown_fields=True):
    lost_to_size: float
    partial: float
    pixels_a_triangle: int
    large_mesh: int
    small_part: float


class BatchYardsticks(msgspec.Struct, forbid_unknown_fields=True):
    uniform_block_bytes: int
    vertices_a_batch: int
    atlas_page: int
    array_layers: int
    least_copies: int
    least_instance_vertices: int
    least_saved: int
    least_switches: int
    tiny_mesh: int


class OperationCosts(msgspec.Struct, forbid_unknown_fields=True):
    """Cost of each class of operation in a shader; 1 is an addition of two scalars. `nearest` and `linear` are parts of a fetch."""

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


class Yardsticks(msgspec.Struct, forbid_unknown_fields=True):
    """What each field means stands in `yardsticks.toml`."""

    geometry: GeometryYardsticks
    batches: BatchYardsticks
    operations: OperationCosts
    steps: list[DeviceClass]


def own_file() -> Path:
    """Where a user's own yardsticks are looked for."""
    return Path(platformdirs.user_config_dir("wendascope")) / "yardsticks.toml"


def shipped_text() -> str:
    """The yardsticks that ship with Wendascope, to begin a copy from."""
    return _SHIPPED.read_text()


@functools.cache
def yardsticks() -> Yardsticks:
    """The yardsticks in force. Raises FileError when the user's own are no valid ones."""
    path = own_file()
    return read_yardsticks(path if path.exists() else None)


def read_yardsticks(path: Path | None) -> Yardsticks:
    """The shipped yardsticks, with what a file changes of them. Raises FileError."""
    merged = tomllib.loads(shipped_text())
    if path is None:
        return msgspec.convert(merged, Yardsticks)
    try:
        _merge(merged, tomllib.loads(path.read_text()))
        return msgspec.convert(merged, Yardsticks)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise FileError(f"{path}: {error}; mend the file, or remove it to use the yardsticks that ship") from error


def _merge(into: dict[str, Any], changes: dict[str, Any]) -> None:
    for key, value in changes.items():
        if isinstance(value, dict) and isinstance(into.get(key), dict):
            _merge(into[key], value)
        else:
            into[key] = value
