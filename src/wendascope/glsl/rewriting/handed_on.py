"""Samplers that shaders hand on to functions of their own: those that sample them, and do nothing else with them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import Function, closing, functions
from wendascope.glsl.rewriting.samples import LookUp, is_sample, sampler_types
from wendascope.glsl.words import Token


@dataclass(frozen=True)
class Parameter:
    """A sampler that a function is given."""

    function: str
    name: str
    type: str
    index: int
    """Among all parameters."""
    end: int
    """The character of the source where it ends."""


@dataclass(frozen=True)
class Argument:
    """What is given for a parameter; places are characters of the source."""

    at: int
    end: int
    sampler: str
    inside: str
    """The function whose own parameter it is; empty where it is a sampler of the whole shader."""


@dataclass
class HandedOn:
    """All that can be followed."""

    parameters: list[Parameter] = field(default_factory=list)
    samples: list[tuple[Parameter, LookUp]] = field(default_factory=list)
    """Texture samples by parameters."""
    arguments: list[Argument] = field(default_factory=list)


def handed_on(found: Globals) -> HandedOn:
    """Of functions that are defined once, and sample their parameters, ask for their size, or hand them on to others of
    that kind.
    """
    code = [t for _, t in found.code()]
    taken = sampler_types(found).keys() | found.directive_words()
    wanted = {
        function.name: (function, parameters)
        for function in _defined_once(found, code)
        if (parameters := _parameters(code, function)) and not any(p.name in taken for p in parameters)
    }
    while True:  # one that cannot be followed takes those along that hand samplers to it
        result = HandedOn([p for _, parameters in wanted.values() for p in parameters])
        lost = [name for name, (function, own) in wanted.items() if not _follow(code, function, own, result)]
        if not lost:
            break
        for name in lost:
            del wanted[name]
    wholes = sampler_types(found)
    result.arguments += [_argument(given, "") for _, given in _given(code, result.parameters) if given.text in wholes]
    return result


def _defined_once(found: Globals, code: list[Token]) -> list[Function]:
    defined = functions(code)
    names = Counter(f.name for f in defined)
    said = found.directive_words()
    return [f for f in defined if names[f.name] == 1 and f.name not in said and not _has_prototype(code, f)]


def _has_prototype(code: list[Token], function: Function) -> bool:
    for k in range(1, len(code) - 1):
        if code[k].text == function.name and code[k + 1].text == "(" and code[k - 1].text == function.type:
            after = closing(code, k + 1) + 1
            if after < len(code) and code[after].text == ";":
                return True
    return False


def _parameters(code: list[Token], function: Function) -> list[Parameter]:
    """Its samplers; none where one is an array."""
    found = []
    for index, part in enumerate(_parts(code, *function.parameters)):
        kinds = [t.text for t in part if "sampler" in t.text]
        if not kinds:
            continue
        name = part[-1]
        if name.kind != "word" or name.text == kinds[0]:
            return []
        found.append(Parameter(function.name, name.text, kinds[0], index, name.at + len(name.text)))
    return found


def _parts(code: list[Token], first: int, end: int) -> Iterator[list[Token]]:
    """What stands between commas, outside of brackets."""
    depth = 0
    part: list[Token] = []
    for token in code[first:end]:
        depth += (token.text in "([{") - (token.text in ")]}")
        if token.text == "," and depth == 0:
            yield part
            part = []
        else:
            part.append(token)
    if part:
        yield part


def _follow(code: list[Token], function: Function, own: list[Parameter], result: HandedOn) -> bool:
    """Note all uses of a function's samplers; whether these are all."""
    first, end = function.body
    by_name = {p.name: p for p in own}
    known = set()
    for k in range(first, end - 2):
        token, sampler = code[k], code[k + 2]
        if code[k + 1].text != "(" or sampler.text not in by_name:
            continue
        if is_sample(token.text) and code[k + 3].text == ",":
            stop = code[closing(code, k + 1)].at + 1
            look_up = LookUp(token.at, stop, token.text, sampler.text, sampler.at)
            result.samples.append((by_name[sampler.text], look_up))
            known.add(sampler.at)
        elif token.text == "textureSize":
            known.add(sampler.at)
    for k, given in _given(code, result.parameters):
        if first <= k < end and given.text in by_name:
            result.arguments.append(_argument(given, function.name))
            known.add(given.at)
    return all(t.at in known for t in code[first:end] if t.text in by_name)


def _argument(given: Token, inside: str) -> Argument:
    return Argument(given.at, given.at + len(given.text), given.text, inside)


def _given(code: list[Token], parameters: list[Parameter]) -> Iterator[tuple[int, Token]]:
    """(index of a call, the one word that is given for a sampler), for all calls of their functions."""
    of: dict[str, list[Parameter]] = {}
    for parameter in parameters:
        of.setdefault(parameter.function, []).append(parameter)
    for k, token in enumerate(code[:-1]):
        if token.text not in of or code[k + 1].text != "(":
            continue
        last = closing(code, k + 1)
        if last + 1 < len(code) and code[last + 1].text == "{":
            continue  # where it is defined
        given = list(_parts(code, k + 2, last))
        for parameter in of[token.text]:
            if parameter.index < len(given) and len(given[parameter.index]) == 1:
                yield k, given[parameter.index][0]
