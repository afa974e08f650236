"""The GLSL preprocessor: against the C compiler's on random sources, and by the rules that are GLSL's own."""

from __future__ import annotations

import re
import shutil
import subprocess
import time

import pytest
from hypothesis import HealthCheck, assume, example, given, settings
from hypothesis import strategies as st

from wendascope.analysis.shaders.study import StageStudy
from wendascope.desktop.views.source_view import lines_left_out
from wendascope.glsl.conditions import ConditionError, evaluate
from wendascope.glsl.preprocessor import Dialect, PreprocessorError, compiled_text, preprocessed
from wendascope.glsl.stages import Stage
from wendascope.glsl.words import tokens

PLAIN = Dialect()
_C = shutil.which("cc")


_OPERATORS = re.compile(r"(<<=|>>=|&&|\|\||\^\^|<<|>>|\+\+|--|[-<>=!+*/%&|^]=|.)")


def plain(text: str) -> list[str]:
    """Tokens and operators, without spaces and comments."""
    found: list[str] = []
    marks = ""
    for token in tokens(text):
        if token.kind == "mark":
            marks += token.text
            continue
        found += _OPERATORS.findall(marks)
        marks = ""
        found += [token.text] if token.kind in ("word", "number") else []
    return found + _OPERATORS.findall(marks)


def by_c(source: str) -> list[str] | None:
    """What the C compiler's preprocessor makes of it; None where it refuses."""
    assert _C is not None
    done = subprocess.run(
        [_C, "-E", "-P", "-undef", "-nostdinc", "-w", "-x", "c", "-"],
        input=source,
        capture_output=True,
        text=True,
        check=False,
    )
    return plain(done.stdout) if done.returncode == 0 else None


# ---- random sources -----------------------------------------------------------------------------------------

NAMES = st.sampled_from(["A", "B", "C", "D"])
CALLED = st.sampled_from(["F", "G"])
WORDS = st.sampled_from(
    ["x", "vec3", "y1", "A", "B", "C", "D", "F", "G", "12", "0x1F", "1.5", "+", "-", "*", ";", ",", "+=", "--"]
)
CALLS = st.builds(lambda name, a, b: f"{name}({a}, {b})", CALLED, WORDS.filter(lambda w: w != ","), NAMES)
CODE = st.lists(st.one_of(WORDS, CALLS, st.just("/* no */")), min_size=1, max_size=6).map(" ".join)
SIMPLE = st.sampled_from(["0", "1", "2", "A", "B", "C", "defined(A)", "defined B", "!defined(D)", "0x10", "(1)"])
OPERATORS = st.sampled_from(["||", "&&", "==", "!=", "<", ">=", "+", "-", "*", "<<", "&", "|", "^"])
EXPRESSIONS = st.recursive(
    SIMPLE, lambda inner: st.builds(lambda a, o, b: f"({a} {o} {b})", inner, OPERATORS, inner), max_leaves=4
)
DEFINES = st.one_of(
    st.builds(lambda n, v: f"#define {n} {v}", NAMES, st.sampled_from(["", "0", "1", "3", "x", "B", "C + 1", "(A)"])),
    st.builds(
        lambda n, v: f"#define {n}(p, q) {v}",
        CALLED,
        st.sampled_from(["p", "p + q", "(p * q)", "p ## q", "x ## p", "F(q, p)", "G(p, q)", "A p q", ""]),
    ),
    st.builds(lambda n: f"#undef {n}", st.one_of(NAMES, CALLED)),
)


def nested(inner: st.SearchStrategy[list[str]]) -> st.SearchStrategy[list[str]]:
    begin = st.one_of(
        EXPRESSIONS.map(lambda e: f"#if {e}"),
        NAMES.map(lambda n: f"#ifdef {n}"),
        NAMES.map(lambda n: f"#  ifndef {n}  // a comment"),
    )
    middle = st.one_of(
        st.just([]),
        st.builds(lambda e, body: [f"#elif {e}", *body], EXPRESSIONS, inner),
        st.builds(lambda body: ["#else", *body], inner),
    )
    return st.builds(lambda b, body, m, after: [b, *body, *m, "#endif", *after], begin, inner, middle, inner)


LINES = st.recursive(
    st.lists(st.one_of(CODE, DEFINES, st.just(""), st.just("/* two\nlines */")), max_size=4), nested, max_leaves=8
)
SOURCES = LINES.map(lambda lines: "\n".join(lines) + "\n")


