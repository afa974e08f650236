"""Sources that do the same and tell little: no comments, no macros, own names for what only the shader itself knows."""

from __future__ import annotations

import itertools

from wendascope.glsl.globals import Globals
from wendascope.glsl.preprocessor import Dialect, compiled_text
from wendascope.glsl.rewriting._parts import functions, read
from wendascope.glsl.words import Token, replace_words, without_comments

_OUTSIDE = frozenset("uniform in out inout attribute varying buffer shared patch".split())
"""Qualifiers of what others know by its name: the program that draws, or the next stage."""
_QUALIFIERS = frozenset("const highp mediump lowp precise invariant in out inout".split())
_AFTER_A_NAME = ("=", ";", ",", ")", "[", ":")
_KEPT = frozenset(
    "main return else discard break continue case default if for while do switch struct precision layout flat smooth"
    " noperspective centroid sample subroutine".split()
)


def anonymous(source: str, dialect: Dialect) -> str:
    """The same shader with numbers for the names of its functions, local variables and constants; names of uniforms,
    attributes, varyings, blocks, structures and their members stay. Raises TrialError where it is not understood.
    """
    text = without_comments(compiled_text(source, dialect))
    found = read(text)
    code = [token for _, token in found.code()]
    own = _declared(code) | {f.name for f in functions(code)}
    own -= _known_outside(found, code)
    numbers = itertools.count()
    taken = found.words()
    words = {name: next(n for i in numbers if (n := f"n{i}") not in taken) for name in sorted(own)}
    return "\n".join(line.strip() for line in replace_words(text, words).split("\n"))


def _declared(code: list[Token]) -> set[str]:
    """Names after a type, which the statement goes on behind."""
    names = set()
    for before, token, after in zip(code, code[1:], code[2:], strict=False):
        both = before.kind == token.kind == "word"
        if both and after.text in _AFTER_A_NAME and not {before.text, token.text} & _KEPT:
            names.add(token.text)
    return names - _QUALIFIERS


def _known_outside(found: Globals, code: list[Token]) -> set[str]:
    """Names that are not the shader's own to choose."""
    names = {token.text for before, token in itertools.pairwise(code) if before.text == "."}
    for declaration in found.declarations:
        if _OUTSIDE & set(declaration.qualifiers):
            names |= {name.text for name in declaration.names}
    for first, end in found.other:  # blocks, structures and prototypes, whatever they are
        names |= {token.text for token in code if first <= token.at < end and token.kind == "word"}
    for block in found.blocks:
        names |= {block.name, block.instance, *(name for _, name, _ in block.members)}
    return names | {token.text for token in code if token.text.startswith("gl_")} | {"main"}
