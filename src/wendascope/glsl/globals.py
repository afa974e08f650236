"""What a GLSL source declares at its outermost level, so that single declarations can be replaced.

Preprocessor lines are kept apart; declarations in all branches of conditions are found, taken or not.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterator
from dataclasses import dataclass

from wendascope.glsl.words import Token, tokens

_QUALIFIERS = frozenset(
    "uniform in out inout attribute varying const flat smooth noperspective centroid sample patch invariant precise"
    " highp mediump lowp coherent volatile restrict readonly writeonly buffer shared layout".split()
)
_VERSION = re.compile(r"#\s*version\s+(\d+)\s*(\w*)")
_MEMBER = re.compile(
    r"(?:(?:highp|mediump|lowp)\s+)?(?P<type>[A-Za-z_]\w*)\s+(?P<name>[A-Za-z_]\w*)\s*(?P<array>\[\s*\d+\s*\])?"
)
_CONDITION = re.compile(r"#\s*(if|ifdef|ifndef|endif)\b")


@dataclass(frozen=True)
class Name:
    """One declared name: `array` is its brackets with what is in them, `initial` what follows `=`."""

    text: str
    array: str = ""
    initial: str = ""


@dataclass(frozen=True)
class Declaration:
    """A statement at the outermost level; `first` and `end` are characters of the source."""

    first: int
    end: int
    qualifiers: tuple[str, ...]
    """With `layout(...)` as one of them."""
    type: str
    names: tuple[Name, ...]

    def has(self, qualifier: str) -> bool:
        return qualifier in self.qualifiers

    @property
    def precision(self) -> str:
        """With a space after it; empty for none."""
        return next((q + " " for q in self.qualifiers if q in ("lowp", "mediump", "highp")), "")

    def without(self, names: Container[str]) -> list[str]:
        """The same declaration of the other names, as one statement; none where there are no others."""
        kept = [n.text + n.array + (f" = {n.initial}" if n.initial else "") for n in self.names if n.text not in names]
        return [f"{' '.join(self.qualifiers)} {self.type} {', '.join(kept)};"] if kept else []


@dataclass(frozen=True)
class Block:
    """A uniform block; `members` are (type, name, array) as written, `instance` the name it is used by, if any."""

    first: int
    end: int
    name: str
    layout: str
    """What stands in its `layout(...)`."""
    members: tuple[tuple[str, str, str], ...]
    instance: str


class UnclearSourceError(Exception):
    """The source is not understood well enough to be changed; the message says why."""


class Globals:
    """The outermost level of one source. Raises UnclearSourceError when its braces do not match."""

    def __init__(self, source: str) -> None:
        self.source = source
        self._tokens = list(tokens(source))
        self._directive = _in_directives(self._tokens)
        self.declarations: list[Declaration] = []
        self.blocks: list[Block] = []
        self.other: list[tuple[int, int]] = []
        """(first, end) of other statements at the outermost level: blocks, prototypes, `precision`."""
        self.main: int | None = None
        """Character after the opening brace of main; None where there is no main."""
        self._scan()

    @property
    def version(self) -> tuple[int, str]:
        """(number, profile) of `#version`; (110, "") without one."""
        for text in self.directives():
            found = _VERSION.match(text[1])
            if found:
                return int(found[1]), found[2]
        return 110, ""

    def directives(self) -> Iterator[tuple[int, str]]:
        """(character, text) of every preprocessor line."""
        at, text = -1, ""
        for token, inside in zip(self._tokens, self._directive, strict=True):
            if inside and (at < 0 or (token.text == "#" and "\n" in text[len(text.rstrip()) :])):
                if at >= 0:
                    yield at, text
                at, text = token.at, token.text
            elif inside:
                text += token.text
            elif at >= 0:
                yield at, text
                at, text = -1, ""
        if at >= 0:
            yield at, text

    @property
    def head(self) -> int:
        """Character before which `#version` and all `#extension` lines and the conditions round them end."""
        depth, end, waiting = 0, 0, False
        for at, text in self.directives():
            found = _CONDITION.match(text)
            if found:
                depth += -1 if found[1] == "endif" else 1
                if waiting and depth == 0:
                    end, waiting = at + len(text), False
            elif re.match(r"#\s*(version|extension)\b", text):
                if depth:
                    waiting = True
                else:
                    end = at + len(text)
        return end

    def words(self) -> set[str]:
        """Every word outside of comments, in preprocessor lines too."""
        return {t.text for t in self._tokens if t.kind == "word"}

    def code(self) -> list[tuple[int, Token]]:
        """(index, token) of everything that is neither space, comment nor in a preprocessor line."""
        return [
            (i, t) for i, t in enumerate(self._tokens) if t.kind not in ("space", "comment") and not self._directive[i]
        ]

    def directive_words(self) -> set[str]:
        return {t.text for t, inside in zip(self._tokens, self._directive, strict=True) if inside and t.kind == "word"}

    def _scan(self) -> None:
        depth, statement = 0, []
        body = False
        for _, token in self.code():
            if depth == 0:
                statement.append(token)
            if token.text in "({[":
                if token.text == "{" and depth == 0:
                    body = len(statement) > 1 and statement[-2].text == ")"
                    texts = [t.text for t in statement]
                    if body and texts[:3] == ["void", "main", "("]:
                        self.main = token.at + 1
                depth += 1
            elif token.text in ")}]":
                depth -= 1
                if depth < 0:
                    raise UnclearSourceError("its brackets do not match")
                if depth == 0:
                    statement.append(token)
                    if token.text == "}" and body:
                        statement, body = [], False
            elif token.text == ";" and depth == 0:
                self._statement(statement)
                statement = []
        if depth:
            raise UnclearSourceError("its brackets do not match")

    def _statement(self, found: list[Token]) -> None:
        first, end = found[0].at, found[-1].at + 1
        texts = [t.text for t in found[:-1]]
        if "{" in texts and "uniform" in texts[: texts.index("{")]:
            self._block(found, texts)
        if "{" in texts or not texts or texts[0] == "precision":
            self.other.append((first, end))
            return
        at, qualifiers = 0, []
        while at < len(texts) and texts[at] in _QUALIFIERS:
            if texts[at] == "layout":
                close = found[at + 2].at if at + 2 < len(found) and texts[at + 2] == ")" else found[at + 1].at
                qualifiers.append(self.source[found[at].at : close + 1])
                at += 3
            else:
                qualifiers.append(texts[at])
                at += 1
        type_ = texts[at] if at < len(texts) else ""
        at += 1
        shape = ""
        if at < len(texts) and texts[at] == "[":  # float[3] name
            shape = self.source[found[at].at : found[at + 1].at + 1]
            at += 2
        names = []
        while at < len(texts):
            name, array, initial = texts[at], shape, ""
            at += 1
            if at < len(texts) and texts[at] == "(":
                self.other.append((first, end))  # a prototype
                return
            if at < len(texts) and texts[at] == "[":
                array = self.source[found[at].at : found[at + 1].at + 1]
                at += 2
            if at < len(texts) and texts[at] == "=":
                start = found[at + 1].at
                while at < len(texts) and texts[at] != ",":
                    at += 1
                initial = self.source[start : found[at].at].strip()
            names.append(Name(name, array, initial))
            at += 1
        if type_ and names:
            self.declarations.append(Declaration(first, end, tuple(qualifiers), type_, tuple(names)))
        else:
            self.other.append((first, end))

    def _block(self, found: list[Token], texts: list[str]) -> None:
        """A uniform block that is plain enough to be taken apart."""
        opening = texts.index("{")
        inside = self._between(found[opening].at + 1, found[opening + 1].at)
        members: list[tuple[str, str, str]] = []
        for part in inside.split(";"):
            words = _MEMBER.fullmatch(part.strip())
            if words is None and part.strip():
                return
            if words is not None:
                members.append((words["type"], words["name"], words["array"] or ""))
        layout = ""
        if "layout" in texts[:opening]:
            at = texts.index("layout")
            layout = self.source[found[at + 1].at + 1 : found[at + 2].at]
        after = texts[opening + 2 :]
        if len(after) > 1:
            return  # an array of blocks
        self.blocks.append(
            Block(
                found[0].at,
                found[-1].at + 1,
                texts[opening - 1],
                layout.strip(),
                tuple(members),
                after[0] if after else "",
            )
        )

    def _between(self, first: int, end: int) -> str:
        """The code between two characters, without comments and preprocessor lines."""
        texts = [
            t.text if t.kind != "comment" else " "
            for t, d in zip(self._tokens, self._directive, strict=True)
            if first <= t.at < end and not d
        ]
        return "".join(texts)


def _in_directives(found: list[Token]) -> list[bool]:
    """Which tokens belong to a preprocessor line, its line break included."""
    result, inside, fresh = [], False, True
    previous = ""
    for token in found:
        if not inside and token.text == "#" and fresh:
            inside = True
        result.append(inside)
        if inside and token.kind == "space" and "\n" in token.text and previous != "\\":
            inside = False
        if "\n" in token.text:
            fresh = True
        elif token.kind not in ("space", "comment"):
            fresh = False
        previous = token.text
    return result
