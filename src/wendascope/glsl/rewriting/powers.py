"""Powers with small constant exponents, as products and roots."""

from __future__ import annotations

import re
from collections.abc import Collection

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import OUR_PREFIX, at_top, closing, line_of, read, spliced
from wendascope.glsl.words import Token

_BODIES = {
    0.5: "sqrt(x)",
    1.0: "x",
    2.0: "x * x",
    3.0: "x * x * x",
    4.0: "(x * x) * (x * x)",
    5.0: "(x * x) * (x * x) * x",
    6.0: "(x * x) * (x * x) * (x * x)",
    8.0: "((x * x) * (x * x)) * ((x * x) * (x * x))",
    -0.5: "inversesqrt(x)",
    -1.0: "1.0 / x",
    -1.5: "inversesqrt(x) / x",
    -2.0: "1.0 / (x * x)",
}
EXPONENTS = frozenset(_BODIES)
"""Exponents that are written otherwise."""
_SAME = re.compile(r"vec[234]\(([^(),]*)\)$")
"""A vector of one number."""


def simple_powers(source: str, lines: Collection[int]) -> str:
    """The source with calls of pow() on some lines replaced, where their exponent is one of `EXPONENTS` as a number or
    a constant of one. Raises TrialError where none is.
    """
    found = read(source)
    code = [t for _, t in found.code()]
    constants = _constants(found)
    pieces: list[tuple[int, int, str]] = []
    used: dict[float, str] = {}
    for at, token in enumerate(code[:-1]):
        if token.text != "pow" or code[at + 1].text != "(" or line_of(source, token.at) not in lines:
            continue
        end = closing(code, at + 1)
        comma = _last_comma(code, at + 1, end)
        if comma is None:
            continue
        exponent = _exponent(source[code[comma].at + 1 : code[end].at], constants)
        if exponent is None:
            continue
        name = used.setdefault(exponent, f"{OUR_PREFIX}power_{len(used)}")
        broken = "\n" * source.count("\n", code[comma].at, code[end].at)
        pieces += [(token.at, token.at + 3, name), (code[comma].at, code[end].at, broken)]
    if not pieces:
        raise TrialError("no power there has an exponent that is written as a small number")
    helpers = " ".join(
        f"{type_} {name}({type_} x) {{ return {_BODIES[exponent]}; }}"
        for exponent, name in used.items()
        for type_ in ("float", "vec2", "vec3", "vec4")
    )
    return spliced(source, [*pieces, at_top(found, helpers)])


def _constants(found: Globals) -> dict[str, str]:
    return {n.text: n.initial for d in found.declarations if d.has("const") for n in d.names if n.initial}


def _last_comma(code: list[Token], opening: int, end: int) -> int | None:
    """Index of the comma between the two arguments; None where there are more or fewer."""
    depth, found = 0, []
    for at in range(opening + 1, end):
        depth += {"(": 1, "[": 1, ")": -1, "]": -1}.get(code[at].text, 0)
        if code[at].text == "," and depth == 0:
            found.append(at)
    return found[0] if len(found) == 1 else None


def _exponent(text: str, constants: dict[str, str]) -> float | None:
    plain = re.sub(r"\s|/\*.*?\*/|//[^\n]*", "", text)
    for _ in range(2):  # a vector of a constant, or a constant that is a vector
        alike = _SAME.match(plain)
        plain = alike[1] if alike else plain
        plain = re.sub(r"\s", "", constants.get(plain, plain))
    try:
        value = float(plain.rstrip("fF"))
    except ValueError:
        return None
    return value if value in EXPONENTS else None
