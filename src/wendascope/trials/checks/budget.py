"""The budget file: limits in TOML, as `docs/ci.md` describes them."""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

import msgspec

from wendascope.errors import FileError

FORMAT = 1
"""Of budget files. A later one is refused with a word of what to do."""
_AMOUNT = re.compile(r"([+-]?)\s*(\d[\d_]*(?:\.\d+)?)\s*(%|B|KiB|MiB|GiB|ms)?")
_FACTORS = {"B": 1.0, "KiB": 1024.0, "MiB": 1024.0**2, "GiB": 1024.0**3, "ms": 1.0, None: 1.0}
_OF_BYTES = ("B", "KiB", "MiB", "GiB")


class Unsure(StrEnum):
    """What becomes of a check that nothing can be told of."""

    PASS = "pass"
    WARN = "warn"
    FAIL = "fail"


class Limit(msgspec.Struct, forbid_unknown_fields=True):
    """What one amount may be at most: of the frame, or of the passes, the role or the debug group that are named."""

    what: str
    at_most: int | float | str
    pass_: str = msgspec.field(name="pass", default="")
    """A pattern: every pass whose name fits is checked by itself."""
    role: str = ""
    """All passes of a role together."""
    label: str = ""
    """All steps within a debug group of that name together."""
    unsure: Unsure | None = None
    """In the place of what the budget says."""
    note: str = ""
    """Told where it is not met: why there is this limit, and whom to ask."""


class Taken(msgspec.Struct, forbid_unknown_fields=True):
    """Which frame of a program is taken."""

    frame: int = 0
    after: float = 0.0
    timeout: float = 60.0


class Budget(msgspec.Struct, forbid_unknown_fields=True):
    """A budget file."""

    format: int
    limit: list[Limit]
    unsure: Unsure = Unsure.WARN
    seconds: float = 60.0
    """What measuring may take for each frame."""
    baseline: str = ""
    """A captured frame that limits with a sign are counted from; relative to the budget file."""
    capture: Taken = msgspec.field(default_factory=Taken)


@dataclass(frozen=True)
class Allowance:
    """What an amount may be at most."""

    amount: float
    relative: bool = False
    """Whether it comes on top of the baseline."""
    share: bool = False
    """Whether it is a part of the baseline, 0.05 for 5 %."""
    of_bytes: bool = False
    in_ms: bool = False

    def beyond(self, base: float) -> float:
        """The limit itself, for a value of the baseline."""
        if not self.relative:
            return self.amount
        return base * (1 + self.amount) if self.share else base + self.amount


def allowance(at_most: float | str) -> Allowance:
    """`1200`, `"36 MiB"`, or on top of the baseline `"+5 %"` and `"+20"`. Raises ValueError."""
    if isinstance(at_most, (int, float)):
        return Allowance(float(at_most))
    found = _AMOUNT.fullmatch(at_most.strip())
    if found is None:
        raise ValueError(f'{at_most!r} is no limit: write a number, "36 MiB", "16.7 ms", "+5 %" or "+20"')
    sign, digits, unit = found.groups()
    if unit == "%" and not sign:
        raise ValueError(f'{at_most!r} says a part of what? "+{at_most}" is a part of the baseline')
    value = float(digits.replace("_", "")) * (-1 if sign == "-" else 1)
    if unit == "%":
        return Allowance(value / 100, True, True)
    return Allowance(value * _FACTORS[unit], bool(sign), False, unit in _OF_BYTES, unit == "ms")


def read_budget(path: Path) -> Budget:
    """Raises FileError that says where the file is wrong and what to write."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise FileError(f"cannot read {path}: {error}") from error
    try:
        content = tomllib.loads(text)
        if isinstance(content.get("format"), int) and content["format"] > FORMAT:
            raise FileError(f"{path} has format {content['format']}; this Wendascope knows {FORMAT}: update it")
        budget = msgspec.convert(content, Budget)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise FileError(f"{path}: {error}; `wendascope check --init FRAME` writes a budget to begin with") from error
    if budget.format != FORMAT:
        raise FileError(f"{path}: format = {FORMAT} is expected, not {budget.format}")
    if not budget.limit:
        raise FileError(f"{path} has no [[limit]]: nothing would be checked")
    for number, item in enumerate(budget.limit, 1):
        try:
            allowance(item.at_most)
        except ValueError as error:
            raise FileError(f"{path}, limit {number} ({item.what}): {error}") from error
        if sum(map(bool, (item.pass_, item.role, item.label))) > 1:
            raise FileError(f"{path}, limit {number} ({item.what}): choose one of pass, role and label")
    return budget
