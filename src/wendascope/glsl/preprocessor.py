"""The GLSL preprocessor, line by line: what of a source is compiled, with every line where it was.

Rules of the GLSL 4.60 specification, section 3.3, and of GLSL ES 3.20, section 3.4; macros are expanded by hide sets
(Prosser's algorithm, as in C99 6.10.3). What comes out has no conditions and no macros left, only `#version`,
`#extension` and `#pragma`; the line of everything in it is the line it has in the source. A source without
directives comes out as it is.
"""

from __future__ import annotations

import bisect
import functools
import re
import sys
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from wendascope.glsl.conditions import ConditionError, evaluate

_TOKEN = re.compile(
    r"(?P<comment>//[^\n]*|/\*.*?(?:\*/|\Z))|(?P<word>[A-Za-z_]\w*)"
    r"|(?P<number>0[xX][0-9A-Fa-f]+[uU]?|\.?\d(?:[eE][+-]|[\w.])*)|(?P<line>\r\n|\n|\r)|(?P<space>[^\S\r\n]+)"
    r"|(?P<mark>##|<<=|>>=|&&|\|\||\^\^|<<|>>|\+\+|--|[-<>=!+*/%&|^]=|.)",
    re.DOTALL,
)
_CONTINUED = re.compile(r"\\(\r\n|\n|\r)")
_MOST_TOKENS = 200_000
_MOST_NESTED = 100
_KEPT = ("version", "extension", "pragma")
_CONDITIONS = ("if", "ifdef", "ifndef", "elif", "else", "endif")
_PROFILES_SINCE = 150
_LINE_IS_OF_NEXT_SINCE = 330
"""Before, `#line 5` numbered the line after the next one 6 less one: the next is 6."""


class PreprocessorError(Exception):
    """The source is refused; `line` is that of the source."""

    def __init__(self, line: int, text: str) -> None:
        self.line, self.text = line, text
        super().__init__(f"line {line}: {text}")


@dataclass(frozen=True)
class Dialect:
    """What the context that compiles a source brings along."""

    es: bool = False
    extensions: frozenset[str] = frozenset()
    """Their names, which are defined as macros."""


@dataclass(frozen=True)
class Code:
    """What of a source is compiled."""

    text: str
    """As many lines as the source; what is not compiled is blank."""
    compiled: tuple[bool, ...]
    """Whether anything of each line is compiled."""
    named: tuple[tuple[int, int], ...]
    """(string number, line) as the driver names each line."""
    version: int
    profile: str
    """`core`, `compatibility`, `es` or empty."""

    def driver_line(self, line: int) -> str:
        """A line (from 1) as messages of the driver name it: `string:line`."""
        string, number = self.named[min(max(line, 1), len(self.named)) - 1]
        return f"{string}:{number}"

    @property
    def renumbered(self) -> bool:
        """Whether the driver names any line otherwise than by its place."""
        return any(name != (0, place) for place, name in enumerate(self.named, 1))


@functools.lru_cache(4096)
def preprocessed(source: str, dialect: Dialect) -> Code:
    """Raises PreprocessorError."""
    return _Preprocessor(source, dialect).run()


def compiled_text(source: str, dialect: Dialect) -> str:
    """What of a source is compiled; the source itself where that cannot be told."""
    try:
        return preprocessed(source, dialect).text
    except PreprocessorError:
        return source


# ---- pieces ---------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Token:
    kind: str
    text: str
    at: int = 0
    hidden: frozenset[str] = frozenset()
    """Macros that it came of, which are not expanded in it again."""


@dataclass(frozen=True, slots=True)
class _Macro:
    body: tuple[_Token, ...]
    parameters: tuple[str, ...] | None = None
    """None for one that takes no brackets."""


@dataclass
class _Condition:
    """One `#if` with its branches."""

    outer: bool
    """Whether what surrounds it is compiled."""
    taken: bool
    """Whether a branch was."""
    line: int
    closed: bool = False
    """Whether `#else` came."""


_NOTHING: frozenset[str] = frozenset()


