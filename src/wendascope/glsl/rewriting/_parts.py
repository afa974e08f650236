"""What the rewriting of sources shares: the outermost level read, functions found, pieces put in."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals, UnclearSourceError
from wendascope.glsl.words import Token

OUR_PREFIX = "wendascope_"
"""What names begin with that the rewriting brings in."""


def read(source: str) -> Globals:
    """Raises TrialError where the source is not understood."""
    try:
        return Globals(source)
    except UnclearSourceError as error:
        raise TrialError(f"the shader cannot be rewritten: {error}") from error


def spliced(source: str, pieces: Iterable[tuple[int, int, str]]) -> str:
    """The source with characters [first, end) replaced, for each piece; pieces do not overlap."""
    for first, end, text in sorted(pieces, reverse=True):
        source = source[:first] + text + source[end:]
    return source


def at_top(found: Globals, text: str) -> tuple[int, int, str]:
    """Right before the first declaration, so that lines stay what they are and precisions are set."""
    places = [d.first for d in found.declarations if not d.has("const")] + [b.first for b in found.blocks]
    if not places:
        raise TrialError("the shader declares nothing that new declarations could stand beside")
    first = min(places)
    return first, first, text.strip() + " "


def closing(code: list[Token], opening: int) -> int:
    """Index of the bracket that closes the one at an index. Raises TrialError."""
    depth = 0
    for at in range(opening, len(code)):
        if code[at].text in "([{":
            depth += 1
        elif code[at].text in ")]}":
            depth -= 1
            if depth == 0:
                return at
    raise TrialError("the shader's brackets do not match")


def line_of(source: str, character: int) -> int:
    return source.count("\n", 0, character) + 1


@dataclass(frozen=True)
class Function:
    """A function as it is defined; places are indices of the code's tokens."""

    name: str
    type: str
    first: int
    """Of its type."""
    parameters: tuple[int, int]
    """Between its brackets."""
    body: tuple[int, int]
    """Between its braces."""


def functions(code: list[Token]) -> list[Function]:
    """All that are defined in a source, in its order; prototypes are none."""
    found, at = [], 0
    while at + 3 < len(code):
        if code[at].kind == "word" and code[at + 1].kind == "word" and code[at + 2].text == "(":
            end = closing(code, at + 2)
            if end + 1 < len(code) and code[end + 1].text == "{":
                last = closing(code, end + 1)
                found.append(Function(code[at + 1].text, code[at].text, at, (at + 3, end), (end + 2, last)))
                at = last
        elif code[at].text == "{":  # of a block or a structure
            at = closing(code, at)
        at += 1
    return found
