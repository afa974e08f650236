"""What stands behind `#if`: whole numbers and operators; GLSL 4.60 specification, section 3.3."""

from __future__ import annotations

import operator
from collections.abc import Callable, Sequence

_LEVELS: tuple[dict[str, Callable[[int, int], int]], ...] = (
    {"||": lambda a, b: int(bool(a or b))},
    {"&&": lambda a, b: int(bool(a and b))},
    {"|": operator.or_},
    {"^": operator.xor},
    {"&": operator.and_},
    {"==": lambda a, b: int(a == b), "!=": lambda a, b: int(a != b)},
    {
        "<": lambda a, b: int(a < b),
        ">": lambda a, b: int(a > b),
        "<=": lambda a, b: int(a <= b),
        ">=": lambda a, b: int(a >= b),
    },
    {"<<": lambda a, b: a << (b & 31), ">>": lambda a, b: a >> (b & 31)},
    {"+": operator.add, "-": operator.sub},
    {
        "*": operator.mul,
        # a side that does not count may divide by zero; one that does was refused by the driver
        "/": lambda a, b: int(a / b) if b else 0,
        "%": lambda a, b: a - b * int(a / b) if b else 0,
    },
)
_UNARY: dict[str, Callable[[int], int]] = {
    "+": lambda a: a,
    "-": operator.neg,
    "~": operator.invert,
    "!": lambda a: int(not a),
}
_MOST_NESTED = 100


class ConditionError(Exception):
    """It is no condition; the message says why."""


def evaluate(pieces: Sequence[str]) -> int:
    """The value of an expression of tokens, macros expanded; a name that is no macro counts as 0. Raises
    ConditionError.
    """
    reader = _Reader(pieces)
    value = reader.binary(0, 0)
    if reader.at < len(pieces):
        raise ConditionError(f"{pieces[reader.at]} is left over")
    return value


class _Reader:
    def __init__(self, pieces: Sequence[str]) -> None:
        self._pieces = pieces
        self.at = 0

    def _next(self) -> str:
        return self._pieces[self.at] if self.at < len(self._pieces) else ""

    def binary(self, least: int, depth: int) -> int:
        """An expression whose operators bind at least so tightly (an index of `_LEVELS`)."""
        value = self._single(depth)
        while True:
            operator_ = self._next()
            level = next((k for k in range(least, len(_LEVELS)) if operator_ in _LEVELS[k]), None)
            if level is None:
                return value
            self.at += 1
            value = _word(_LEVELS[level][operator_](value, self.binary(level + 1, depth)))

    def _single(self, depth: int) -> int:
        signs: list[Callable[[int], int]] = []
        while self._next() in _UNARY:
            signs.append(_UNARY[self._next()])
            self.at += 1
        piece = self._next()
        self.at += 1
        if piece == "(":
            if depth > _MOST_NESTED:
                raise ConditionError(f"brackets are nested more than {_MOST_NESTED} deep")
            value = self.binary(0, depth + 1)
            if self._next() != ")":
                raise ConditionError("a bracket is not closed")
            self.at += 1
        else:
            value = _number(piece)
        for sign in reversed(signs):
            value = _word(sign(value))
        return value


def _word(value: int) -> int:
    """As a signed number of 32 bits."""
    return (value + (1 << 31)) % (1 << 32) - (1 << 31)


def _number(piece: str) -> int:
    if piece[:1].isalpha() or piece[:1] == "_":
        return 0
    text = piece.rstrip("uU")
    try:
        if text[:2].lower() == "0x":
            return _word(int(text, 16))
        return _word(int(text, 8 if len(text) > 1 and text[0] == "0" else 10))
    except ValueError:
        raise ConditionError(f"{piece or 'its end'} is no whole number") from None
