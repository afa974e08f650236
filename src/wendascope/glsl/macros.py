"""Macros of the GLSL preprocessor: their definitions, and what calls of them expand to."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

_MOST_TOKENS = 200_000
_MOST_NESTED = 100
_MOST_HIDDEN = 20_000_000
"""Names that all tokens together keep of the macros that they came of."""


@dataclass(frozen=True, slots=True)
class Token:
    """A piece of a source; `at` is its first character."""

    kind: str
    text: str
    at: int = 0
    hidden: frozenset[str] = frozenset()
    """Macros that it came of, which are not expanded in it again."""


@dataclass(frozen=True, slots=True)
class Macro:
    body: tuple[Token, ...]
    parameters: tuple[str, ...] | None = None
    """None for one that takes no brackets."""


class MacroError(Exception):
    """A definition or a call is refused; the message says why."""


def macro_of(tokens: Sequence[Token]) -> tuple[str, Macro]:
    """The name and the macro that the tokens behind `#define` define. Raises MacroError."""
    plain = [t for t in tokens if t.kind not in ("space", "comment")]
    if not plain or plain[0].kind != "word":
        raise MacroError("#define names no macro")
    name = plain[0]
    rest = list(tokens[list(tokens).index(name) + 1 :])
    parameters = None
    if rest and rest[0].text == "(":
        end = next((k for k, t in enumerate(rest) if t.text == ")"), None)
        if end is None:
            raise MacroError(f"the parameters of {name.text} have no end")
        given = [t for t in rest[1:end] if t.kind not in ("space", "comment")]
        parameters = tuple(t.text for t in given if t.kind == "word")
        if [t.text for t in given] != [x for k, p in enumerate(parameters) for x in ((",", p) if k else (p,))]:
            raise MacroError(f"the parameters of {name.text} are no names")
        rest = rest[end + 1 :]
    body = _trimmed([t if t.kind not in ("comment", "space") else Token("space", " ") for t in rest])
    return name.text, Macro(tuple(body), parameters)


class Expander:
    """Expands macros by name. `placed` gives `__LINE__` and `__FILE__` their values."""

    def __init__(self, placed: Callable[[Token, int], Token]) -> None:
        self.macros: dict[str, Macro] = {}
        self._placed = placed
        self._made = self._kept = 0
        self._depth = 0

    def expanded(
        self, tokens: Sequence[Token], at: int, source: Sequence[Token] = (), following: int = 0
    ) -> tuple[list[Token], int]:
        """(the tokens with all macros expanded, where `source` goes on): a call may take its arguments from the source,
        from the token `following` on. Raises MacroError.
        """
        self._depth += 1
        if self._depth > _MOST_NESTED:
            raise MacroError(f"macros are nested more than {_MOST_NESTED} deep")
        waiting = list(reversed(tokens))
        found: list[Token] = []
        while waiting:
            token = waiting.pop()
            self._made += 1
            if self._made > _MOST_TOKENS:
                raise MacroError(f"macros expand to more than {_MOST_TOKENS:,} tokens")
            macro = self.macros.get(token.text) if token.kind == "word" and token.text not in token.hidden else None
            if macro is None:
                found.append(self._placed(token, at))
                continue
            self._kept += (len(token.hidden) + 1) * (len(macro.body) + 1)
            if self._kept > _MOST_HIDDEN:
                raise MacroError("macros of macros of macros without end")
            hidden = token.hidden | {token.text}
            body = _pasted(macro.body)
            if macro.parameters is not None:
                call = _Call(waiting, source, following)
                if not call.opens():
                    found.append(token)
                    continue
                given, last = call.arguments()
                following = call.at
                hidden = (token.hidden & last) | {token.text}
                body = self._substituted(token.text, macro, given, at)
            waiting += [Token(t.kind, t.text, at, t.hidden | hidden) for t in reversed(body)]
        self._depth -= 1
        return found, following

    def _substituted(self, name: str, macro: Macro, given: list[list[Token]], at: int) -> list[Token]:
        assert macro.parameters is not None
        plain = [_trimmed(argument) for argument in given]
        if not macro.parameters and plain == [[]]:
            plain = []
        if len(plain) != len(macro.parameters):
            raise MacroError(f"{name} takes {len(macro.parameters)} arguments and is given {len(plain)}")
        by_name = dict(zip(macro.parameters, plain, strict=True))
        expanded: dict[str, list[Token]] = {}
        body: list[Token] = []
        for k, token in enumerate(macro.body):
            argument = by_name.get(token.text) if token.kind == "word" else None
            if argument is None:
                body.append(token)
            elif _beside_paste(macro.body, k):
                body += argument or [Token("space", "")]
            else:
                if token.text not in expanded:
                    expanded[token.text] = self.expanded(argument, at)[0]
                body += expanded[token.text]
        return _pasted(body)


_BLANK = ("space", "comment", "line")


class _Call:
    """The brackets of a call, from the tokens that wait and then from the source."""

    def __init__(self, waiting: list[Token], source: Sequence[Token], at: int) -> None:
        self._waiting, self._source = waiting, source
        self.at = at
        """Where the source goes on."""

    def opens(self) -> bool:
        """Whether an opening bracket follows; then it is taken, with the blanks before it, else nothing is."""
        skipped: list[Token] = []
        while self._waiting and self._waiting[-1].kind in _BLANK:
            skipped.append(self._waiting.pop())
        if self._waiting:
            if self._waiting[-1].text == "(":
                self._waiting.pop()
                return True
        else:
            at = self.at
            while at < len(self._source) and self._source[at].kind in _BLANK:
                at += 1
            if at < len(self._source) and self._source[at].text == "(":
                self.at = at + 1
                return True
        self._waiting += reversed(skipped)
        return False

    def arguments(self) -> tuple[list[list[Token]], frozenset[str]]:
        """What stands up to the closing bracket, and what that hides. Raises MacroError."""
        given: list[list[Token]] = [[]]
        depth = 0
        while True:
            if self._waiting:
                token = self._waiting.pop()
            elif self.at < len(self._source):
                token = self._source[self.at]
                self.at += 1
            else:
                raise MacroError("the call of a macro has no end")
            if token.text == ")" and depth == 0:
                return given, token.hidden
            depth += {"(": 1, ")": -1}.get(token.text, 0)
            if token.text == "," and depth == 0:
                given.append([])
            else:
                given[-1].append(Token("space", " ") if token.kind in _BLANK else token)


def _trimmed(tokens: list[Token]) -> list[Token]:
    first, end = 0, len(tokens)
    while first < end and tokens[first].kind == "space":
        first += 1
    while end > first and tokens[end - 1].kind == "space":
        end -= 1
    return tokens[first:end]


def _beside_paste(body: Sequence[Token], at: int) -> bool:
    before = next((t for t in reversed(body[:at]) if t.kind != "space"), None)
    after = next((t for t in body[at + 1 :] if t.kind != "space"), None)
    return any(t is not None and t.text == "##" for t in (before, after))


def _pasted(body: Sequence[Token]) -> list[Token]:
    """With `##` carried out."""
    if not any(t.text == "##" for t in body):
        return list(body)
    found: list[Token] = []
    at = 0
    while at < len(body):
        token = body[at]
        at += 1
        if token.text != "##" or not found:
            found.append(token)
            continue
        while at < len(body) and body[at].kind == "space" and body[at].text:
            at += 1
        while found and found[-1].kind == "space" and found[-1].text:
            found.pop()
        left = found.pop() if found else Token("space", "")
        right = body[at] if at < len(body) else Token("space", "")
        at += 1
        text = left.text + right.text
        kind = "word" if re.fullmatch(r"[A-Za-z_]\w*", text) else "number" if text[:1].isdigit() else left.kind
        found.append(Token(kind if text else "space", text, left.at, left.hidden & right.hidden))
    return found
