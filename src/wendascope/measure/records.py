"""What a survey returns and the file keeps. Times in milliseconds."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec

from wendascope.frame.passes import PassKey
from wendascope.measure.statistics import Interval

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame


class ClockTrial(msgspec.Struct):
    """What one clock showed for known work of two sizes."""

    clock: str
    small_ms: float
    large_ms: float
    spread: float
    """Of the large work: largest less smallest, as a part of the median."""
    loaded_spread: float | None
    """The same beside other programs that run all the time; None where no load was made."""
    credible: bool


class Calibration(msgspec.Struct):
    """Known work at two sizes, timed by all clocks, and the clocks that were believed."""

    method: str
    """`drain` or `timer query`."""
    reason: str
    small_drain_ms: float
    large_drain_ms: float
    small_query_ms: float | None
    large_query_ms: float | None
    work_ratio: float
    """How many times the small work the large work is."""
    empty_ms: float
    """What the chosen clock shows for no work at all."""
    verdict_clock: str = "drain"
    """The clock that verdicts go by: of those that are credible, the one that load shakes least."""
    verdict_reason: str = ""
    clocks: list[ClockTrial] = []


class StepTimes(msgspec.Struct):
    """Time of each step run alone, one entry a step."""

    ms: list[float]
    ms_low: list[float]
    ms_high: list[float]


class PassTime(msgspec.Struct):
    index: int
    name: str
    steps: int
    ms: float
    ms_low: float
    ms_high: float
    alone_ms: float
    """Sum of its steps, each run alone."""
    cpu_ms: float
    """CPU time of the recorded calls of the pass in the target, waiting left out."""
    target: str
    width: int
    height: int


_ROUNDED = 0.001
"""Of a picture: so many pixels may be rounded otherwise."""


def is_rounding(different: int, largest: int, pixels: int) -> bool:
    """Whether a replay differs from the captured picture by a rounding here and there: drivers were seen that filter
    textures so. Where it comes out the same every time, what changes in it is due to the change all the same.
    """
    return largest <= 1 and different <= _ROUNDED * pixels


class Verification(msgspec.Struct):
    """The unedited frame replayed against the reference picture."""

    pixels: int
    identical: bool
    pixels_different: int
    max_difference: int
    caveats: list[str]
    depth_different: int | None = None
    """Pixels of the window whose depth differs; None where depth was not collected."""

    @property
    def sentence(self) -> str:
        """What was found, without a full stop."""
        if self.identical:
            return f"the replay is the captured picture, all {self.pixels:,} pixels"
        if not self.pixels:
            return "the capture has no picture to compare the replay with"
        depth = f"; depth differs in {self.depth_different:,}" if self.depth_different else ""
        return (
            f"the replay differs from the captured picture in {self.pixels_different:,} of {self.pixels:,} pixels, by"
            f" up to {self.max_difference} of 255{depth}"
        )


class CpuTimes(msgspec.Struct):
    """Where the target's CPU time of the recorded frame went."""

    frame_ms: float
    calls_ms: float
    waits_ms: float
    program_ms: float
    """Between the calls: the program's own work."""


class Survey(msgspec.Struct):
    """All that one survey measured."""

    method: str
    calibration: Calibration
    repeats: int
    warm_up: int
    frame_ms: Interval
    submit_ms: Interval
    """Replay: from the first call to the last, without waiting for the GPU's work."""
    passes: list[PassTime]
    steps: StepTimes
    fragments: list[int] | None
    """Fragments of each step that passed all tests; None where the driver cannot count."""
    cpu: CpuTimes
    verification: Verification
    renderer: str
    target_frame_ms: float | None
    seconds: float

    def fits(self, frame: Frame) -> bool:
        """Whether it can be of that frame."""
        steps = len(frame.steps)
        rows = (self.steps.ms, self.steps.ms_low, self.steps.ms_high, self.fragments or self.steps.ms)
        return all(len(row) == steps for row in rows) and [p.index for p in self.passes] == list(
            range(len(frame.passes))
        )


class SequenceResults(msgspec.Struct):
    """What every pass of every frame of a sequence comes to."""

    keys: list[list[PassKey]]
    """Of each frame, what its passes are known by in the others."""
    names: list[list[str]]
    """Of each frame, what its passes are called."""
    digests: list[list[str]]
    """Of each frame, a digest of all that each pass draws into, as `pass_results` gives them."""
