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
from wendascope.glsl.macros import Expander, Macro, MacroError, Token, macro_of

_TOKEN = re.compile(
    r"(?P<comment>//[^\n]*|/\*.*?(?:\*/|\Z))|(?P<word>[A-Za-z_]\w*)"
    r"|(?P<number>0[xX][0-9A-Fa-f]+[uU]?|\.?\d(?:[eE][+-]|[\w.])*)|(?P<line>\r\n|\n|\r)|(?P<space>[^\S\r\n]+)"
    r"|(?P<mark>##|<<=|>>=|&&|\|\||\^\^|<<|>>|\+\+|--|[-<>=!+*/%&|^]=|.)",
    re.DOTALL,
)
_CONTINUED = re.compile(r"\\(\r\n|\n|\r)")
_MOST_NESTED = 100
_LONGEST = 1 << 20
"""Characters: reading as many takes a few seconds."""
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


def preprocessed(source: str, dialect: Dialect) -> Code:
    """Raises PreprocessorError, also for what no program would compile: a source without end, macros without end."""
    found = _tried(source, dialect)
    if isinstance(found, PreprocessorError):
        raise found
    return found


@functools.lru_cache(4096)
def _tried(source: str, dialect: Dialect) -> Code | PreprocessorError:
    if len(source) > _LONGEST:
        return PreprocessorError(1, f"the source is longer than {_LONGEST >> 20} MiB")
    try:
        return _Preprocessor(source, dialect).run()
    except PreprocessorError as error:
        return error


def compiled_text(source: str, dialect: Dialect) -> str:
    """What of a source is compiled; the source itself where that cannot be told."""
    try:
        return preprocessed(source, dialect).text
    except PreprocessorError:
        return source


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
        self._tokens = [Token(m.lastgroup or "mark", m.group(), m.start()) for m in _TOKEN.finditer(joined)]
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
        self.version, self.profile = (100, "es") if dialect.es else (110, "")
        self._expander = Expander(self._placed)
        self._predefine()

    @property
    def _macros(self) -> dict[str, Macro]:
        return self._expander.macros

    def _predefine(self) -> None:
        one = Macro((Token("number", "1"),))
        self._macros.update(dict.fromkeys(self._dialect.extensions, one))
        self._macros["__VERSION__"] = Macro((Token("number", str(self.version)),))
        if self.profile == "es":
            self._macros["GL_ES"] = self._macros["GL_FRAGMENT_PRECISION_HIGH"] = one
        elif self.version >= _PROFILES_SINCE:
            which = "GL_compatibility_profile" if self.profile == "compatibility" else "GL_core_profile"
            self._macros[which] = one

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

    def _put_lines(self, token: Token) -> None:
        """A line break, and those of the continuations in the line that it ends."""
        first = self._breaks[bisect.bisect_left(self._breaks, token.at) - 1] if token.at > self._first_break else -1
        joined = bisect.bisect_right(self._gone, token.at) - bisect.bisect_right(self._gone, first)
        self._out.append(token.text + "\n" * joined)
        self._last = "\n"

    @property
    def _first_break(self) -> int:
        return self._breaks[0] if self._breaks else 0

    def _blank(self, tokens: Iterable[Token]) -> None:
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

    def _code(self, token: Token) -> None:
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
        pieces, self._at = self._expanded([token], token.at, self._tokens, self._at)
        for piece in pieces:
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

    def _directive(self, mark: Token) -> None:
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

    def _condition(self, name: str, rest: list[Token], line: int) -> None:
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

    def _holds(self, name: str, rest: list[Token], line: int) -> bool:
        if name != "if":
            if not rest or rest[0].kind != "word":
                raise PreprocessorError(line, f"#{name} names no macro")
            return self._defined(rest[0].text) == (name == "ifdef")
        told: list[Token] = []
        at = 0
        while at < len(rest):
            token = rest[at]
            if token.text == "defined":
                bracket = at + 1 < len(rest) and rest[at + 1].text == "("
                asked = at + 1 + bracket
                if asked >= len(rest) or rest[asked].kind != "word":
                    raise PreprocessorError(line, "defined names no macro")
                told.append(Token("number", str(int(self._defined(rest[asked].text)))))
                at = asked + 1 + bracket
            else:
                told.append(token)
                at += 1
        pieces = [
            t.text for t in self._expanded(told, rest[0].at if rest else 0)[0] if t.kind not in ("space", "comment")
        ]
        try:
            return evaluate(pieces) != 0
        except ConditionError as error:
            raise PreprocessorError(line, f"#if: {error}") from error

    def _defined(self, name: str) -> bool:
        return name in self._macros or name in ("__LINE__", "__FILE__")

    def _statement(self, name: str, rest: list[Token], whole: list[Token], line: int) -> None:
        match name:
            case "define":
                self._define(whole[whole.index(next(t for t in whole if t.text == "define")) + 1 :], line)
            case "undef":
                if rest:
                    self._macros.pop(rest[0].text, None)
            case "version":
                self._set_version(rest, line)
            case "line":
                self._renumber([t.text for t in self._expanded(rest, whole[0].at)[0] if t.kind == "number"], line)
            case "error":
                raise PreprocessorError(line, "#error " + " ".join(t.text for t in rest))
            case "extension" | "pragma":
                pass
            case _:
                raise PreprocessorError(line, f"#{name} is no directive")

    def _set_version(self, rest: list[Token], line: int) -> None:
        if not rest or not rest[0].text.isdigit() or len(rest[0].text) > 4:
            raise PreprocessorError(line, "#version names no version")
        self.version = int(rest[0].text)
        self.profile = rest[1].text if len(rest) > 1 else "es" if self.version == 100 else ""
        self._macros.pop("GL_ES", None)
        self._predefine()

    def _renumber(self, numbers: list[str], line: int) -> None:
        if not numbers or not all(n.isdigit() and len(n) < 10 for n in numbers[:2]):
            raise PreprocessorError(line, "#line names no line")
        own = self._renamed[-1]
        string = int(numbers[1]) if len(numbers) > 1 else own[1]
        of_next = self.version >= _LINE_IS_OF_NEXT_SINCE or self.profile == "es"
        self._renamed.append((line + 1, string, int(numbers[0]) + (0 if of_next else 1)))

    def _define(self, tokens: list[Token], line: int) -> None:
        try:
            name, macro = macro_of(tokens)
        except MacroError as error:
            raise PreprocessorError(line, str(error)) from error
        self._macros[name] = macro

    def _expanded(
        self, tokens: Sequence[Token], at: int, source: Sequence[Token] = (), following: int = 0
    ) -> tuple[list[Token], int]:
        try:
            return self._expander.expanded(tokens, at, source, following)
        except MacroError as error:
            raise PreprocessorError(self._line(at), str(error)) from error

    def _placed(self, token: Token, at: int) -> Token:
        if token.text == "__LINE__":
            line, _, number = self._renamed[-1]
            return Token("number", str(number + self._line(at) - line))
        return Token("number", str(self._renamed[-1][1])) if token.text == "__FILE__" else token


_WORDS = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.")
_MARKS = frozenset("+-&|<>=!*/%^#")


def _run_together(last: str, following: str) -> bool:
    """Whether two pieces beside each other would be read as one."""
    return (last in _WORDS and following in _WORDS) or (last in _MARKS and following in _MARKS)
