"""GLSL as tokens: enough to tell what a shader does and to replace words of it, comments left alone."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

_TOKEN = re.compile(
    r"(?P<comment>//(?:\\\r?\n|[^\n])*|/\*.*?(?:\*/|\Z))|(?P<word>[A-Za-z_]\w*)|(?P<number>\.?\d(?:[eE][+-]|[\w.])*)|(?P<space>\s+)|(?P<mark>.)",
    re.DOTALL,
)


@dataclass(frozen=True)
class Token:
    kind: str
    """`comment`, `word`, `number`, `space` or `mark`."""
    text: str
    at: int


def tokens(source: str) -> Iterator[Token]:
    """Every piece of the source; joined, their texts are the source again."""
    for found in _TOKEN.finditer(source):
        assert found.lastgroup is not None
        yield Token(found.lastgroup, found.group(), found.start())


_COMMENT = re.compile(r"//(?:\\\r?\n|[^\n])*|/\*.*?(?:\*/|\Z)", re.DOTALL)
_NUMBER_OR_WORD = re.compile(r"\.?\d(?:[eE][+-]|[\w.])*|([A-Za-z_]\w*)")


@functools.lru_cache(maxsize=512)
def words_of(source: str) -> frozenset[str]:
    """All words of a source, comments left alone: much sooner than by its tokens."""
    return frozenset(_NUMBER_OR_WORD.findall(without_comments(source))) - {""}


def without_comments(source: str) -> str:
    """The source with a space in the place of each comment."""
    return _COMMENT.sub(" ", source)


def replace_words(source: str, words: Mapping[str, str]) -> str:
    """Replace whole words outside comments."""
    return "".join(words.get(t.text, t.text) if t.kind == "word" else t.text for t in tokens(source))


@dataclass(frozen=True)
class FragmentHabits:
    """What a fragment shader does that keeps the depth test from being done before it."""

    discards: bool
    writes_depth: bool
    side_effects: bool
    forced_early: bool
    """It asks for early tests itself."""

    @property
    def prevents_early_test(self) -> bool:
        return (self.discards or self.writes_depth or self.side_effects) and not self.forced_early

    @property
    def reasons(self) -> list[str]:
        found = (
            ("discard", self.discards),
            ("a depth of its own", self.writes_depth),
            ("writes to images or buffers", self.side_effects),
        )
        return [what for what, holds in found if holds]


_SIDE_EFFECTS = re.compile(r"imageStore|imageAtomic|atomic[A-Z]|atomicCounter")


def fragment_habits(source: str) -> FragmentHabits:
    """Read them from the words of a source. Words that macros hide still count: they may be used."""
    words = words_of(source)
    return FragmentHabits(
        "discard" in words,
        bool(words & {"gl_FragDepth", "gl_FragDepthEXT"}),
        any(_SIDE_EFFECTS.match(word) for word in words) or "buffer" in words,
        "early_fragment_tests" in words,
    )


def output_primitive(source: str) -> str | None:
    """`points`, `line_strip` or `triangle_strip` of a geometry shader; what a tessellation shader makes of patches."""
    words = words_of(source)
    if "point_mode" in words:
        return "points"
    if "isolines" in words:
        return "line_strip"
    if words & {"quads", "equal_spacing", "fractional_even_spacing", "fractional_odd_spacing"}:
        return "triangle_strip"
    plain = [t.text for t in tokens(source) if t.kind not in ("comment", "space")]
    for at, text in enumerate(plain):
        if text != "layout" or "out" not in plain[at : at + 60]:
            continue
        close = plain.index(")", at) if ")" in plain[at:] else at
        if plain[close + 1 : close + 2] != ["out"]:
            continue
        inside = set(plain[at:close])
        found = inside & {"points", "line_strip", "triangle_strip"}
        if found:
            return found.pop()
    return "triangle_strip" if "triangles" in words else None
