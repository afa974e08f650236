"""The whole examination of a frame: its times, what it draws for nothing, and what follows from both."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec

from wendascope.analysis.drawn import Drawn
from wendascope.analysis.findings import Case, Finding, find
from wendascope.errors import TrialError
from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey
from wendascope.measure.store import keep_survey
from wendascope.measure.survey import REPEATS
from wendascope.replay.client import Progress, Replay

_DRAWN, _FINDINGS = "drawn", "findings"


class _Findings(msgspec.Struct):
    findings: list[Finding]


@dataclass
class Examined:
    frame: Frame
    survey: Survey
    drawn: Drawn | None
    """None where only times were measured."""
    findings: list[Finding]


def examine_file(
    path: Path, repeats: int = REPEATS, progress: Progress = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False, replay: Replay | None = None,
) -> Examined:  # fmt: skip
    """Measure times and layers of a frame, find what to change, and keep it all in the file.

    A replay process that is already running may be given. Raises any WendascopeError.
    """
    frame = file.load(path)
    own = None if replay else Replay(path)
    try:
        used = replay or own
        assert used is not None
        found = examine(frame, used, repeats, progress, cancelled)
    finally:
        if own:
            own.close()
    keep(path, found)
    return found


def examine(
    frame: Frame, used: Replay, repeats: int = REPEATS, progress: Progress = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False
) -> Examined:
    """The same for an open frame, without keeping it."""
    survey = _times(used, repeats, progress, cancelled)
    drawn = msgspec.convert(used.run("measure.drawn", "measure_drawn", progress, cancelled), Drawn)
    findings = find(Case(frame, drawn, survey.steps.ms, [p.ms for p in survey.passes]))
    orders = [item for item in findings if item.rule == "back-to-front"]
    worse = _measure_orders(frame, drawn, orders, used, progress, cancelled)
    findings = [item for item in findings if item.id not in worse]
    findings.sort(key=lambda item: -(item.estimate_ms or 0.0))
    return Examined(frame, survey, drawn, findings)


def time_file(
    path: Path, repeats: int = REPEATS, progress: Progress = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False
) -> Examined:
    """Only the times, kept in the file. Raises any WendascopeError."""
    frame = file.load(path)
    with Replay(path) as replay:
        found = Examined(frame, _times(replay, repeats, progress, cancelled), None, [])
    keep(path, found)
    return found


def _times(replay: Replay, repeats: int, progress: Progress, cancelled: Callable[[], bool]) -> Survey:
    return msgspec.convert(replay.run("measure.survey", "survey", progress, cancelled, repeats=repeats), Survey)


def keep(path: Path, found: Examined) -> None:
    """Write it into the file. Raises FileError."""
    keep_survey(path, found.survey)
    if found.drawn is None:
        return
    file.add(path, _DRAWN, found.drawn)
    file.add(path, _FINDINGS, _Findings(found.findings))


def _measure_orders(
    frame: Frame, drawn: Drawn, items: list[Finding], replay: Replay, progress: Progress, cancelled: Callable[[], bool]
) -> set[str]:
    """Replay with steps in their better orders and count what passes. Returns the ids of orders that are no better.

    One that cannot be played says why. Runs of different passes do not disturb each other, so they share a replay.
    """
    rounds: dict[int, list[Finding]] = {}
    for item in items:
        index = int(frame.passes.of_step[item.steps[0]])
        number = sum(int(frame.passes.of_step[other.steps[0]]) == index for group in rounds.values() for other in group)
        rounds.setdefault(number, []).append(item)
    worse = set()
    for group in rounds.values():
        try:
            counted = _count(group, replay, progress, cancelled)
        except TrialError:
            for item in group:
                try:
                    alone = _count([item], replay, progress, cancelled)
                except TrialError as error:
                    item.remedy, item.refused = None, str(error)
                    continue
                if not _better(frame, drawn, item, alone):
                    worse.add(item.id)
            continue
        worse |= {item.id for item in group if not _better(frame, drawn, item, counted)}
    return worse


def _count(items: list[Finding], replay: Replay, progress: Progress, cancelled: Callable[[], bool]) -> list[int] | None:
    remedies = msgspec.to_builtins([item.remedy for item in items])
    found: list[int] | None = replay.run("trials.runs", "count_fragments", progress, cancelled, remedies=remedies)
    return found


def _better(frame: Frame, drawn: Drawn, item: Finding, counted: list[int] | None) -> bool:
    """Write down what the order saves; whether it saves anything, or nobody can tell."""
    if counted is None:
        return True
    index = int(frame.passes.of_step[item.steps[0]])
    saved = drawn.passes[index].fragments - counted[index]
    item.evidence["fragments saved by the better order, measured"] = saved
    if item.estimate_ms is not None:
        item.estimate_ms *= max(saved, 0) / max(int(item.evidence["of them covered later"]), 1)
    return saved > 0


def stored_examination(path: Path) -> tuple[Drawn | None, list[Finding]]:
    """The newest record of what was drawn and the newest findings in a file. Raises FileError."""
    drawn = file.added(path, _DRAWN, Drawn)
    findings = file.added(path, _FINDINGS, _Findings)
    return (drawn[-1] if drawn else None), (findings[-1].findings if findings else [])
