"""What a finding is, and how the rules are found: every module of this package that registers one."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

import msgspec
import numpy as np

from wendascope.analysis.batches import Batches, find_batches
from wendascope.analysis.drawn import Drawn, StepDrawn, touched_of
from wendascope.analysis.estimates import correction
from wendascope.analysis.left_out import LeftOut
from wendascope.analysis.memory_use import MemoryUse
from wendascope.analysis.over_time import OtherFrames
from wendascope.analysis.remedy import Remedy
from wendascope.analysis.shaders import ProgramStudy, study_shaders
from wendascope.analysis.sharing import Sharing
from wendascope.analysis.traffic import Moved, ObjectKey, traffic
from wendascope.discovery import import_all
from wendascope.errors import MachineError
from wendascope.frame.frame import Frame

CALLS_GONE = "CPU time of the calls that go, ms"
"""Evidence of batches: what submission is expected to save, as far as it is not corrected."""
_FEW_MS = 10
"""Percentile of the steps' times that is taken for the price of a step as such."""


class Finding(msgspec.Struct):
    """Something worth changing, with its evidence."""

    id: str
    rule: str
    page: str
    """The question it belongs to."""
    title: str
    why: str
    steps: list[int]
    evidence: dict[str, int | float | str]
    """Numbers that can be checked on screen, by what they are."""
    estimate_ms: float | None
    """Expected gain, corrected by what proofs of its rule showed on other frames; None where nothing is expected of the
    frame time, or no times were measured.
    """
    how: str
    """How that was estimated."""
    price: str
    conditions: str
    remedy: Remedy | None = None
    refused: str = ""
    """Why it cannot be tried here, where there is no remedy."""
    program: int = 0
    """Of a finding about a shader, with its stage and the lines of its source."""
    stage: int = 0
    lines: list[int] = []
    corrected_by: float = 1.0
    """What the estimate was multiplied by."""
    less_bytes: int = 0
    """Graphics memory that would not be needed any more; below 0 where more would be."""


@dataclass
class Case:
    """Everything that rules may look at."""

    frame: Frame
    drawn: Drawn
    ms: list[float] | None
    """Time of each step run alone; None before they were measured."""
    pass_ms: list[float] | None = None
    """Time of each pass run as a whole."""
    submit_ms: float | None = None
    """Time of submitting the frame, without waiting for its work."""
    frame_ms: float | None = None
    """Time of the whole frame; its passes, each run by itself, take longer together where they overlap."""
    other_frames: OtherFrames | None = None
    """What the rest of a sequence tells; None for a frame by itself."""
    left_out: list[LeftOut] = field(default_factory=list)
    """Lights, and parts of views, that were tried without."""
    memory_use: MemoryUse | None = None
    """Mip levels that are read, and values of targets; None where that was not measured."""

    @cached_property
    def cheapest_ms(self) -> float | None:
        """What the cheapest draws take without their fragments: of steps run alone with rasterisation off. None
        where that was not measured.
        """
        known = [row.vertex_ms for row in self.drawn.steps if row.vertex_ms is not None]
        return float(np.percentile(known, _FEW_MS)) if known else None

    def time_of(self, steps: Iterable[int]) -> float | None:
        """What some steps take within their passes."""
        return self.weighted(dict.fromkeys(steps, 1.0))

    def weighted(self, shares: dict[int, float]) -> float | None:
        """The same, of each step only a share.

        Steps run alone take longer than together, for nothing overlaps: each counts with its part of its pass.
        """
        if self.step_ms is None:
            return None
        steps, parts = list(shares), np.array(list(shares.values()))
        return float(self.step_ms[steps] @ parts) if steps else 0.0

    @cached_property
    def step_ms(self) -> np.ndarray | None:
        """Of each step: its time within its pass, in ms; together they take no more than their passes and the frame."""
        if self.ms is None:
            return None
        times, of_step = np.array(self.ms, float), np.asarray(self.frame.passes.of_step)
        if self.pass_ms is None:
            return times
        alone = np.bincount(of_step, times, len(self.frame.passes))
        whole = np.array(self.pass_ms, float)
        together = np.minimum(np.divide(whole, alone, out=np.ones_like(whole), where=alone > 0), 1.0)
        return times * together[of_step] * self._overlap

    @property
    def _overlap(self) -> float:
        """The frame's time over that of its passes by themselves, where that is less."""
        total = sum(self.pass_ms or [])
        return 1.0 if self.frame_ms is None or total <= 0 else min(self.frame_ms / total, 1.0)

    @property
    def passes_in_frame(self) -> list[float]:
        """Of each pass: its part of the frame's time, in ms; none before it was measured."""
        return [ms * self._overlap for ms in self.pass_ms or []]

    def steps_of(self, index: int) -> range:
        return range(int(self.frame.passes.first[index]), int(self.frame.passes.end[index]))

    def rows(self, index: int) -> Iterator[tuple[int, StepDrawn]]:
        """(step, what it drew) of the draws of a pass."""
        for step in self.steps_of(index):
            if self.frame.steps.kind_name(step) == "draw":
                yield step, self.drawn.steps[step]

    @cached_property
    def traffic(self) -> dict[ObjectKey, Moved]:
        """Bytes that the frame moves, by object; modelled."""
        return traffic(self.frame, self.drawn, self.memory_use)

    @cached_property
    def sharing(self) -> Sharing:
        return Sharing(self.frame)

    @cached_property
    def batches(self) -> Batches:
        return find_batches(self.sharing, touched=touched_of(self.drawn))

    @cached_property
    def shaders(self) -> list[ProgramStudy]:
        """None where this machine has no compiler to look into them with: other rules do without."""
        with contextlib.suppress(MachineError):
            return self.study_shaders()
        return []

    def study_shaders(self) -> list[ProgramStudy]:
        """Raises MachineError where there is no compiler."""
        times = None if self.ms is None else [self.time_of([step]) or 0.0 for step in range(len(self.frame.steps))]
        return study_shaders(self.sharing, self.drawn if self.drawn.steps else None, times)

    @cached_property
    def names(self) -> list[str]:
        """Of the passes, as sentences say them."""
        return self.frame.passes.short_names


Rule = Callable[[Case], Iterable[Finding]]
_rules: dict[str, Rule] = {}


def finding(name: str) -> Callable[[Rule], Rule]:
    """Register a rule by its name, which its findings carry."""

    def register(rule: Rule) -> Rule:
        _rules[name] = rule
        return rule

    return register


def find(case: Case) -> list[Finding]:
    """All findings, the largest expected gain first; those without an estimate last."""
    import_all("wendascope.analysis.findings")
    found = [_corrected(item) for rule in _rules.values() for item in rule(case)]
    return sorted(found, key=lambda item: (-(item.estimate_ms or 0.0), item.id))


def _corrected(item: Finding) -> Finding:
    known = correction(item.rule)
    if item.estimate_ms and known.factor != 1.0:
        item.estimate_ms, item.corrected_by = item.estimate_ms * known.factor, known.factor
        item.how += f"; times {known.factor:.2g}, as {known.pairs} proofs of other frames showed"
    return item
