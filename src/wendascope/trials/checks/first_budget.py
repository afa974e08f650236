"""A budget to begin with: what a frame comes to today, with room to spare."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable
from pathlib import Path

from wendascope.errors import WendascopeError
from wendascope.frame.file import load
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.trials.checks.amounts import Amount, How, Known, amounts
from wendascope.trials.checks.amounts.times import SUBMISSION, WORK
from wendascope.trials.checks.budget import FORMAT, Allowance
from wendascope.trials.checks.scopes import whole
from wendascope.trials.checks.timing import Asked, check_times

_MIB = 1024.0**2
_SECONDS = 20.0
_UNLIMITED = 1e9
_WHOLE = 1000
"""Counts below this are told to the last one."""


def first_budget(path: Path, room: float = 0.1, task: Task = QUIET) -> str:
    """The text of a budget for a frame. `room` is the part by which limits lie above today. Raises FileError,
    ReplayError, CancelledError.
    """
    frame = load(path)
    lines = [
        f"# What {path.name} comes to, with {room:.0%} to spare. What can be limited, and how, stands in docs/ci.md.",
        f"format = {FORMAT}",
        '# what cannot be told counts as: "pass", "warn" or "fail"',
        'unsure = "warn"',
        "# seconds that measuring may take for each frame",
        "seconds = 60",
        "",
        "# [capture]  # for `wendascope check BUDGET.toml -- PROGRAM`",
        "# frame = 120",
    ]
    with Replay(path) as replay:
        known, times = Known(frame, replay, task), functools.cache(lambda: _times(replay, task))
        for how in How:
            lines += ["", f"# {how.value}"]
            for item in amounts():
                if item.how == how:
                    lines += _limit(known, item, times, room)
        name = next((name for name in frame.passes.names if "*" not in name and "[" not in name), "")
        lines += [
            "",
            "# one pass, a role of passes or a debug group by itself; shell patterns are understood",
            "# [[limit]]",
            '# what = "draws"',
            f"# pass = {_quoted(name)}",
            "# at_most = 100",
            "",
            "# on top of a frame of before: name it with `baseline`, or give --baseline",
            "# [[limit]]",
            f'# what = "{SUBMISSION}"',
            '# at_most = "+5 %"',
        ]
    return "\n".join(lines) + "\n"


def _limit(known: Known, item: Amount, times: Callable[[], dict[str, float]], room: float) -> list[str]:
    try:
        value = times()[item.name] if item.how == How.MEASURED else item.of(known, whole(known.frame))
    except WendascopeError as error:
        return [f"# {item.name}: {' '.join(str(error).split())}"]
    if value is None:
        return [f"# {item.name}: cannot be told of this frame"]
    return [
        "[[limit]]",
        f'what = "{item.name}"  # {item.tip}',
        f"at_most = {_amount(value * (1 + room), item.unit, value == round(value))}",
        "",
    ]


def _times(replay: Replay, task: Task) -> dict[str, float]:
    """Of the whole frame, ms, by the names of their amounts."""
    names, unlimited = (WORK, SUBMISSION), Allowance(_UNLIMITED)  # kept as soon as that can be told
    asked = [Asked((), (), name == SUBMISSION, unlimited) for name in names]
    told = check_times(asked, replay, None, _SECONDS, task)
    return {name: item.ms.median for name, item in zip(names, told, strict=True)}


def _amount(value: float, unit: str, is_whole: bool) -> str:
    """Rounded up to three digits, as TOML; counts stay whole."""
    if unit == "bytes" and value >= _MIB:
        return f'"{_rounded_up(value / _MIB)} MiB"'
    return str(math.ceil(value - 1e-9)) if is_whole and value < _WHOLE else _rounded_up(value)


def _rounded_up(value: float) -> str:
    if value <= 0:
        return "0"
    step = 10.0 ** (math.floor(math.log10(value)) - 2)
    found = math.ceil(value / step - 1e-9) * step
    return f"{found:.0f}" if step >= 1 else f"{found:.{round(-math.log10(step))}f}"


def _quoted(text: str) -> str:
    """As TOML writes a text."""
    return '"' + "".join(c if c.isprintable() and c not in '"\\' else f"\\u{ord(c):04x}" for c in text) + '"'
