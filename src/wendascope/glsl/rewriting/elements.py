"""Arrays that a shader goes through element by element, such as its lights; and the shader without one of them."""

from __future__ import annotations

import dataclasses
import itertools
import re
from collections.abc import Iterator
from dataclasses import dataclass

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import OUR_PREFIX, at_top, closing, functions, line_of, read, spliced
from wendascope.glsl.rewriting.iterations import semicolons, statement_end
from wendascope.glsl.words import Token

_WRITTEN_AFTER = re.compile(r"\s*(?:\+\+|--|[-+*/%&|^]?=(?!=)|<<=|>>=)")
_WRITTEN_BEFORE = re.compile(r"(?:\+\+|--)\s*\Z")
_COUNTED_INDICES = ((100, ""), (110, ""))
_WHOLE = ("int", "uint", "bool")
_NUMBER = re.compile(r"\[\s*(\d+)\s*\]")


@dataclass(frozen=True)
class Visited:
    """A uniform array, of which a loop or a function looks at one element at a time."""

    array: str
    size: int
    """As declared; 0 where that is not a plain number."""
    line: int
    """Of the loop or function."""
    by_round: bool
    """Whether round 0 looks at element 0, and so on."""


@dataclass(frozen=True)
class _Visit:
    """One place where a shader looks at the elements of an array."""

    visited: Visited
    index: str
    """What says which element it is."""
    body: int
    """Character right after its opening brace, or where its only statement begins."""
    end: int
    """Of that statement; -1 where there are braces."""
    in_function: bool
    counter: str = ""
    """Of a loop whose rounds can be one fewer, with what follows."""
    type: str = "int"
    limit: tuple[int, int] = (0, 0)
    """Characters of what the counter is compared with."""
    uses: tuple[int, ...] = ()
    """Characters where the body names the counter."""


def visited_arrays(source: str) -> list[Visited]:
    """Raises TrialError where the source is not understood."""
    return [visit.visited for visit in _visits(source)]


def without_element(source: str, array: str, element: int, uniform: str, count: int | None = None) -> str:
    """The shader as if an array lacked one element: a plain loop runs a round less (of `count`, where that is known)
    and its later rounds look one element further; other loops and functions go on with the next element. Loops are
    told the number of the element as a constant; functions, which long sources have and which take long to compile,
    as a new uniform. Raises TrialError where nothing goes through the array.
    """
    pieces: list[tuple[int, int, str]] = []
    asked = False
    for visit in _visits(source):
        if visit.visited.array != array:
            continue
        if visit.counter:
            own = f"{OUR_PREFIX}at_{visit.body}"
            limit = source[slice(*visit.limit)]
            # drivers unroll loops over uniforms whose values they know: so does this one stay
            fewer = f"({limit}) - {visit.type}({element} < int({limit}))"
            if count is not None:
                fewer = f"{visit.type}({count - (element < count)})"
            pieces.append((*visit.limit, fewer))
            pieces += [(at, at + len(visit.counter), own) for at in visit.uses]
            start = f"{visit.type} {own} = {visit.counter} + {visit.type}(int({visit.counter}) >= {element}); "
        elif visit.in_function:
            asked, start = True, f"if (int({visit.index}) == {uniform}) return; "
        else:
            start = f"if (int({visit.index}) == {element}) continue; "
        if visit.end < 0:
            pieces.append((visit.body, visit.body, " " + start))
        else:
            pieces += [(visit.body, visit.body, "{ " + start), (visit.end, visit.end, " }")]
    if not pieces:
        raise TrialError(f"the shader does not go through {array} element by element")
    if asked:
        pieces.append(at_top(read(source), f"uniform int {uniform};"))
    return spliced(source, dict.fromkeys(pieces))


def _visits(source: str) -> list[_Visit]:
    found = read(source)
    code = [token for _, token in found.code()]
    arrays = _arrays(found)
    if not arrays:
        return []
    uniforms = set(arrays) | {n.text for d in found.declarations if d.has("uniform") for n in d.names}
    uniforms |= {name for b in found.blocks for _, name, _ in b.members} | {b.instance for b in found.blocks}
    return [*_in_loops(source, code, arrays, uniforms), *_in_functions(source, code, arrays)]


