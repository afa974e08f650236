"""Medians with intervals, from few and noisy repeats."""

from __future__ import annotations

import functools
import math

import msgspec
import numpy as np
import numpy.typing as npt


class Interval(msgspec.Struct, frozen=True):
    """A median and the interval that holds the true one with at least 95 %, in the unit of the samples."""

    median: float
    low: float
    high: float


@functools.cache
def rank_bounds(n: int, confidence: float = 0.95) -> tuple[int, int]:
    """Ranks (from 0) of the order statistics that bound the median of n samples.

    The usual distribution-free interval: counts below the median are binomial (n, 1/2). With fewer than
    six samples no pair of ranks reaches 95 %; then the whole range is given.
    """
    # the most ranks that may be left out below: the chance that at most k of n samples lie below the median
    low, fewer = 0, 1  # ways in which at most `low` of n samples do, of 2^n
    while fewer / 2**n <= (1 - confidence) / 2:
        low += 1
        fewer += math.comb(n, low)
    low = max(low - 1, 0)
    return low, n - 1 - low


def median_interval(samples: npt.NDArray[np.float64], confidence: float = 0.95) -> Interval:
    """Median and interval of a vector of samples. Raises ValueError when there are none."""
    columns = median_intervals(samples.reshape(-1, 1), confidence)
    return Interval(*(float(c[0]) for c in columns))


def median_intervals(
    samples: npt.NDArray[np.float64], confidence: float = 0.95
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """The same for every column of samples of shape (repeats, n): three arrays of shape (n,)."""
    if samples.shape[0] == 0:
        raise ValueError("no samples")
    ordered = np.sort(samples, axis=0)
    low, high = rank_bounds(samples.shape[0], confidence)
    return np.median(ordered, axis=0), ordered[low], ordered[high]


@functools.cache
def _signed_rank(n: int, confidence: float) -> int:
    """How many of the smallest means of two of n samples lie outside of the interval at either end."""
    ways = np.ones(1)
    for rank in range(1, n + 1):  # in how many ways some of the ranks 1 .. n add up to each sum
        with_rank = np.zeros(len(ways) + rank)
        with_rank[: len(ways)] += ways
        with_rank[rank:] += ways
        ways = with_rank
    below = np.cumsum(ways) / 2.0**n
    return int(np.searchsorted(below, (1 - confidence) / 2, side="right"))


def signed_rank_interval(samples: npt.NDArray[np.float64], confidence: float = 0.95) -> Interval:
    """The median of samples that scatter evenly round it, with the interval of Wilcoxon's signed ranks.

    The estimate is the median of the means of every two samples (Hodges and Lehmann 1963), and the interval is of the
    order statistics of those means (Hollander and Wolfe, "Nonparametric statistical methods", section 3.3). It is as
    robust as ranks and needs a third fewer samples than the median alone. Where samples are too few for the
    confidence, the whole range is given. Raises ValueError when there are none.
    """
    if len(samples) == 0:
        raise ValueError("no samples")
    i, j = np.triu_indices(len(samples))
    means = np.sort(samples[i] / 2 + samples[j] / 2)
    outside = max(_signed_rank(len(samples), confidence) - 1, 0)
    return Interval(float(np.median(means)), float(means[outside]), float(means[len(means) - 1 - outside]))


def difference_of_medians(before: npt.NDArray[np.float64], after: npt.NDArray[np.float64]) -> Interval:
    """Median of `after` less that of `before` with a 95 % interval, for samples that are no pairs.

    The percentile bootstrap, with a fixed seed so that the same samples always give the same answer.
    """
    if len(before) == 0 or len(after) == 0:
        raise ValueError("no samples")
    random = np.random.default_rng(0)
    draws = [np.median(random.choice(values, (1000, len(values))), axis=1) for values in (before, after)]
    low, high = np.percentile(draws[1] - draws[0], (2.5, 97.5))
    return Interval(float(np.median(after) - np.median(before)), float(low), float(high))
