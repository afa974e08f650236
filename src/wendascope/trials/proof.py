"""Proofs: a remedy applied to the captured frame, replayed against the original, measured and its picture compared."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from wendascope.analysis.findings import Finding
from wendascope.errors import TrialError
from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.measure.statistics import Interval, median_interval
from wendascope.replay.client import Progress, Replay

REPEATS = 12
GAIN, NO_GAIN, SLOWER, CHANGES, REFUSED = "proved", "no gain", "costs time", "changes the picture", "cannot be tried here"
_SURE = 0.99
_KIND = "proof"
COMBINED = "combined"
"""The id under which the proof of everything that held together is kept."""


class Proof(msgspec.Struct):
    """What one remedy did. Times in ms; ratios are edited over original, of pairs taken one after the other."""

    finding: str
    verdict: str
    reason: str = ""
    """Why it could not be tried; empty otherwise."""
    repeats: int = 0
    steps_before: int = 0
    steps_after: int = 0
    calls_before: int = 0
    calls_after: int = 0
    fragments_before: int | None = None
    fragments_after: int | None = None
    frame_ms_before: Interval | None = None
    frame_ms_after: Interval | None = None
    ratio: Interval | None = None
    saved_ms: Interval | None = None
    """Original less edited, of the passes that the remedy touches, with an interval of 99 %: many are tried on one frame."""
    pixels_different: int = 0
    max_difference: int = 0
    where: tuple[int, int, int, int] | None = None
    """(x0, y0, x1, y1) that holds all pixels that differ, y from the bottom."""
    together: list[str] = []
    """Of a combined proof, the findings in it."""
    made_at: str = ""

    @property
    def gain_ms(self) -> float | None:
        """What it saves (or costs, below zero), where that is sure; None where nothing was shown."""
        return self.saved_ms.median if self.saved_ms is not None and self.verdict in (GAIN, SLOWER) else None

    @property
    def summary(self) -> str:
        """What was measured, in one line."""
        if self.ratio is None or self.frame_ms_before is None or self.frame_ms_after is None or self.saved_ms is None:
            return self.reason
        steps = f"{self.steps_before:,} -> {self.steps_after:,} steps, " if self.steps_before != self.steps_after else ""
        picture = "picture identical" if not self.pixels_different else _differ(self.pixels_different, self.max_difference)
        if self.where:
            x0, y0, x1, y1 = self.where
            picture += f", within {x1 - x0} x {y1 - y0} pixels at {x0}, {y0}"
        saved = self.saved_ms
        return (
            f"{steps}{self.frame_ms_before.median:.2f} -> {self.frame_ms_after.median:.2f} ms a frame, "
            f"saved {saved.median:.2f} ms in its passes ({saved.low:.2f} to {saved.high:.2f}), {picture}"
        )


def _differ(pixels: int, largest: int) -> str:
    return f"{pixels:,} pixel{'s differ' if pixels != 1 else ' differs'} by up to {largest} of 255"


def told(proof: Proof) -> dict[str, Any]:
    """A proof as it is printed: times as their medians, with the interval of the ratio."""
    plain: dict[str, Any] = msgspec.to_builtins(proof)
    for name in ("frame_ms_before", "frame_ms_after"):
        plain[name] = plain[name]["median"] if plain[name] else None
    return plain


def prove(
    path: Path, frame: Frame, findings: Iterable[Finding], replay: Replay, repeats: int = REPEATS,
    progress: Progress = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False, name: str = "",
) -> Proof:  # fmt: skip
    """Try the remedies of some findings as one edited frame and keep the proof in the file.

    `name` is what the proof is kept under, the finding's id unless given. Raises ReplayError, CancelledError.
    """
    chosen = list(findings)
    identity = name or chosen[0].id
    remedies = [f.remedy for f in chosen if f.remedy is not None]
    passes = sorted({int(frame.passes.of_step[s]) for r in remedies for s in r.steps})
    try:
        if len(remedies) < len(chosen):
            raise TrialError(next(f.refused for f in chosen if f.remedy is None))
        found = replay.run("trials.runs", "try_remedies", progress, cancelled, remedies=msgspec.to_builtins(remedies), passes=passes, repeats=repeats)
        proof = _judge(identity, found, repeats)
    except TrialError as error:
        proof = Proof(identity, REFUSED, str(error))
    proof.together = [f.id for f in chosen] if name else []
    proof.made_at = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    file.add(path, _KIND, proof)
    return proof


def _judge(identity: str, found: dict[str, Any], repeats: int) -> Proof:
    frame, edited = np.asarray(found["frame"]), np.asarray(found["edited_frame"])
    # the passes touched alone: with less noise around them, and one number decides, not the better of two
    saved = median_interval(np.asarray(found["pass"]) - np.asarray(found["edited_pass"]), _SURE)
    if found["different"]:
        verdict = CHANGES
    elif saved.low > 0:
        verdict = GAIN
    elif saved.high < 0:
        verdict = SLOWER
    else:
        verdict = NO_GAIN
    return Proof(
        identity, verdict, "", repeats, found["steps_before"], found["steps_after"], found["calls_before"], found["calls_after"],
        found["fragments_before"], found["fragments_after"], median_interval(frame), median_interval(edited), median_interval(edited / frame), saved,
        found["different"], found["largest"], tuple(found["where"]) if found["where"] else None,
    )  # fmt: skip


def prove_all(
    path: Path, frame: Frame, findings: list[Finding], replay: Replay, repeats: int = REPEATS,
    progress: Progress = lambda _what, _part: None, cancelled: Callable[[], bool] = lambda: False,
) -> tuple[list[Proof], Proof | None]:  # fmt: skip
    """A proof of every finding, and one of all that held together; None when none held."""
    proofs = []
    for number, item in enumerate(findings):
        def told(what: str, part: float, number: int = number) -> None:
            progress(f"proof {number + 1} of {len(findings)}: {what}", (number + part) / (len(findings) + 1))

        proofs.append(prove(path, frame, [item], replay, repeats, told, cancelled))
    held = {p.finding for p in proofs if p.verdict in (GAIN, NO_GAIN)}
    together = _together([f for f in findings if f.id in held])
    if not together:
        return proofs, None
    combined = prove(path, frame, together, replay, repeats, lambda what, part: progress(f"all together: {what}", part), cancelled, COMBINED)
    return proofs, combined


def _together(findings: list[Finding]) -> list[Finding]:
    """Those that can be in one frame: of two that order the same steps, the first."""
    chosen: list[Finding] = []
    ordered: set[int] = set()
    changed: set[int] = set()
    for item in findings:
        assert item.remedy is not None
        steps = set(item.remedy.steps) | set(item.remedy.order)
        if item.remedy.kind == "reorder-steps":
            if steps & (ordered | changed):
                continue
            ordered |= steps
        elif item.remedy.kind == "no-prepass":
            if steps & ordered:
                continue
            changed |= steps
        chosen.append(item)
    return chosen


def stored_proofs(path: Path) -> dict[str, Proof]:
    """Finding -> its newest proof in the file. Raises FileError."""
    return {proof.finding: proof for proof in file.added(path, _KIND, Proof)}


def state_of(finding: Finding, proofs: Mapping[str, Proof]) -> str:
    """What is known of a finding: `estimated`, or the verdict of its proof."""
    proof = proofs.get(finding.id)
    if proof is not None:
        return proof.verdict
    return "estimated" if finding.remedy is not None else REFUSED
