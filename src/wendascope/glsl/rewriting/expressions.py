"""Expressions of GLSL found in the bodies of functions, with their types, and whether uniforms and constants alone
decide them.

No whole parser: what is not understood is left alone, and with it everything that contains it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import Function, functions
from wendascope.glsl.words import Token

_SCALARS = {"float": "vec", "int": "ivec", "uint": "uvec", "bool": "bvec"}
_TYPES = frozenset(
    [
        *_SCALARS,
        *(f"{p}vec{n}" for p in ("", "i", "u", "b") for n in "234"),
        *(f"mat{n}" for n in "234"),
        *(f"mat{a}x{b}" for a in "234" for b in "234"),
    ]
)
_LIKE_FIRST = frozenset(
    "radians degrees sin cos tan asin acos atan sinh cosh tanh asinh acosh atanh pow exp log exp2 log2 sqrt inversesqrt"
    " abs sign floor trunc round roundEven ceil fract mod min max clamp mix normalize faceforward reflect refract"
    " transpose inverse matrixCompMult".split()
)
_LIKE_LAST = frozenset(("step", "smoothstep"))
_FLOATS = frozenset(("length", "distance", "dot", "determinant"))
_LEVELS = (
    ("||",),
    ("^^",),
    ("&&",),
    ("|",),
    ("^",),
    ("&",),
    ("==", "!="),
    ("<", ">", "<=", ">="),
    ("<<", ">>"),
    ("+", "-"),
    ("*", "/", "%"),
)
_DOUBLED = frozenset(("||", "^^", "&&", "==", "!=", "<=", ">=", "<<", ">>", "++", "--", "+=", "-=", "*=", "/=", "%="))
_ASSIGNS = frozenset(("=", "+=", "-=", "*=", "/=", "%="))
_PARTS = re.compile(r"(?:[xyzw]{1,4}|[rgba]{1,4}|[stpq]{1,4})$")


@dataclass
class Expression:
    """Places are characters of the source."""

    first: int
    end: int
    type: str
    """Empty where it is not known."""
    steady: bool
    """Uniforms and constants alone decide it."""
    uniforms: set[str] = field(default_factory=set)
    work: bool = False
    """It computes something, and is not just a value."""
    parts: list[Expression] = field(default_factory=list)


@dataclass(frozen=True)
class Word:
    """A token, with operators of two characters as one."""

    kind: str
    text: str
    at: int

    @property
    def end(self) -> int:
        return self.at + len(self.text)


class _NotUnderstoodError(Exception):
    pass


def words_of(code: list[Token]) -> list[Word]:
    """The words of an expression, marks of several characters joined."""
    found: list[Word] = []
    for token in code:
        if (
            found
            and found[-1].kind == "mark"
            and token.kind == "mark"
            and found[-1].end == token.at
            and found[-1].text + token.text in _DOUBLED
        ):
            found[-1] = Word("mark", found[-1].text + token.text, found[-1].at)
        else:
            found.append(Word(token.kind, token.text, token.at))
    return found


class Expressions:
    """All expressions of a source that stand where a value is given: after `=`, in conditions, as arguments,
    returned.
    """

    def __init__(self, found: Globals) -> None:
        code = [t for _, t in found.code()]
        self.found: list[Expression] = []
        self.functions = {f.name: f for f in functions(code)}
        self._code = code
        self._macros = {m[1] for _, text in found.directives() if (m := re.match(r"#\s*define\s+(\w+)", text))}
        self._uniforms = {
            n.text: d.type + _dimensions(n.array)
            for d in found.declarations
            if d.has("uniform")
            for n in d.names
            if "sampler" not in d.type and "image" not in d.type
        }
        for block in found.blocks:
            if not block.instance:
                self._uniforms |= {name: type_ + _dimensions(array) for type_, name, array in block.members}
        self.blocks = {name: block for block in found.blocks if not block.instance for _, name, _ in block.members}
        self._constants = {
            n.text: d.type + _dimensions(n.array) for d in found.declarations if d.has("const") for n in d.names
        }
        self._steady: dict[str, set[str] | None] = {}
        self._locals: dict[str, str] = {}
        self._words = words_of(code)
        for function in self.functions.values():
            self._body(function)

    def needs(self, name: str) -> tuple[list[Function], set[str]]:
        """(functions that one calls, itself last; uniforms that they read), of a function that is steady."""
        order: list[Function] = []

        def visit(called: str) -> None:
            function = self.functions[called]
            for word in self._inside(function):
                if word.text in self.functions and word.text != called and all(f.name != word.text for f in order):
                    visit(word.text)
            if function not in order:
                order.append(function)

        visit(name)
        return order, set().union(*(self._steady.get(f.name) or set() for f in order))

    def constants_in(self, text_words: set[str]) -> set[str]:
        return text_words & set(self._constants)

    def _inside(self, function: Function) -> list[Token]:
        return self._code[function.body[0] : function.body[1]]

    # ---- functions that uniforms and arguments alone decide ------------------------------------------------

    def _steady_function(self, name: str) -> set[str] | None:
        """Uniforms that a function reads besides its arguments; None where it does or reads anything else."""
        if name not in self._steady:
            self._steady[name] = None  # one that calls itself
            self._steady[name] = self._uniforms_of(self.functions[name])
        return self._steady[name]

    def _uniforms_of(self, function: Function) -> set[str] | None:
        parameters = self._code[function.parameters[0] : function.parameters[1]]
        if any(t.text in ("out", "inout", "sampler2D") for t in parameters):
            return None
        known = {t.text for t in parameters if t.kind == "word"} | _declared(self._inside(function))
        found: set[str] = set()
        previous = ""
        for token in self._inside(function):
            text = token.text
            if (
                token.kind == "word"
                and previous != "."
                and text not in known
                and text not in _TYPES
                and text not in self._constants
            ):
                if text in self.functions:
                    inner = self._steady_function(text)
                    if inner is None:
                        return None
                    found |= inner
                elif text in self._uniforms:
                    found.add(text)
                elif not (text in _LIKE_FIRST or text in _LIKE_LAST or text in _FLOATS or text in _WORDS):
                    return None
            previous = text
        return found

    # ---- expressions ------------------------------------------------------------------------------------

    def _body(self, function: Function) -> None:
        first, end = self._code[function.body[0] - 1].at, self._code[function.body[1]].at
        self._locals = {
            t.text: "" for t in self._code[function.parameters[0] : function.parameters[1]] if t.kind == "word"
        }
        self._locals |= dict.fromkeys(_declared(self._inside(function)), "")
        words = [w for w in self._words if first <= w.at <= end]
        at = 0
        while at < len(words) - 1:
            word, following = words[at], at + 1
            if (
                word.text in _ASSIGNS
                or word.text == "return"
                or (word.text == "(" and at and words[at - 1].kind == "word")
            ):
                reader = _Reader(self, words, following)
                try:
                    made = reader.arguments() if word.text == "(" else [reader.expression()]
                except (_NotUnderstoodError, IndexError):
                    at += 1
                    continue
                self.found += made
                at = max(reader.at, following)
                continue
            at += 1

    def name(self, text: str) -> tuple[str, bool, set[str]]:
        """(type, steady, uniforms) of a name."""
        if text in self._locals or text in self._macros:
            return self._locals.get(text, ""), False, set()
        if text in self._uniforms:
            return self._uniforms[text], True, {text}
        if text in self._constants:
            return self._constants[text], True, set()
        return "", False, set()

    def call(self, name: str, arguments: list[Expression]) -> tuple[str, bool, set[str]]:
        if name in self._macros:
            return "", False, set()
        if name in self.functions:
            uniforms = self._steady_function(name)
            return self.functions[name].type, uniforms is not None, uniforms or set()
        if name in _TYPES:
            return name, True, set()
        if name in _LIKE_FIRST and arguments:
            return arguments[0].type, True, set()
        if name in _LIKE_LAST and arguments:
            return arguments[-1].type, True, set()
        if name in _FLOATS:
            return "float", True, set()
        return ("vec3", True, set()) if name == "cross" else ("", False, set())


_WORDS = frozenset(
    "return if else for while do break continue const float true false highp mediump lowp in cross".split()
)


def _dimensions(array: str) -> str:
    return "[]" if array else ""


def _declared(code: list[Token]) -> set[str]:
    """Names of variables that a body declares: a word after a type, and after its commas."""
    found = set()
    for at, token in enumerate(code[:-1]):
        if token.text in _TYPES and code[at + 1].kind == "word":
            depth = 0
            found.add(code[at + 1].text)
            for k in range(at + 2, len(code)):
                depth += (code[k].text in "([{") - (code[k].text in ")]}")
                if depth < 0 or (code[k].text == ";" and depth == 0):
                    break
                if code[k].text == "," and depth == 0 and k + 1 < len(code) and code[k + 1].kind == "word":
                    found.add(code[k + 1].text)
    return found


class _Reader:
    def __init__(self, source: Expressions, words: list[Word], at: int) -> None:
        self._source, self._words, self.at = source, words, at

    @property
    def _word(self) -> Word:
        return self._words[self.at]

    def _take(self, text: str) -> Word:
        if self._word.text != text:
            raise _NotUnderstoodError
        self.at += 1
        return self._words[self.at - 1]

    def arguments(self) -> list[Expression]:
        """Up to a closing bracket, which is not taken."""
        found = []
        while self._word.text != ")":
            found.append(self.expression())
            if self._word.text != ",":
                break
            self.at += 1
        if self._word.text != ")":
            raise _NotUnderstoodError
        return found

    def expression(self) -> Expression:
        test = self._binary(0)
        if self._word.text != "?":
            return test
        self.at += 1
        yes = self.expression()
        self._take(":")
        no = self.expression()
        return _joined(test.first, no.end, yes.type if yes.type == no.type else "", [test, yes, no])

    def _binary(self, level: int) -> Expression:
        if level == len(_LEVELS):
            return self._unary()
        left = self._binary(level + 1)
        while self._word.text in _LEVELS[level]:
            operator = self._word.text
            self.at += 1
            right = self._binary(level + 1)
            left = _joined(left.first, right.end, _result(operator, left.type, right.type), [left, right])
        return left

    def _unary(self) -> Expression:
        if self._word.text in ("-", "+", "!", "~"):
            first = self._word.at
            self.at += 1
            inner = self._unary()
            return _joined(first, inner.end, inner.type, [inner], work=inner.work)
        if self._word.text in ("++", "--"):
            raise _NotUnderstoodError
        return self._postfix(self._primary())

    def _primary(self) -> Expression:
        word = self._word
        if word.text == "(":
            self.at += 1
            inner = self.expression()
            last = self._take(")")
            return _joined(word.at, last.end, inner.type, [inner], work=inner.work)
        self.at += 1
        if word.kind == "number":
            return Expression(word.at, word.end, _type_of_number(word.text), True)
        if word.kind != "word":
            raise _NotUnderstoodError
        if word.text in ("true", "false"):
            return Expression(word.at, word.end, "bool", True)
        if self._word.text == "(":
            self.at += 1
            given = self.arguments()
            last = self._take(")")
            type_, steady, uniforms = self._source.call(word.text, given)
            made = _joined(word.at, last.end, type_, given)
            made.steady &= steady
            made.uniforms |= uniforms
            return made
        type_, steady, uniforms = self._source.name(word.text)
        return Expression(word.at, word.end, type_, steady, set(uniforms))

    def _postfix(self, inner: Expression) -> Expression:
        while True:
            if self._word.text == ".":
                part = self._words[self.at + 1]
                self.at += 2
                inner = _joined(inner.first, part.end, _swizzled(inner.type, part.text), [inner], work=inner.work)
            elif self._word.text == "[":
                self.at += 1
                index = self.expression()
                last = self._take("]")
                inner = _joined(
                    inner.first, last.end, _element(inner.type), [inner, index], work=inner.work or index.work
                )
            elif self._word.text in ("++", "--"):
                raise _NotUnderstoodError
            else:
                return inner


def _joined(first: int, end: int, type_: str, parts: list[Expression], work: bool = True) -> Expression:
    uniforms = set[str]().union(*(p.uniforms for p in parts))
    return Expression(first, end, type_, all(p.steady for p in parts), uniforms, work, parts)


def _type_of_number(text: str) -> str:
    if text.lower().startswith("0x") or not any(c in text for c in ".eEfF"):
        return "uint" if text[-1] in "uU" else "int"
    return "" if text.lower().endswith("lf") else "float"


def _result(operator: str, a: str, b: str) -> str:
    if operator in ("<", ">", "<=", ">=", "==", "!=", "&&", "||", "^^"):
        return "bool"
    if not a or not b or "[]" in a + b:
        return ""
    if a == b:
        return a
    if a in _SCALARS:
        return b
    if b in _SCALARS:
        return a
    if operator == "*" and a.startswith("mat") and b.startswith("vec"):
        return f"vec{a[-1]}"
    if operator == "*" and b.startswith("mat") and a.startswith("vec"):
        return f"vec{b[3]}"
    return ""


def _swizzled(type_: str, part: str) -> str:
    kind = re.match(r"([iub]?)vec\d$", type_)
    if kind is None or not _PARTS.match(part):
        return ""
    scalar = {"": "float", "i": "int", "u": "uint", "b": "bool"}[kind[1]]
    return scalar if len(part) == 1 else f"{kind[1]}vec{len(part)}"


def _element(type_: str) -> str:
    if type_.endswith("[]"):
        return type_[:-2]
    if type_.startswith("mat"):
        return f"vec{type_[-1]}"
    return _swizzled(type_, "x")