class _Preprocessor:
    def __init__(self, source: str, dialect: Dialect) -> None:
        self._splices = [m.start() for m in _CONTINUED.finditer(source)]
        widths = [m.end() - m.start() for m in _CONTINUED.finditer(source)]
        self._gone: list[int] = []  # the same places where the continuations are gone
        before = 0
        for at, width in zip(self._splices, widths, strict=True):
            self._gone.append(at - before)
            before += width
        joined = _CONTINUED.sub("", source) if self._splices else source
        self._tokens = [_Token(m.lastgroup or "mark", m.group(), m.start()) for m in _TOKEN.finditer(joined)]
        self._breaks = [m.start() for m in re.finditer(r"\r\n|\n|\r", joined)]
        self._lines = len(self._breaks) + len(self._splices) + 1
        self._at = 0
        self._dialect = dialect
        self._conditions: list[_Condition] = []
        self._taken = True
        self._out: list[str] = []
        self._last = ""
        """The last piece put out, to keep tokens apart."""
        self._last_made = False
        self._compiled = [False] * self._lines
        self._marked = 0
        """Where the line that was marked last ends."""
        self._renamed: list[tuple[int, int, int]] = [(1, 0, 1)]
        """(from this line on, string number, number of that line)."""
        self._made = 0
        self._depth = 0
        self.version, self.profile = (100, "es") if dialect.es else (110, "")
        self._macros: dict[str, _Macro] = {}
        self._predefine()

    def _predefine(self) -> None:
        self._macros = {name: _Macro((_Token("number", "1"),)) for name in self._dialect.extensions}
        self._macros["__VERSION__"] = _Macro((_Token("number", str(self.version)),))
        if self.profile == "es":
            self._macros["GL_ES"] = self._macros["GL_FRAGMENT_PRECISION_HIGH"] = _Macro((_Token("number", "1"),))
        elif self.version >= _PROFILES_SINCE:
            which = "GL_compatibility_profile" if self.profile == "compatibility" else "GL_core_profile"
            self._macros[which] = _Macro((_Token("number", "1"),))

    def run(self) -> Code:
        fresh = True
        while self._at < len(self._tokens):
            token = self._tokens[self._at]
            self._at += 1
            if token.kind == "line":
                self._put_lines(token)
                fresh = True
            elif token.text == "#" and token.kind == "mark" and fresh:
                self._directive(token)
            else:
                fresh = fresh and token.kind in ("space", "comment")
                self._code(token)
        if self._conditions:
            raise PreprocessorError(self._conditions[-1].line, "the condition that begins here has no #endif")
        return Code("".join(self._out), tuple(self._compiled), self._names(), self.version, self.profile)

    # ---- lines ------------------------------------------------------------------------------------------

    def _line(self, at: int) -> int:
        """The line of the source that a character (without continuations) is on."""
        return 1 + bisect.bisect_left(self._breaks, at) + bisect.bisect_right(self._gone, at)

    def _mark(self, at: int) -> None:
        """The line of a character is compiled."""
        if at < self._marked and not self._gone:
            return  # as it was said of another on the same line
        self._compiled[self._line(at) - 1] = True
        following = bisect.bisect_left(self._breaks, at)
        self._marked = self._breaks[following] if following < len(self._breaks) else sys.maxsize

    def _put_lines(self, token: _Token) -> None:
        """A line break, and those of the continuations in the line that it ends."""
        first = self._breaks[bisect.bisect_left(self._breaks, token.at) - 1] if token.at > self._first_break else -1
        joined = bisect.bisect_right(self._gone, token.at) - bisect.bisect_right(self._gone, first)
        self._out.append(token.text + "\n" * joined)
        self._last = "\n"

    @property
    def _first_break(self) -> int:
        return self._breaks[0] if self._breaks else 0

    def _blank(self, tokens: Iterable[_Token]) -> None:
        """The line breaks of what is left out."""
        breaks = "".join("\n" * len(re.findall(r"\r\n|\n|\r", t.text)) for t in tokens if t.kind in ("comment", "line"))
        if breaks:
            self._out.append(breaks)
            self._last = "\n"

    def _names(self) -> tuple[tuple[int, int], ...]:
        found: list[tuple[int, int]] = []
        for (line, string, number), later in zip(
            self._renamed, [*(r[0] for r in self._renamed[1:]), self._lines + 1], strict=True
        ):
            found += [(string, number + k) for k in range(later - line)]
        return tuple(found[: self._lines])

    # ---- code -------------------------------------------------------------------------------------------

    def _code(self, token: _Token) -> None:
        if not self._taken:
            self._blank([token])
            return
        if token.kind in ("space", "comment"):
            self._put(token.text)
            return
        self._mark(token.at)
        if token.kind != "word" or (token.text not in self._macros and token.text not in ("__LINE__", "__FILE__")):
            self._put(token.text)
            return
        first = self._at
        for piece in self._expanded([token], token.at, at_top=True):
            self._put(piece.text, made=True)
        for taken in self._tokens[first : self._at]:  # the arguments of a macro
            self._compiled[self._line(taken.at) - 1] = True
        self._blank(self._tokens[first : self._at])

    def _put(self, text: str, made: bool = False) -> None:
        """Put a piece out; what macros made is kept apart from what is beside it."""
        if text and self._last and (made or self._last_made) and _run_together(self._last[-1], text[0]):
            self._out.append(" ")
        self._out.append(text)
        self._last, self._last_made = text or self._last, made

    # ---- directives -------------------------------------------------------------------------------------

    def _directive(self, mark: _Token) -> None:
        first = self._at - 1
        while self._at < len(self._tokens) and self._tokens[self._at].kind != "line":
            self._at += 1
        whole = self._tokens[first : self._at]
        words = [t for t in whole[1:] if t.kind not in ("space", "comment")]
        line = self._line(mark.at)
        name = words[0].text if words else ""
        before = self._taken
        if name in _CONDITIONS:
            outer = self._conditions[-1].outer if self._conditions else True
            self._condition(name, words[1:], line)
            before = before if name.startswith("if") else outer
        elif before and name:
            self._statement(name, words[1:], whole, line)
        if before and name:
            self._compiled[line - 1] = True
        if self._taken and name in _KEPT:
            self._put("".join(t.text for t in whole))
        else:
            self._blank(whole)

    def _condition(self, name: str, rest: list[_Token], line: int) -> None:
        if name in ("if", "ifdef", "ifndef"):
            if len(self._conditions) >= _MOST_NESTED:
                raise PreprocessorError(line, f"conditions are nested more than {_MOST_NESTED} deep")
            holds = self._taken and self._holds(name, rest, line)
            self._conditions.append(_Condition(self._taken, holds, line))
            self._taken = holds
            return
        if not self._conditions:
            raise PreprocessorError(line, f"#{name} without #if")
        inner = self._conditions[-1]
        if name == "endif":
            self._taken = inner.outer
            self._conditions.pop()
            return
        if inner.closed:
            raise PreprocessorError(line, f"#{name} after #else")
        inner.closed = name == "else"
        self._taken = inner.outer and not inner.taken and (name == "else" or self._holds("if", rest, line))
        inner.taken = inner.taken or self._taken

    def _holds(self, name: str, rest: list[_Token], line: int) -> bool:
        if name != "if":
            if not rest or rest[0].kind != "word":
                raise PreprocessorError(line, f"#{name} names no macro")
            return self._defined(rest[0].text) == (name == "ifdef")
        told: list[_Token] = []
        at = 0
        while at < len(rest):
            token = rest[at]
            if token.text == "defined":
                bracket = at + 1 < len(rest) and rest[at + 1].text == "("
                asked = at + 1 + bracket
                if asked >= len(rest) or rest[asked].kind != "word":
                    raise PreprocessorError(line, "defined names no macro")
                told.append(_Token("number", str(int(self._defined(rest[asked].text)))))
                at = asked + 1 + bracket
            else:
                told.append(token)
                at += 1
        pieces = [t.text for t in self._expanded(told, rest[0].at if rest else 0) if t.kind not in ("space", "comment")]
        try:
            return evaluate(pieces) != 0
        except ConditionError as error:
            raise PreprocessorError(line, f"#if: {error}") from error

    def _defined(self, name: str) -> bool:
        return name in self._macros or name in ("__LINE__", "__FILE__")

    def _statement(self, name: str, rest: list[_Token], whole: list[_Token], line: int) -> None:
        match name:
            case "define":
                self._define(rest, whole, line)
            case "undef":
                if rest:
                    self._macros.pop(rest[0].text, None)
            case "version":
                self._set_version(rest, line)
            case "line":
                self._renumber([t.text for t in self._expanded(rest, whole[0].at) if t.kind == "number"], line)
            case "error":
                raise PreprocessorError(line, "#error " + " ".join(t.text for t in rest))
            case "extension" | "pragma":
                pass
            case _:
                raise PreprocessorError(line, f"#{name} is no directive")

    def _set_version(self, rest: list[_Token], line: int) -> None:
        if not rest or not rest[0].text.isdigit() or len(rest[0].text) > 4:
            raise PreprocessorError(line, "#version names no version")
        self.version = int(rest[0].text)
        self.profile = rest[1].text if len(rest) > 1 else "es" if self.version == 100 else ""
        own = {name: macro for name, macro in self._macros.items() if name not in ("GL_ES", "__VERSION__")}
        self._predefine()
        self._macros = {**own, **self._macros}

    def _renumber(self, numbers: list[str], line: int) -> None:
        if not numbers or not all(n.isdigit() and len(n) < 10 for n in numbers[:2]):
            raise PreprocessorError(line, "#line names no line")
        own = self._renamed[-1]
        string = int(numbers[1]) if len(numbers) > 1 else own[1]
        of_next = self.version >= _LINE_IS_OF_NEXT_SINCE or self.profile == "es"
        self._renamed.append((line + 1, string, int(numbers[0]) + (0 if of_next else 1)))

    def _define(self, rest: list[_Token], whole: list[_Token], line: int) -> None:
        if not rest or rest[0].kind != "word":
            raise PreprocessorError(line, "#define names no macro")
        name = rest[0]
        tokens = whole[whole.index(name) + 1 :]
        parameters = None
        if tokens and tokens[0].text == "(":
            end = next((k for k, t in enumerate(tokens) if t.text == ")"), None)
            if end is None:
                raise PreprocessorError(line, f"the parameters of {name.text} have no end")
            given = [t for t in tokens[1:end] if t.kind not in ("space", "comment")]
            parameters = tuple(t.text for t in given if t.kind == "word")
            if [t.text for t in given] != [x for k, p in enumerate(parameters) for x in ((",", p) if k else (p,))]:
                raise PreprocessorError(line, f"the parameters of {name.text} are no names")
            tokens = tokens[end + 1 :]
        body = [t if t.kind not in ("comment", "space") else _Token("space", " ") for t in tokens]
        while body and body[0].kind == "space":
            body.pop(0)
        while body and body[-1].kind == "space":
            body.pop()
        self._macros[name.text] = _Macro(tuple(body), parameters)

    # ---- macros -----------------------------------------------------------------------------------------

    def _expanded(self, tokens: Sequence[_Token], at: int, at_top: bool = False) -> list[_Token]:
        """With all macros expanded. `at_top`: a call may take its arguments from the source that follows."""
        self._depth += 1
        if self._depth > _MOST_NESTED:
            raise PreprocessorError(self._line(at), f"macros are nested more than {_MOST_NESTED} deep")
        waiting = list(reversed(tokens))
        found: list[_Token] = []
        while waiting:
            token = waiting.pop()
            self._made += 1
            if self._made > _MOST_TOKENS:
                raise PreprocessorError(self._line(at), f"macros expand to more than {_MOST_TOKENS:,} tokens")
            macro = self._macros.get(token.text) if token.kind == "word" and token.text not in token.hidden else None
            if macro is None:
                found.append(self._placed(token, at))
            elif macro.parameters is None:
                hidden = token.hidden | {token.text}
                waiting += [_Token(t.kind, t.text, at, t.hidden | hidden) for t in reversed(_pasted(macro.body))]
            else:
                arguments = self._arguments(waiting, at, at_top)
                if arguments is None:
                    found.append(token)
                    continue
                given, last = arguments
                hidden = (token.hidden & last) | {token.text}
                body = self._substituted(token.text, macro, given, at)
                waiting += [_Token(t.kind, t.text, at, t.hidden | hidden) for t in reversed(body)]
        self._depth -= 1
        return found

    def _placed(self, token: _Token, at: int) -> _Token:
        if token.text == "__LINE__":
            line, _, number = self._renamed[-1]
            return _Token("number", str(number + self._line(at) - line))
        return _Token("number", str(self._renamed[-1][1])) if token.text == "__FILE__" else token

    def _arguments(
        self, waiting: list[_Token], at: int, at_top: bool
    ) -> tuple[list[list[_Token]], frozenset[str]] | None:
        """The arguments of a call, with what the closing bracket hides; None where no bracket follows."""
        taken = self._at

        def following() -> _Token | None:
            nonlocal taken
            if waiting:
                return waiting.pop()
            if at_top and taken < len(self._tokens):
                taken += 1
                return self._tokens[taken - 1]
            return None

        skipped: list[_Token] = []
        token = following()
        while token is not None and token.kind in ("space", "comment", "line"):
            if taken == self._at:
                skipped.append(token)
            token = following()
        if token is None or token.text != "(":
            if token is not None and taken == self._at:
                waiting.append(token)
            waiting += reversed(skipped)
            return None
        given: list[list[_Token]] = [[]]
        depth = 0
        while True:
            token = following()
            if token is None:
                raise PreprocessorError(self._line(at), "the call of a macro has no end")
            if token.text == ")" and depth == 0:
                self._at = taken
                return given, token.hidden
            depth += {"(": 1, ")": -1}.get(token.text, 0)
            if token.text == "," and depth == 0:
                given.append([])
            elif token.kind in ("space", "comment", "line"):
                given[-1].append(_Token("space", " "))
            else:
                given[-1].append(token)

    def _substituted(self, name: str, macro: _Macro, given: list[list[_Token]], at: int) -> list[_Token]:
        assert macro.parameters is not None
        plain = [_trimmed(argument) for argument in given]
        if not macro.parameters and plain == [[]]:
            plain = []
        if len(plain) != len(macro.parameters):
            raise PreprocessorError(
                self._line(at), f"{name} takes {len(macro.parameters)} arguments and is given {len(plain)}"
            )
        by_name = dict(zip(macro.parameters, plain, strict=True))
        expanded: dict[str, list[_Token]] = {}
        body: list[_Token] = []
        for k, token in enumerate(macro.body):
            argument = by_name.get(token.text) if token.kind == "word" else None
            if argument is None:
                body.append(token)
            elif _beside_paste(macro.body, k):
                body += argument or [_Token("space", "")]
            else:
                if token.text not in expanded:
                    expanded[token.text] = self._expanded(argument, at)
                body += expanded[token.text]
        return _pasted(body)


