"""Shaders that were refused, or read wrongly, before what is compiled was looked at: they are rewritten, and compile.

The forms are those that engines generate: branches of the preprocessor that open brackets twice, macros round
samplers and loops, lines renumbered, words that only unused macros or functions have.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from wendascope.backends.opengl.changes.batching.rewrite import DrawData, Names, Source, Store
from wendascope.backends.opengl.changes.batching.rewrite import rewrite as with_draw_data
from wendascope.errors import TrialError
from wendascope.glsl.compiler import CompileError, compile_glsl
from wendascope.glsl.globals import Globals, UnclearSourceError
from wendascope.glsl.preprocessor import Dialect, compiled_text
from wendascope.glsl.rewriting import (
    fewer_iterations,
    flat_colour,
    medium_precision,
    moved_to_vertices,
    simple_powers,
    without_outputs,
    without_samples,
)
from wendascope.glsl.spirv import read_module
from wendascope.glsl.std140 import struct_layout
from wendascope.glsl.words import fragment_habits
from wendascope.registry import GL

DIALECT = Dialect(extensions=frozenset({"GL_ARB_shading_language_420pack", "GL_ARB_gpu_shader5"}))
ES = Dialect(es=True)
HEAD = "#version 330\nuniform sampler2D image;\nuniform vec3 u;\nuniform int n;\nin vec2 uv;\nout vec4 colour;\n"
VERTEX = "#version 330\nin vec3 place;\nout vec2 uv;\nvoid main() { uv = place.xy; gl_Position = vec4(place, 1.0); }\n"


def _main(body: str, before: str = "", head: str = HEAD) -> str:
    return f"{head}{before}void main() {{\n{body}\n}}\n"


def _line(source: str, word: str) -> int:
    return next(k for k, text in enumerate(source.split("\n"), 1) if word in text)


def _loop(source: str) -> str:
    return fewer_iterations(source, {_line(source, "for ("): 2})


def _power(source: str) -> str:
    return simple_powers(source, [_line(source, "pow")])


def _moved(source: str) -> str:
    return moved_to_vertices(source, VERTEX, range(1, 99))[0]


CASES: list[tuple[str, str, Callable[[str], str], str]] = [
    (
        "a bracket in both branches",
        _main("#ifdef FAST\nif (uv.x > 0.1) {\n#else\nif (uv.x > 0.5) {\n#endif\n  discard; }\ncolour = vec4(1.0);"),
        flat_colour,
        "",
    ),
    (
        "functions of which one is compiled",
        _main("colour = f();", "#if 1\nvec4 f() {\n#else\nvec4 f(int k) {\n#endif\n  return texture(image, uv); }\n"),
        without_samples,
        "texture(",
    ),
    (
        "a sampler behind a macro",
        _main("colour = READ(uv);", "#define READ(at) texture(image, at)\n"),
        without_samples,
        "texture(",
    ),
    (
        "a sampler named by pasting",
        _main("colour = READ(ima, ge);", "#define READ(a, b) texture(a ## b, uv)\n"),
        without_samples,
        "texture(",
    ),
    (
        "a loop behind a macro",
        _main("colour = vec4(0.0); EACH(k) colour += vec4(float(k));", "#define EACH(k) for (int k = 0; k < n; k++)\n"),
        lambda s: fewer_iterations(s, {_line(s, "int k = 0"): 2}),
        "",
    ),
    (
        "a loop after lines that were renumbered",
        _main("#line 900\ncolour = vec4(0.0);\nfor (int k = 0; k < n; k++) colour += vec4(0.1);"),
        _loop,
        "",
    ),
    (
        "a loop whose head is chosen by a condition",
        _main(
            "colour = vec4(0.0);\n#if defined(MANY)\nfor (int k = 0; k < 99; k++)\n#else\n"
            "for (int k = 0; k < 9; k++)\n"
            "#endif\n{ colour += vec4(0.1); }"
        ),
        lambda s: fewer_iterations(s, {_line(s, "k < 9;"): 2}),
        "99",
    ),
    ("a power of a macro", _main("colour = vec4(SQUARE(u.x));", "#define SQUARE(a) pow(a, 2.0)\n"), _power, "pow("),
    ("an exponent from a macro", _main("colour = vec4(pow(u.x, SHINE));", "#define SHINE 4.0\n"), _power, "pow("),
    (
        "an expression of macros",
        _main("colour = vec4(LIT(u) * uv.x);", "#define LIT(a) (a.x * 0.5 + a.y * 0.25 + a.z)\n"),
        _moved,
        "u.x",
    ),
    (
        "a type that is a macro",
        _main("half4 c = texture(image, uv);\ncolour = c;", "#define half4 vec4\n"),
        without_samples,
        "texture(",
    ),
    (
        "continued lines",
        _main("#define ALL(x) \\\n  vec4(x, \\\n       1.0)\ncolour = ALL(texture(image, uv).rgb);"),
        without_samples,
        "texture(",
    ),
    (
        "a comment within a directive",
        _main("#if /* not\nyet */ 0\n} } }\n#endif\ncolour = texture(image, uv);"),
        without_samples,
        "texture(",
    ),
    (
        "an extension that decides",
        _main("#ifdef GL_ARB_gpu_shader5\ncolour = texture(image, uv);\n#else\n(((\n#endif"),
        without_samples,
        "texture(",
    ),
    (
        "a version that decides",
        _main("#if __VERSION__ >= 300\ncolour = texture(image, uv);\n#else\ngl_FragColor = texture2D(image;\n#endif"),
        without_samples,
        "texture(",
    ),
    (
        "a function-like macro in a condition",
        _main("colour = texture(image, uv);", "#define AT_LEAST(a) (a <= 4)\n#if AT_LEAST(3)\n#else\n{ {\n#endif\n"),
        without_samples,
        "texture(",
    ),
    (
        "text of several files",
        _main(
            "colour = shade(uv);",
            "#line 1 1\nvec4 shade(vec2 at) {\n#line 7 2\n return texture(image, at);\n}\n#line 9\n",
        ),
        without_samples,
        "texture(",
    ),
]


@pytest.mark.parametrize(("source", "rewrite", "gone"), [c[1:] for c in CASES], ids=[c[0] for c in CASES])
def test_it_is_rewritten(source: str, rewrite: Callable[[str], str], gone: str) -> None:
    plain = compiled_text(source, DIALECT)
    made = rewrite(plain)
    assert made != plain and compile_glsl(made, GL.FRAGMENT_SHADER, DIALECT)
    body = made[made.index("void main") :]
    assert not gone or gone not in body
    assert made.count("\n") >= source.count("\n"), "every line is where it was"


def test_most_of_them_were_refused() -> None:
    """What the rewriting says of the captured texts, so that the list stays one of real cases."""
    refused = 0
    for _, source, rewrite, gone in CASES:
        try:
            made = rewrite(source)
            compile_glsl(made, GL.FRAGMENT_SHADER, DIALECT)
            refused += bool(gone) and gone in made[made.index("void main") :]
        except (TrialError, CompileError, UnclearSourceError, StopIteration):
            refused += 1
    assert refused >= 12, refused


BUILT_IN: list[tuple[str, str, Any]] = [
    (
        "only an unused macro counts instances",
        "#define ID gl_InstanceID\nvoid main() { gl_Position = vec4(1.0); }",
        set(),
    ),
    (
        "only an uncalled function does",
        "int f() { return gl_VertexID; }\nvoid main() { gl_Position = vec4(1.0); }",
        set(),
    ),
    ("a branch that is not compiled", "void main() {\n#ifdef X\ngl_Position = vec4(gl_InstanceID);\n#endif\n}", set()),
    ("a macro that is used", "#define ID gl_InstanceID\nvoid main() { gl_Position = vec4(ID); }", {"gl_InstanceID"}),
    (
        "a function that is called",
        "int f() { return gl_VertexID; }\nvoid main() { gl_Position = vec4(f()); }",
        {"gl_VertexID"},
    ),
]


@pytest.mark.parametrize(("body", "read"), [c[1:] for c in BUILT_IN], ids=[c[0] for c in BUILT_IN])
def test_the_compiled_module_tells_which_built_ins_are_read(body: str, read: set[str]) -> None:
    found = read_module(compile_glsl(f"#version 330\n{body}\n", GL.VERTEX_SHADER, DIALECT)).loaded()
    assert found & {"gl_InstanceID", "gl_VertexID"} == read


@pytest.mark.parametrize(
    ("source", "discards"),
    [
        ("#define CUT discard\nvoid main() { }", False),
        ("#if 0\nvoid f() { discard; }\n#endif\nvoid main() { }", False),
        ("#define CUT discard\nvoid main() { CUT; }", True),
    ],
)
def test_what_is_not_compiled_does_not_count(source: str, discards: bool) -> None:
    assert fragment_habits(compiled_text("#version 330\n" + source, DIALECT)).discards is discards


def test_precisions_and_varyings_of_generated_es_sources() -> None:
    source = (
        "#version 300 es\n#ifdef GL_FRAGMENT_PRECISION_HIGH\nprecision highp float;\n#else\n"
        "precision lowp float;\n#endif\n"
        "#define VARYING in\nVARYING highp vec2 uv;\nout vec4 colour;\nvoid main() { colour = vec4(uv, 0.0, 1.0); }\n"
    )
    plain = compiled_text(source, ES)
    assert Globals(plain).declarations[0].has("in"), "a qualifier that is a macro is read as what it is"
    assert "highp" not in medium_precision(plain).replace("precision", "") and compile_glsl(
        plain, GL.FRAGMENT_SHADER, ES
    )
    vertex = compiled_text("#version 330\n#define OUT out\nOUT vec2 a;\nvoid main() { a = vec2(1.0); }\n", DIALECT)
    assert "out vec2 a" not in without_outputs(vertex, ["a"])


def test_a_uniform_declared_after_main_is_rewritten_all_the_same() -> None:
    """Sources put together from parts, as painters of interfaces have them, declare it where it is used."""
    text = (
        "varying vec2 at; attribute vec2 given;\nvoid place();\nvoid main() { place(); at = given; }\n"
        "uniform mat3 matrix; attribute vec2 corner;\n"
        "void place() { gl_Position = vec4(matrix * vec3(corner, 1.0), 1.0); }\n"
    )
    members, stride = struct_layout([("matrix", GL.FLOAT_MAT3, 1, False)])
    data = DrawData(tuple(members), {"matrix": "matrix"}, (), (), {}, {}, stride, 3, False, Store.ARRAYS, Names())
    found = with_draw_data(Source(GL.VERTEX_SHADER, text, False), data, False)
    assert found.index("mat3 matrix;") < found.index("void main()") and found.count("mat3 matrix;") == 1
    compile_glsl(found, GL.VERTEX_SHADER, DIALECT)