def _arrays(found: Globals) -> dict[str, int]:
    """Uniform array -> its size; 0 where it is no plain number. Arrays of whole numbers say which, not what."""
    declared = [d for d in found.declarations if d.has("uniform") and d.type not in _WHOLE]
    named = [(n.text, n.array) for d in declared for n in d.names if n.array]
    named += [(name, array) for b in found.blocks for type_, name, array in b.members if array and type_ not in _WHOLE]
    sizes = {}
    for name, array in named:
        number = _NUMBER.fullmatch(array.strip())
        sizes[name] = int(number[1]) if number else 0
    return sizes


def _in_loops(source: str, code: list[Token], arrays: dict[str, int], uniforms: set[str]) -> Iterator[_Visit]:
    for at, token in enumerate(code[:-1]):
        if token.text != "for" or code[at + 1].text != "(":
            continue
        close = closing(code, at + 1)
        assigned = next((k for k in range(at + 2, close) if code[k].text == "="), None)
        if assigned is None or code[assigned - 1].kind != "word" or close + 1 >= len(code):
            continue
        counter = code[assigned - 1].text
        from_zero = code[assigned + 1].text in ("0", "0u")
        last = statement_end(code, close + 1)
        braced = code[close + 1].text == "{"
        for name, index in dict.fromkeys(_indexed(source, code, close + 1, last, arrays)):
            words = set(re.findall(r"[A-Za-z_]\w*", index))
            if counter not in words or not words <= uniforms | {counter, "int", "uint"}:
                continue
            by_round = from_zero and index == counter
            visited = Visited(name, arrays[name], line_of(source, token.at), by_round)
            visit = _Visit(visited, index, code[close + 1].at + braced, -1 if braced else code[last].at + 1, False)
            yield _shorter(source, code, (at, close, last), visit, counter) if by_round else visit


def _shorter(source: str, code: list[Token], places: tuple[int, int, int], visit: _Visit, counter: str) -> _Visit:
    """The same with what it takes to run one round less: where the loop counts by one up to some limit, and its body
    leaves the counter alone. GLSL ES 1.00 wants indices that it can count itself.
    """
    at, close, last = places
    marks = semicolons(code, at + 2, close)
    if len(marks) != 2 or read(source).version in _COUNTED_INDICES:
        return visit
    step = source[code[marks[1]].at + 1 : code[close].at].replace(" ", "")
    condition = code[marks[0] + 1 : marks[1]]
    body = [k for k in range(close + 1, last + 1) if code[k].text == counter and code[k - 1].text != "."]
    changed = any(_changed(source, code[k]) or code[k - 1].text in ("int", "uint") for k in body)
    counts = step in (f"{counter}++", f"++{counter}", f"{counter}+=1") and code[at + 2].text in ("int", "uint")
    compared = [token.text for token in condition[:2]]
    if not counts or changed or compared != [counter, "<"] or len(condition) < 3:
        return visit
    limit = (condition[2].at, code[marks[1]].at)
    if {token.text for token in condition[2:]} & {"&&", "||", "?", ",", "&", "|"}:
        return visit
    uses = tuple(code[k].at for k in body)
    return dataclasses.replace(visit, counter=counter, type=code[at + 2].text, limit=limit, uses=uses)


def _changed(source: str, token: Token) -> bool:
    """Whether a variable is written where it is named."""
    end = token.at + len(token.text)
    return bool(_WRITTEN_AFTER.match(source, end) or _WRITTEN_BEFORE.search(source[: token.at]))


def _in_functions(source: str, code: list[Token], arrays: dict[str, int]) -> Iterator[_Visit]:
    """Functions without a result that get the number of an element."""
    for function in functions(code):
        if function.type != "void" or function.name == "main":
            continue
        parameters = code[slice(*function.parameters)]
        numbers = {b.text for a, b in itertools.pairwise(parameters) if a.text in ("int", "uint")}
        first, end = function.body
        for name, index in dict.fromkeys(_indexed(source, code, first, end, arrays)):
            if index in numbers:
                visited = Visited(name, arrays[name], line_of(source, code[function.first].at), False)
                yield _Visit(visited, index, code[first - 1].at + 1, -1, True)


def _indexed(source: str, code: list[Token], first: int, end: int, arrays: dict[str, int]) -> Iterator[tuple[str, str]]:
    """(array, what stands between its brackets) wherever one is indexed."""
    for at in range(first, end):
        if code[at].text in arrays and code[at + 1].text == "[":
            close = closing(code, at + 1)
            yield code[at].text, source[code[at + 1].at + 1 : code[close].at].strip()
