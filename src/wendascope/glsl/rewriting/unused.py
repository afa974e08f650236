"""Outputs that nothing takes, as plain variables."""

from __future__ import annotations

from collections.abc import Collection

from wendascope.errors import TrialError
from wendascope.glsl.globals import Declaration
from wendascope.glsl.rewriting._parts import read, spliced

_KEPT = ("lowp", "mediump", "highp", "precise")


def without_outputs(source: str, names: Collection[str]) -> str:
    """The source with outputs (or varyings) of these names declared as variables of its own. Raises TrialError where
    one is not declared by itself.
    """
    pieces = []
    found: set[str] = set()
    for declaration in read(source).declarations:
        mine = [n for n in declaration.names if n.text in names]
        if not mine or not (declaration.has("out") or declaration.has("varying")):
            continue
        found |= {n.text for n in mine}
        broken = "\n" * source.count("\n", declaration.first, declaration.end)
        texts = [*_plain(declaration, names), *declaration.without(names)]
        pieces.append((declaration.first, declaration.end, " ".join(texts) + broken))
    missing = sorted(set(names) - found)
    if missing:
        raise TrialError(f"{missing[0]} is no output that stands by itself: it is built in, or part of a block")
    return spliced(source, pieces)


def _plain(declaration: Declaration, names: Collection[str]) -> list[str]:
    qualifiers = "".join(f"{q} " for q in declaration.qualifiers if q in _KEPT)
    return [f"{qualifiers}{declaration.type} {n.text}{n.array};" for n in declaration.names if n.text in names]
