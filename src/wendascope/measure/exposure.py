"""Which values of a picture are black and white, so that what is in it is seen."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.contents import ImageValues

DEPTH = "depth"
"""The kind of values that are depths, 1 where nothing is drawn."""
DISTANCE = "distance"
"""The kind of values that are distances, infinite where nothing is drawn."""
COLOURS = "colours"
"""In the place of one channel: the first three as they are."""
_WHITE_PERCENTILE, _BLACK_PERCENTILE = 99.5, 0.5
_DIM = 0.35
"""A picture of eight bits whose bright parts are darker than this part of white is shown brighter."""
_MOST_SAMPLES = 1 << 16
_AGAIN = 4.0
"""A range that was fixed is given up where the next picture is so many times brighter or darker."""
_BEYOND = 1.0
"""What there is to choose a range from goes so many times the shown range beyond its ends, where there are values."""


@dataclass(frozen=True)
class Exposure:
    """What is shown of the values of a picture, and how."""

    low: float = 0.0
    high: float = 1.0
    channel: str = COLOURS
    as_light: bool = False
    """Whether values are light that is encoded for the screen."""
    automatic: bool = True

    @property
    def plain(self) -> bool:
        """Whether values are shown as they are."""
        return (self.low, self.high, self.channel, self.as_light) == (0.0, 1.0, COLOURS, False)

    @property
    def sentence(self) -> str:
        """What to say beside the picture; empty where there is nothing to say."""
        if self.plain:
            return ""
        range_ = f"{self.low:.3g} to {self.high:.3g}"
        return f"{'automatic ' if self.automatic else ''}range {range_}" + (
            ", encoded as sRGB" if self.as_light else ""
        )


def automatic(values: ImageValues, kind: str, window: bool) -> Exposure:
    """The range that nearly all values lie in. `kind` is that of the format (`frame.formats.Format.kind`); what goes to
    a window is meant to be seen as it is.
    """
    if kind in (DEPTH, DISTANCE):
        return Exposure(*depth_range(_distances(values, kind)))
    if window or kind in ("uint", "sint"):
        return Exposure()
    few = values.sample(_MOST_SAMPLES).values
    sample = few.reshape(-1, few.shape[-1])[:, :3].astype(np.float64)
    sample = sample[np.isfinite(sample).all(axis=1)]
    if not sample.size:
        return Exposure()
    low, high = (float(part) for part in np.percentile(sample, (_BLACK_PERCENTILE, _WHITE_PERCENTILE)))
    if high <= max(low, 0.0):
        high = float(sample.max())
    if high <= low:
        return Exposure()
    low = min(low, 0.0) if low < 0.5 * high else low  # black is nothing, unless all of it is far from that
    if kind in ("sfloat", ""):
        return Exposure(min(low, 0.0) if low < 0.5 * high else low, high, as_light=low >= 0)
    return Exposure() if high > _DIM else Exposure(0.0, high)


def still_fits(fixed: Exposure, wanted: Exposure) -> bool:
    """Whether a range that was chosen for one step of a target shows another one of it."""
    if fixed.plain or wanted.plain:
        return not fixed.plain or wanted.plain
    width, other = fixed.high - fixed.low, wanted.high - wanted.low
    return width / _AGAIN <= other <= width * _AGAIN


def _distances(values: ImageValues, kind: str) -> np.ndarray:
    """Shape (height, width), infinite where nothing is drawn."""
    found = values.values[..., 0]
    return np.where(found >= 1.0, np.inf, found) if kind == DEPTH else found


def depth_range(depth: np.ndarray) -> tuple[float, float]:
    """The range that nearly all drawn pixels lie in: perspective crowds depth near 1. (0, 1) where nothing is drawn,
    which is infinitely far.
    """
    sample = depth[:: max(1, depth.shape[0] // 512), :: max(1, depth.shape[1] // 512)]
    drawn = sample[np.isfinite(sample)]
    if drawn.size == 0:
        return 0.0, 1.0
    low, high = np.quantile(drawn, (0.005, 0.995))
    return float(low), float(high)


def shaded_depth(depth: np.ndarray, low: float, high: float) -> npt.NDArray[np.uint8]:
    """Near light, far dark, nothing drawn black, shape (height, width, 3)."""
    scale = np.float32(-195 / max(high - low, 1e-9))
    drawn = np.isfinite(depth)
    near = np.where(drawn, depth, np.float32(high)) - np.float32(low)
    shade = np.clip(np.float32(235) + near * scale, 40, 235).astype(np.uint8)
    shade[~drawn] = 0
    return np.repeat(shade[:, :, None], 3, axis=2)


def exposed(values: ImageValues, kind: str, exposure: Exposure) -> npt.NDArray[np.uint8]:
    """Pixels to look at, shape (height, width, 3), top row first."""
    if kind in (DEPTH, DISTANCE):
        return shaded_depth(_distances(values, kind)[::-1], exposure.low, exposure.high)
    if kind in ("uint", "sint") and exposure.plain:
        return np.ascontiguousarray(values.distinct(0)[::-1])
    names = values.channels
    numbers = list(range(min(len(names), 3))) if exposure.channel not in names else [names.index(exposure.channel)]
    return np.ascontiguousarray(values.shown(numbers, exposure.low, exposure.high, exposure.as_light)[::-1])


@dataclass(frozen=True, eq=False)
class Seen:
    """A picture with the exposure that it is seen with. What it costs to make, threads without a window pay."""

    values: ImageValues
    kind: str
    found: Exposure
    """The range that nearly all of its values lie in."""
    exposure: Exposure
    """The one that it is seen with."""

    @property
    def as_it_is(self) -> bool:
        """Whether a screen would show the picture like this anyway."""
        return self.exposure.plain and self.kind in ("unorm", "")

    @functools.cached_property
    def pixels(self) -> npt.NDArray[np.uint8]:
        """Pixels to look at, shape (height, width, 3), top row first."""
        return exposed(self.values, self.kind, self.exposure)

    @functools.cached_property
    def not_finite(self) -> tuple[int, int]:
        """How many of its pixels are no number, and infinite."""
        return self.values.not_finite()

    @functools.cached_property
    def spread(self) -> tuple[npt.NDArray[np.int64], tuple[float, float]]:
        """(how many values lie in each part of a range, its ends), to choose a range from: a few values far away are
        not to squeeze all others into a line.
        """
        values, low, high = self.values, self.exposure.low, self.exposure.high
        one = self.exposure.channel in values.channels
        shown = [values.channels.index(self.exposure.channel)] if one else list(range(min(len(values.channels), 3)))
        least, most = values.ends(shown)
        span = high - low
        ends = min(max(least, low - _BEYOND * span), low), max(min(most, high + _BEYOND * span), high)
        few = values.sample(_MOST_SAMPLES)
        return np.sum([few.histogram(channel, *ends) for channel in shown], axis=0), ends

    @functools.cached_property
    def sentence(self) -> str:
        """What to say beside the picture; empty where there is nothing to say."""
        if self.as_it_is:
            return ""
        infinite = (0, 0) if self.kind in (DEPTH, DISTANCE) else self.not_finite  # far away is no mistake of a depth
        marked = zip(infinite, ("not a number", "infinite"), strict=True)
        return "; ".join(
            filter(None, [self.exposure.sentence, *(f"{count:,} {what}" for count, what in marked if count)])
        )


def seen(values: ImageValues, kind: str, window: bool, fixed: Exposure | None = None) -> Seen:
    """A picture as it is shown: with the exposure that was fixed for its target, where that still fits."""
    found = automatic(values, kind, window)
    stays = fixed is not None and not (fixed.automatic and not still_fits(fixed, found))
    return Seen(values, kind, found, fixed if stays and fixed is not None else found)
