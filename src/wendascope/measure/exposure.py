"""Which values of a picture are black and white, so that what is in it is seen."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.frame.contents import ImageValues

DEPTH = "depth"
"""The kind of values that are depths."""
COLOURS = "colours"
"""In the place of one channel: the first three as they are."""
_WHITE_PERCENTILE, _BLACK_PERCENTILE = 99.5, 0.5
_DIM = 0.35
"""A picture of eight bits whose bright parts are darker than this part of white is shown brighter."""
_MOST_SAMPLES = 1 << 18
_AGAIN = 4.0
"""A range that was fixed is given up where the next picture is so many times brighter or darker."""


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
    if kind == DEPTH:
        return Exposure(*depth_range(values.values[..., 0]))
    if window or kind in ("uint", "sint"):
        return Exposure()
    rows = values.values.reshape(-1, values.values.shape[-1])[:, :3]
    step = max(len(rows) // _MOST_SAMPLES, 1)
    sample = rows[::step].astype(np.float64)
    sample = sample[np.isfinite(sample).all(axis=1)]
    if not sample.size:
        return Exposure()
    low, high = (float(np.percentile(sample, share)) for share in (_BLACK_PERCENTILE, _WHITE_PERCENTILE))
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


def depth_range(depth: np.ndarray) -> tuple[float, float]:
    """The range that nearly all drawn pixels lie in: perspective crowds depth near 1. (0, 1) where nothing is drawn."""
    sample = depth[:: max(1, depth.shape[0] // 512), :: max(1, depth.shape[1] // 512)]
    drawn = sample[sample < 1.0]
    if drawn.size == 0:
        return 0.0, 1.0
    low, high = np.quantile(drawn, (0.005, 0.995))
    return float(low), float(high)


def shaded_depth(depth: np.ndarray, low: float, high: float) -> npt.NDArray[np.uint8]:
    """Near light, far dark, nothing drawn black, shape (height, width, 3)."""
    scale = np.float32(-195 / max(high - low, 1e-9))
    shade = np.clip(np.float32(235) + (depth - np.float32(low)) * scale, 40, 235).astype(np.uint8)
    shade[depth >= 1.0] = 0
    return np.repeat(shade[:, :, None], 3, axis=2)


def exposed(values: ImageValues, kind: str, exposure: Exposure) -> npt.NDArray[np.uint8]:
    """Pixels to look at, shape (height, width, 3), top row first."""
    if kind == DEPTH:
        return shaded_depth(values.values[::-1, :, 0], exposure.low, exposure.high)
    if kind in ("uint", "sint") and exposure.plain:
        return np.ascontiguousarray(values.distinct(0)[::-1])
    names = values.channels
    numbers = list(range(min(len(names), 3))) if exposure.channel not in names else [names.index(exposure.channel)]
    return np.ascontiguousarray(values.shown(numbers, exposure.low, exposure.high, exposure.as_light)[::-1])
