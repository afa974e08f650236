"""What a finding is, and how the rules are found: every module of this package that registers one."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

import msgspec
import numpy as np

from wendascope.advice.estimates import correction
from wendascope.advice.left_out import LeftOut
from wendascope.advice.rule import Rule, register, rule_named
from wendascope.analysis.draws.batches import Batches, find_batches
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn, StepDrawn, touched_of
from wendascope.analysis.memory.memory_use import MemoryUse
from wendascope.analysis.memory.texture_facts import TextureFacts, texture_facts
from wendascope.analysis.memory.traffic import Moved, ObjectKey, traffic
from wendascope.analysis.sequence.over_time import OtherFrames
from wendascope.analysis.shaders.reached_code import ReachedCode
from wendascope.analysis.shaders.study import ProgramStudy, study_shaders
from wendascope.discovery import import_all
from wendascope.errors import MachineError, WendascopeError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.texts import plural

_FEW_MS = 10
"""Percentile of the steps' times that is taken for the price of a step as such."""


class Facts(msgspec.Struct):
    """Numbers of a finding that others compute with: they group, add up, correct and plan by these, never by words."""

    where: str = ""
    """The pass it is about, as sentences name it; empty for several."""
    draws_now: int = 0
    draws_together: int = 0
    """Of draws that could be fewer."""
    calls: int = 0
    """Calls that would go and that are no draws."""
    covered: int = 0
    """Fragments that are shaded and covered later."""
    submit_ms: float = 0.0
    """CPU time of the calls that go, expected by the recording."""
    own_ms: float = 0.0
    """Time that the program itself spends between the calls that go, as recorded; no replay contains it."""


class Trying(msgspec.Struct):
    """What a try during the survey showed of the picture, without measuring time."""

    pixels_different: int
    max_difference: int


class Finding(msgspec.Struct):
    """Something worth changing, with its evidence. What its rule says of all of them stands in `rule_named(rule)`."""

    id: str
    rule: str
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
    facts: Facts = msgspec.field(default_factory=Facts)
    tried: Trying | None = None
    """What the survey's own try showed; None where there was none, or no time for it."""

    @property
    def kept_rule(self) -> Rule:
        """What is known of its rule."""
        return rule_named(self.rule)

    @property
    def draws_now(self) -> int:
        return self.facts.draws_now

    @property
    def draws_together(self) -> int:
        return self.facts.draws_together

    @property
    def calls(self) -> int:
        return self.facts.calls

    @property
    def how_known(self) -> str:
        """How its numbers came about, with what was tried of it."""
        if self.tried is None:
            return self.how
        seen = (
            "the picture stayed the same"
            if not self.tried.pixels_different
            else f"{plural(self.tried.pixels_different, 'pixel')} changed by up to {self.tried.max_difference} of 255"
        )
        return "; ".join(filter(None, [self.how, f"tried in replay: {seen}"]))


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
    reached: ReachedCode | None = None
    """How often loops of fragment shaders run; None where that was not measured."""
    known_sharing: Sharing | None = None
    """What steps have in common, where it is worked out already."""

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
        return np.asarray(times * together[of_step] * self._overlap)

    @cached_property
    def step_submit_ms(self) -> np.ndarray | None:
        """Of each step: its part of the time of submitting the frame, by the recorded time of its calls, in ms."""
        if self.submit_ms is None or not self.frame.call_count:
            return None
        sums = np.concatenate([[0.0], np.cumsum(self.frame.call_ms)])
        steps = self.frame.steps
        ends = np.asarray(steps.call, np.int64) + 1
        first = np.concatenate([[0], ends[:-1]]) if len(ends) else ends
        return np.asarray((sums[ends] - sums[first]) * (self.submit_ms / max(sums[-1], 1e-9)))

    def own_time_of(self, steps: Iterable[int]) -> float:
        """What the program itself spends between the calls of some steps, ms, as recorded."""
        chosen = np.unique(np.array(list(steps), np.int64))
        return float(self.step_own_ms[chosen].sum()) if len(chosen) else 0.0

    @cached_property
    def step_own_ms(self) -> np.ndarray:
        """Of each step: what the program itself spends between the calls that serve it, ms, as recorded."""
        lane, calls = self.frame.cpu_lane, np.asarray(self.frame.steps.call, np.int64)
        if not len(lane.begin):
            return np.zeros(len(calls))
        sums = np.concatenate([[0.0, 0.0], np.cumsum(np.maximum(lane.begin[1:] - lane.end[:-1], 0.0))])
        first = np.concatenate([[0], calls[:-1] + 1]) if len(calls) else calls
        return np.asarray((sums[calls + 1] - sums[first]) * self.own_scale)

    @cached_property
    def own_scale(self) -> float:
        """What the program's own time while it was recorded counts: no more than the frames before took without."""
        recorded = self.frame.cpu_lane.frame_ms
        return min(self.thread_ms / recorded, 1.0) if recorded > 0 else 1.0

    @cached_property
    def thread_ms(self) -> float:
        """CPU time of the thread that ends the frames, in those before the capture: what it sleeps is not in it.
        Infinite where that is not known.
        """
        before = [beat.thread_ns / 1e6 for beat in self.frame.frame_statistics if beat.thread_ns > 0]
        return float(np.median(before)) if before else float("inf")

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
    def texture_facts(self) -> list[TextureFacts]:
        """What the texels of its textures tell; each is read once."""
        return list(texture_facts(self.frame))

    @cached_property
    def sharing(self) -> Sharing:
        return self.known_sharing or Sharing(self.frame)

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


Finder = Callable[[Case], Iterable[Finding]]
_finders: dict[str, tuple[tuple[Rule, ...], Finder]] = {}
"""Name of the first rule -> all rules of a function, and the function."""


def finding(*rules: Rule) -> Callable[[Finder], Finder]:
    """Register a function that makes the findings of some rules."""

    def register_finder(finder: Finder) -> Finder:
        for rule in rules:
            register(rule)
        _finders[rules[0].name] = rules, finder
        return finder

    return register_finder


def find(case: Case, failed: list[str] | None = None) -> list[Finding]:
    """All findings, the largest expected gain first; those without an estimate last.

    A rule that fails costs its own findings and no others: `failed` then hears which, and why.
    """
    import_all("wendascope.advice.findings")
    found: list[Finding] = []
    for rules, finder in _finders.values():
        try:
            found += [_corrected(item) for item in finder(case)]
        except WendascopeError:
            raise
        except Exception as error:
            if failed is None:
                raise
            names = " and ".join(rule.name for rule in rules)
            failed.append(
                f"the rule {names} failed on this frame ({type(error).__name__}: {error}): nothing of it is told"
            )
    return sorted(found, key=lambda item: (-(item.estimate_ms or 0.0), item.id))


def _corrected(item: Finding) -> Finding:
    known = correction(item.rule)
    if item.estimate_ms and known.factor != 1.0:
        item.estimate_ms, item.corrected_by = item.estimate_ms * known.factor, known.factor
        item.how += f"; times {known.factor:.2g}, as {known.pairs} proofs of other frames showed"
    return item
