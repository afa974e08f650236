"""Loops that stop after fewer rounds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from wendascope.errors import TrialError
from wendascope.glsl.rewriting._parts import OUR_PREFIX, closing, line_of, read, spliced
from wendascope.glsl.words import Token


@dataclass(frozen=True)
class Loop:
    """A loop of a source; places are characters of it."""

    first: int
    end: int
    line: int
    last_line: int
    condition: tuple[int, int]


def fewer_iterations(source: str, most: Mapping[int, int]) -> str:
    """`most` is, for lines of loops, how many rounds they may run. Raises TrialError where a line has no loop."""
    loops = loops_of(source, [t for _, t in read(source).code()])
    pieces = []
    for number, (line, rounds) in enumerate(sorted(most.items())):
        round_it = [loop for loop in loops if loop.line <= line <= loop.last_line]
        found = next((loop for loop in loops if loop.line == line), None) or max(
            round_it, key=lambda loop: loop.first, default=None
        )
        if found is None:
            raise TrialError(f"line {line} of the shader has no for or while loop")
        counter = f"{OUR_PREFIX}rounds_{number}"
        condition = source[slice(*found.condition)].strip()
        test = f"{counter}++ < {rounds}"
        broken = "\n" * source.count("\n", *found.condition)
        pieces += [
            (found.first, found.first, f"{{ int {counter} = 0; "),
            (
                *found.condition,
                (f"({condition}) && {test}" if condition else test) + (broken if "\n" not in condition else ""),
            ),
            (found.end, found.end, " }"),
        ]
    return spliced(source, pieces)


def loops_of(source: str, code: list[Token]) -> list[Loop]:
    """All `for` and `while` loops, in the order of the source. Raises TrialError where it is not understood."""
    found = []
    for at, token in enumerate(code[:-1]):
        if token.text not in ("for", "while") or code[at + 1].text != "(":
            continue
        close = closing(code, at + 1)
        if close + 1 == len(code) or (token.text == "while" and code[close + 1].text == ";"):
            continue  # the end of do ... while
        last = statement_end(code, close + 1)
        end = code[last].at + 1
        condition = (code[at + 1].at + 1, code[close].at)
        if token.text == "for":
            marks = semicolons(code, at + 2, close)
            if len(marks) != 2:
                continue
            condition = (code[marks[0]].at + 1, code[marks[1]].at)
        found.append(Loop(token.at, end, line_of(source, token.at), line_of(source, end), condition))
    return found


def semicolons(code: list[Token], first: int, end: int) -> list[int]:
    """Indices of those tokens between two that end a part of a loop's head."""
    depth, found = 0, []
    for at in range(first, end):
        depth += (code[at].text in "([{") - (code[at].text in ")]}")
        if code[at].text == ";" and depth == 0:
            found.append(at)
    return found


def statement_end(code: list[Token], at: int) -> int:
    """Index of the last token of the statement that begins at an index. Raises TrialError."""
    if at >= len(code):
        raise TrialError("the shader ends within a loop")
    match code[at].text:
        case "{":
            return closing(code, at)
        case "for" | "while" | "switch" | "if":
            if at + 1 < len(code) and code[at + 1].text != "(":
                raise TrialError("the shader has a statement that is not understood")
            last = statement_end(code, closing(code, at + 1) + 1)
            if code[at].text == "if" and last + 1 < len(code) and code[last + 1].text == "else":
                return statement_end(code, last + 2)
            return last
        case "do":
            return statement_end(code, statement_end(code, at + 1) + 1)
    depth = 0
    for k in range(at, len(code)):
        depth += (code[k].text in "([{") - (code[k].text in ")]}")
        if code[k].text == ";" and depth == 0:
            return k
    raise TrialError("the shader ends within a statement")
