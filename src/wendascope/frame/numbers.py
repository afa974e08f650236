"""Values as numbers of 64 bits, so that they can be compared a column at a time.

Two different values get the same number with a chance of about 2^-64.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Numbers = npt.NDArray[np.uint64]
Mask = npt.NDArray[np.bool_]


def mixed(words: Numbers) -> Numbers:
    """The finaliser of SplitMix64 (Steele, Lea and Flood, 2014): every bit of a word depends on all others."""
    with np.errstate(over="ignore"):
        words = (words ^ (words >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        words = (words ^ (words >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return np.asarray(words ^ (words >> np.uint64(31)))


def combined(*columns: Numbers | int) -> Numbers:
    """One number for each row of some columns; the order of the columns matters."""
    total = np.uint64(0)
    with np.errstate(over="ignore"):
        for number, column in enumerate(columns):
            salt = np.uint64(((number + 1) * 0x9E3779B97F4A7C15) & (1 << 64) - 1)
            total = mixed(np.asarray(column, np.uint64) + salt) + mixed(np.asarray(total, np.uint64))  # type: ignore[assignment]
    return np.asarray(total, np.uint64)


def numbered(numbers: Numbers) -> tuple[Ints, Ints]:
    """(the first row of each different number, which of them each row has), in the order of the numbers."""
    order = np.argsort(numbers, kind="stable")
    fresh = np.ones(len(order), bool)
    fresh[1:] = numbers[order][1:] != numbers[order][:-1]
    which = np.empty(len(order), np.int64)
    which[order] = np.cumsum(fresh) - 1
    return order[fresh], which
