"""Steps that are the same in every frame of a sequence: the same draw of the same data, by all that it depends on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.numbers import Ints, Mask
from wendascope.frame.passes import PassKey


@dataclass(frozen=True)
class FrameInputs:
    """What `Frame.step_inputs` tells, with the passes that the steps are in."""

    numbers: Sequence[int]
    """One for each step; 0 where it is not known."""
    keys: Sequence[PassKey]
    """Of each step's pass."""


class SameSteps(msgspec.Struct):
    """Of every frame of a sequence the steps that all other frames have as well, in the same pass."""

    runs: list[list[tuple[int, int]]]
    """Of each frame, as runs [first, end)."""

    def of_frame(self, number: int) -> list[int]:
        """The steps of one frame, by its number from 1."""
        return [step for first, end in self.runs[number - 1] for step in range(first, end)]


def same_steps(frames: Sequence[FrameInputs]) -> SameSteps:
    """Go by what steps depend on, whatever their order: a step that one frame lacks is not the same."""
    rows = [set(zip(frame.keys, frame.numbers, strict=True)) for frame in frames]
    common = set.intersection(*rows) if rows else set()
    found = []
    for frame in frames:
        alike = [
            bool(number) and (key, number) in common for key, number in zip(frame.keys, frame.numbers, strict=True)
        ]
        found.append(_runs(alike))
    return SameSteps(found)


def _runs(alike: Sequence[bool]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], np.asarray(alike, np.int8), [0]])))
    return [(int(first), int(end)) for first, end in edges.reshape(-1, 2)]


def static_part(frame: Frame, index: int, same: Mask) -> list[int]:
    """The steps of a pass that could be drawn once, ahead of all others, and kept: none where it does not begin with a
    clear that is the same in all frames. A step comes along only where nothing before it stays behind, or where
    neither depends on the other's place: opaque draws that test and write depth, or write depth alone.
    """
    first, end = int(frame.passes.first[index]), int(frame.passes.end[index])
    if not same[first] or frame.steps.kind_name(first) != "clear":
        return []
    free = _order_free(frame, np.arange(first, end))
    chosen, stays, all_free = [], False, True
    for step in range(first, end):
        if same[step] and (not stays or (all_free and free[step - first])):
            chosen.append(step)
        else:
            stays = True
            all_free = all_free and bool(free[step - first])
    return chosen


def _order_free(frame: Frame, steps: Ints) -> Mask:
    uses = frame.uses
    draws = np.array([frame.steps.kind_name(int(step)) == "draw" for step in steps], bool)
    solid = uses.depth.tests[steps] & uses.depth.writes[steps] & ~uses.stencil[steps]
    return draws & solid & (~uses.mixes_colours[steps] | uses.writes_no_colour[steps])