def _trimmed(tokens: list[_Token]) -> list[_Token]:
    first, end = 0, len(tokens)
    while first < end and tokens[first].kind == "space":
        first += 1
    while end > first and tokens[end - 1].kind == "space":
        end -= 1
    return tokens[first:end]


def _beside_paste(body: Sequence[_Token], at: int) -> bool:
    before = next((t for t in reversed(body[:at]) if t.kind != "space"), None)
    after = next((t for t in body[at + 1 :] if t.kind != "space"), None)
    return any(t is not None and t.text == "##" for t in (before, after))


def _pasted(body: Sequence[_Token]) -> list[_Token]:
    """With `##` carried out."""
    if not any(t.text == "##" for t in body):
        return list(body)
    found: list[_Token] = []
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
        left = found.pop() if found else _Token("space", "")
        right = body[at] if at < len(body) else _Token("space", "")
        at += 1
        text = left.text + right.text
        kind = "word" if re.fullmatch(r"[A-Za-z_]\w*", text) else "number" if text[:1].isdigit() else left.kind
        found.append(_Token(kind if text else "space", text, left.at, left.hidden & right.hidden))
    return found


_WORDS = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.")
_MARKS = frozenset("+-&|<>=!*/%^#")


def _run_together(last: str, following: str) -> bool:
    """Whether two pieces beside each other would be read as one."""
    return (last in _WORDS and following in _WORDS) or (last in _MARKS and following in _MARKS)
