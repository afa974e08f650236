"""How estimates are corrected by what proofs of earlier frames showed."""

from __future__ import annotations

import functools
import tomllib
from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

_FILE = Path(__file__).with_name("estimates.toml")
_LEAST_PAIRS = 3
"""Fewer than this say nothing of a rule."""
_SMALL_MS = 0.1
"""Estimate and proof that differ by less agree, whatever their ratio."""
_FACTORS = (0.1, 4.0)
_UNKNOWN = (0.3, 2.0)
"""Range of a rule that too little is known of."""


class Correction(msgspec.Struct, frozen=True):
    """Of one rule."""

    pairs: int
    factor: float
    """What an estimate is multiplied by."""
    low: float
    high: float
    """Range of what is proved, over the corrected estimate."""


def correction_of(pairs: Sequence[tuple[float, float]]) -> Correction:
    """From (estimated, proved) gains of a rule, ms. It is corrected where the median is off by more than two: large
    gains decide, as small ones drown in noise.
    """
    known = [(estimated, proved) for estimated, proved in pairs if estimated > 0]
    if len(known) < _LEAST_PAIRS:
        return Correction(len(known), 1.0, *_UNKNOWN)
    ratios = np.array([proved / estimated for estimated, proved in known])
    weights = np.sqrt([estimated for estimated, _ in known])
    order = np.argsort(ratios)
    middle = float(ratios[order][np.searchsorted(np.cumsum(weights[order]), weights.sum() / 2)])
    factor = 1.0 if 0.5 <= middle <= 2.0 else min(max(middle, _FACTORS[0]), _FACTORS[1])
    low, high = np.quantile(ratios / factor, (0.1, 0.9))
    return Correction(len(known), round(factor, 3), round(min(float(low), 1.0), 3), round(max(float(high), 1.0), 3))


def within_two(estimated: float, proved: float) -> bool:
    """Whether an estimate is within a factor of two of the proof, or both are next to nothing."""
    if abs(estimated - proved) < _SMALL_MS:
        return True
    return proved > 0 and 0.5 <= estimated / proved <= 2.0


def agrees(estimated: float, low: float, high: float) -> bool:
    """Whether a proof whose interval is from `low` to `high` allows a gain within a factor of two of the estimate."""
    if abs(estimated - min(max(estimated, low), high)) < _SMALL_MS:
        return True
    return high > 0 and estimated / 2 <= high and low <= 2 * estimated


@functools.cache
def corrections() -> dict[str, Correction]:
    """Rule -> its correction."""
    return msgspec.convert(tomllib.loads(_FILE.read_text()), dict[str, Correction])


def correction(rule: str) -> Correction:
    """Of a rule; one that nothing is known of keeps its estimates."""
    return corrections().get(rule, Correction(0, 1.0, *_UNKNOWN))