@pytest.mark.skipif(_C is None, reason="no C compiler here")
@settings(max_examples=80, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(SOURCES)
@example("#define F(p, q) p + q\nF\n(1,\n2) x\n")
@example("#define A B\n#define B A\nA B F\n")
@example("#define F(p,q) p ## q\n#define A 1\nF(A, A) F(x, A) F(,x)\n")
@example("#define A (4 \\\n - 1)\n#if A == \\\n 3\nyes A\n#endif\nx\n")
def test_random_sources_come_out_as_the_c_compiler_has_them(source: str) -> None:
    expected = by_c(source)
    assume(expected is not None)
    code = preprocessed(source, PLAIN)
    assert plain(code.text) == expected
    assert code.text.count("\n") == source.count("\n"), "every line stays"
    assert len(code.compiled) == len(code.named) == source.count("\n") + 1
    assert preprocessed(code.text, PLAIN).text == code.text, "again, nothing is left to do"


@settings(max_examples=60, deadline=None)
@given(SOURCES)
def test_code_stays_on_its_line(source: str) -> None:
    """Words that no macro has to do with are found on the line they were on."""
    marked = "".join(f"mark_{k} {line}\n" if not re.match(r"\s*#|.*\*/|/\*", line) else f"{line}\n"
                     for k, line in enumerate(source.split("\n"), 1))  # fmt: skip
    try:
        code = preprocessed(marked, PLAIN)
    except PreprocessorError:
        return
    for number, line in enumerate(code.text.split("\n"), 1):
        found = re.findall(r"mark_(\d+)", line)
        assert all(int(k) == number for k in found), (number, found)
        assert not found or code.compiled[number - 1]


@settings(max_examples=200, deadline=None)
@given(st.text(st.sampled_from("#defineifls ABF(),\\\n01/*+-<\"'\r\x00é"), max_size=60))
def test_any_text_is_read_or_refused(source: str) -> None:
    try:
        code = preprocessed(source, PLAIN)
    except PreprocessorError as error:
        assert error.line >= 1 and str(error).startswith("line ")
        assert compiled_text(source, PLAIN) == source
    else:
        assert compiled_text(source, PLAIN) == code.text


# ---- GLSL's own rules -----------------------------------------------------------------------------------------


def test_a_source_without_directives_is_left_as_it_is() -> None:
    source = (
        "#version 330 core\n// a comment\nvoid main() { /* b */ gl_Position = vec4(1.0-.5); x+=y; z<<=1; i++; --j; }\n"
    )
    assert preprocessed(source, PLAIN).text == source


def test_version_extension_and_pragma_stay_and_count_as_compiled() -> None:
    kept = "#version 300 es\n#extension GL_X : enable\n#pragma STDGL invariant(all)\n"
    source = f"{kept}#if 0\n#extension GL_Y : enable\n#endif\n"
    code = preprocessed(source, Dialect(es=True))
    assert code.text.split("\n")[:3] == source.split("\n")[:3] and "GL_Y" not in code.text
    assert code.version == 300 and code.profile == "es"
    assert code.compiled == (True, True, True, True, False, True, False)


@pytest.mark.parametrize(
    ("head", "dialect", "expected"),
    [
        ("", Dialect(), {"__VERSION__": "110"}),
        ("", Dialect(es=True), {"__VERSION__": "100", "GL_ES": "1", "GL_FRAGMENT_PRECISION_HIGH": "1"}),
        ("#version 150", Dialect(), {"GL_core_profile": "1", "__VERSION__": "150"}),
        ("#version 450 compatibility", Dialect(), {"GL_compatibility_profile": "1"}),
        ("#version 310 es", Dialect(), {"GL_ES": "1", "__VERSION__": "310"}),
        ("#version 120", Dialect(extensions=frozenset({"GL_ARB_x"})), {"GL_ARB_x": "1"}),
    ],
)
def test_what_is_defined_from_the_start(head: str, dialect: Dialect, expected: dict[str, str]) -> None:
    every = ("__VERSION__", "GL_ES", "GL_core_profile", "GL_compatibility_profile", "GL_ARB_x")
    body = "".join(f"#ifdef {name}\n{name}\n#else\nnot_{k}\n#endif\n" for k, name in enumerate(every))
    lines = [line for line in preprocessed(f"{head}\n{body}", dialect).text.split("\n") if line.strip()]
    told = dict(zip(every, lines[bool(head) :], strict=True))
    for name in every:
        if name in expected:
            assert told[name].strip() == expected[name]
        elif name != "__VERSION__":
            assert told[name].startswith("not_")


@pytest.mark.parametrize(
    ("version", "dialect", "expected"),
    [("330", PLAIN, "2:10"), ("150", PLAIN, "2:11"), ("300 es", Dialect(es=True), "2:10")],
)
def test_lines_are_renumbered_as_the_version_has_it(version: str, dialect: Dialect, expected: str) -> None:
    source = f"#version {version}\nint a;\n#line 10 2\nint b = __LINE__ + __FILE__;\n#line 5\nint c;\n"
    code = preprocessed(source, dialect)
    assert code.driver_line(2) == "0:2" and code.driver_line(4) == expected and code.renumbered
    assert code.driver_line(6).startswith("2:"), "the string stays until another is told"
    assert f"int b = {expected[2:]} + 2;" in code.text and "#line" not in code.text
    assert code.text.split("\n")[5] == "int c;"


def test_signs_are_not_run_together() -> None:
    source = "#define N -1\n#define W x\nint a = -N; int b = 3 -N; vec2 c = W.W; v W;\n"
    assert plain(preprocessed(source, PLAIN).text)[:6] == ["int", "a", "=", "-", "-", "1"]
    assert "--" not in preprocessed(source, PLAIN).text


def test_a_bomb_of_macros_is_refused() -> None:
    lines = ["#define m0 x x"] + [f"#define m{k} m{k - 1} m{k - 1} m{k - 1} m{k - 1}" for k in range(1, 30)]
    with pytest.raises(PreprocessorError, match="tokens"):
        preprocessed("\n".join([*lines, "m29"]), PLAIN)
    deep = "#define F(p) p\n" + "F(" * 1000 + ")" * 1000
    with pytest.raises(PreprocessorError, match="nested"):
        preprocessed(deep, PLAIN)


@pytest.mark.parametrize(
    "source",
    ["#if 1\n", "#endif\n", "#if 1\n#else\n#else\n#endif", "#define\n", "#version x\n", "#error no\n", "#nothing\n",
     "#define F(a) a\nF(1, 2)\n", "#define F(a) a\nF(1\n", "#if\n#endif", "#if (1\n#endif", "#define F(1) x\n",
     "#ifdef\n#endif", "#line x\n", "#if " + "(" * 200 + "1" + ")" * 200 + "\n#endif"],
)  # fmt: skip
def test_what_cannot_be_read_is_refused_with_its_line(source: str) -> None:
    with pytest.raises(PreprocessorError, match="line "):
        preprocessed(source, PLAIN)


def test_numbers_and_operators_of_conditions() -> None:
    assert evaluate(["-", "7", "/", "2"]) == -3 and evaluate(["-", "7", "%", "2"]) == -1
    assert evaluate(["!", "0", "&&", "~", "0", "==", "-", "1"]) == 1
    assert evaluate(["017", "+", "0x1Fu", "*", "2u"]) == 15 + 62
    assert evaluate(["1", "||", "1", "/", "0"]) == 1 and evaluate(["unknown"]) == 0
    for wrong in ([], ["1", "2"], ["1.5"], ["+"], ["(", "1"]):
        with pytest.raises(ConditionError):
            evaluate(wrong)


def test_lines_that_are_not_compiled_are_told_apart() -> None:
    source = "#version 330\n#define A\n#ifdef A\nint a;\n#else\nint b;\n\n// no\n#endif\nint c; // yes\n"
    study = StageStudy(1, Stage.FRAGMENT, source, None, "", code=preprocessed(source, PLAIN))
    assert lines_left_out(study) == {6, 8}
    study.code = None
    assert lines_left_out(study) == frozenset()


def _chained(count: int) -> str:
    return "#version 330 core\n" + "".join(f"#define n{k} n{k + 1}\n" for k in range(count)) + "float x = n0;\n"


@pytest.mark.parametrize("count", [8_000, 50_000, 100_000])
def test_macros_without_end_are_refused_before_long(count: int) -> None:
    began = time.process_time()
    for _ in range(20):  # whoever asks again does not pay again
        with pytest.raises(PreprocessorError):
            preprocessed(_chained(count), Dialect())
    assert time.process_time() - began < 10
    assert preprocessed(_chained(500), Dialect()).text.rstrip().endswith("float x = n500;")
