"""Expressions that uniforms alone decide, moved from the fragments to the vertices."""

from __future__ import annotations

import re
from collections.abc import Container, Iterator

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import OUR_PREFIX, at_top, line_of, read, spliced
from wendascope.glsl.rewriting.expressions import Expression, Expressions
from wendascope.glsl.words import replace_words, tokens, words_of

_MOVABLE = re.compile(r"(float|int|uint|[iu]?vec[234]|mat[234](x[234])?)$")
_FLAT_FROM = 130
_MOST = 16
"""Values that are handed on at most."""


def moved_to_vertices(fragment: str, vertex: str, lines: Container[int]) -> tuple[str, str]:
    """(fragment shader, vertex shader), with what is worked out on some lines of the former handed on by the latter.

    Raises TrialError where nothing can be moved.
    """
    inner, outer = read(fragment), read(vertex)
    if any(OUR_PREFIX + "moved" in word for word in inner.words() | outer.words()):
        raise TrialError("expressions were moved out of it already")
    found = Expressions(inner)
    candidates = [
        e for e in _largest(found.found) if line_of(fragment, e.first) in lines or _calls_into(found, inner, e, lines)
    ]
    gone = [
        _span(inner, f.body) for f in found.functions.values() if any(_calls(fragment, e, f.name) for e in candidates)
    ]
    chosen = [e for e in candidates if not any(first <= e.first < end for first, end in gone)][:_MOST]
    if not chosen or outer.main is None:
        raise TrialError("what uniforms decide there is not written as expressions that can be moved whole")
    names: dict[tuple[str, str], str] = {}
    for number, item in enumerate(chosen):
        names.setdefault((fragment[item.first : item.end], item.type), f"{OUR_PREFIX}moved_{number}")
    handed = _handing(inner)
    declared = " ".join(f"{handed[1]} {type_} {name};" for (_, type_), name in names.items())
    pieces = [
        (e.first, e.end, names[fragment[e.first : e.end], e.type] + "\n" * fragment.count("\n", e.first, e.end))
        for e in chosen
    ]
    new_fragment = spliced(fragment, [*pieces, at_top(inner, declared)])
    prelude, definitions, renamed = _brought(inner, outer, found, chosen, fragment)
    declared = " ".join(f"{handed[0]} {type_} {name};" for (_, type_), name in names.items())
    fills = "".join(f" {name} = {_one_line(replace_words(text, renamed))};" for (text, _), name in names.items())
    new_vertex = spliced(vertex, [at_top(outer, f"{prelude} {declared}"), (outer.main, outer.main, fills)])
    return new_fragment, new_vertex.rstrip() + "\n" + definitions


def _largest(found: list[Expression]) -> Iterator[Expression]:
    """Expressions that can be moved and are part of none that can."""
    for item in found:
        if item.steady and item.uniforms and item.work and _MOVABLE.match(item.type):
            yield item
        else:
            yield from _largest(item.parts)


def _calls(source: str, item: Expression, function: str) -> bool:
    return any(t.text == function for t in tokens(source[item.first : item.end]))


def _span(found: Globals, places: tuple[int, int]) -> tuple[int, int]:
    """Characters between two tokens of the code."""
    code = [t for _, t in found.code()]
    return code[places[0]].at, code[places[1]].at


def _calls_into(found: Expressions, inner: Globals, item: Expression, lines: Container[int]) -> bool:
    """Whether an expression calls a function that has one of the lines."""
    for function in found.functions.values():
        if _calls(inner.source, item, function.name):
            first, end = _span(inner, function.body)
            if any(line in lines for line in range(line_of(inner.source, first), line_of(inner.source, end) + 1)):
                return True
    return False


def _handing(found: Globals) -> tuple[str, str]:
    """(how the vertex shader declares what it hands on, how the fragment shader does)."""
    version, profile = found.version
    if version >= _FLAT_FROM and not (profile == "es" and version < 300):
        return "flat out", "flat in"
    return "varying", "varying"


def _brought(
    inner: Globals, outer: Globals, found: Expressions, chosen: list[Expression], source: str
) -> tuple[str, str, dict[str, str]]:
    """(declarations for the top of the vertex shader, functions for its end, names that they get there)."""
    code = [t for _, t in inner.code()]
    needed, uniforms = [], set[str]()
    words = set[str]()
    for item in chosen:
        uniforms |= item.uniforms
        for token in tokens(source[item.first : item.end]):
            words.add(token.text)
            if token.text in found.functions:
                more, theirs = found.needs(token.text)
                needed += [f for f in more if f not in needed]
                uniforms |= theirs
    bodies = {f.name: source[code[f.first].at : code[f.body[1]].at + 1] for f in needed}
    for text in bodies.values():
        words |= words_of(text)
    constants = found.constants_in(words)
    renamed = {name: f"{OUR_PREFIX}{name}" for name in (*bodies, *constants)}
    declared = " ".join(_uniform_texts(inner, outer, found, uniforms))
    for declaration in inner.declarations:
        for name in declaration.names:
            if declaration.has("const") and name.text in constants:
                declared += (
                    f" const {declaration.precision}{declaration.type} {renamed[name.text]}{name.array} ="
                    f" {_one_line(replace_words(name.initial, renamed))};"
                )
    prototypes = " ".join(
        _one_line(replace_words(text[: text.index("{")], renamed)).strip() + ";" for text in bodies.values()
    )
    defined = {m[1] for _, text in outer.directives() if (m := re.match(r"#\s*define\s+(\w+)", text))}
    macros = [
        text.rstrip()
        for _, text in inner.directives()
        if (m := re.match(r"#\s*define\s+(\w+)", text)) and m[1] in words and m[1] not in defined
    ]
    definitions = "\n".join([*macros, *(replace_words(text, renamed) for text in bodies.values())])
    return f"{declared} {prototypes}", definitions + "\n", renamed


def _uniform_texts(inner: Globals, outer: Globals, found: Expressions, uniforms: set[str]) -> Iterator[str]:
    """Declarations of uniforms that the vertex shader does not have."""
    known = {n.text for d in outer.declarations if d.has("uniform") for n in d.names}
    blocks = {b.name for b in outer.blocks}
    other = {n.text for d in outer.declarations if not d.has("uniform") for n in d.names}
    brought: set[str] = set()
    for name in sorted(uniforms):
        if name in other:
            raise TrialError(f"{name} is another thing in the vertex shader")
        block = found.blocks.get(name)
        if block is not None:
            if block.name not in blocks | brought:
                brought.add(block.name)
                yield _one_line(inner.source[block.first : block.end])
        elif name not in known:
            for declaration in inner.declarations:
                for declared in declaration.names:
                    if declaration.has("uniform") and declared.text == name:
                        yield f"uniform {declaration.precision}{declaration.type} {name}{declared.array};"


def _one_line(text: str) -> str:
    return re.sub(r"\s+", " ", "".join(" " if t.kind == "comment" else t.text for t in tokens(text)))
