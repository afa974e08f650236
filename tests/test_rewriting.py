"""Shader sources rewritten for trials: what comes out compiles, has its lines where they were, and says what cannot
be done.
"""

from __future__ import annotations

import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.errors import TrialError
from wendascope.glsl.compiler import compile_glsl
from wendascope.glsl.globals import Globals
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.rewriting import (
    as_channels,
    fewer_iterations,
    flat_colour,
    medium_precision,
    moved_to_vertices,
    simple_powers,
    with_third_rebuilt,
    without_outputs,
    without_samples,
)
from wendascope.glsl.rewriting.channels import Channel
from wendascope.glsl.rewriting.es_version import in_es_310, raisable
from wendascope.glsl.rewriting.expressions import Expressions
from wendascope.glsl.rewriting.levels import noted_samplers, with_levels_noted
from wendascope.glsl.rewriting.powers import EXPONENTS
from wendascope.registry import GL

VERTEX = (
    "#version 330\nin vec3 position;\nout vec2 uv;\nvoid main() {\n    uv = position.xy;\n    gl_Position ="
    " vec4(position, 1.0);\n}\n"
)
HEAD = (
    "#version 330\nin vec2 uv; uniform float u; uniform vec3 v; uniform mat3 m; uniform int n; uniform sampler2D s, t;"
    " uniform sampler2DShadow d;\nout vec4 c;\n"
)


def _compiles(source: str, stage: int = GL.FRAGMENT_SHADER, es: bool = False) -> str:
    assert compile_glsl(source, stage, Dialect(es))
    return source


def _fragment(body: str, head: str = "") -> str:
    """Its main begins in line 4, or after the lines of `head`."""
    return f"{HEAD}{head}void main() {{\n{body}\n}}\n"


def _changed_lines(before: str, after: str) -> list[int]:
    return [k for k, (a, b) in enumerate(zip(before.splitlines(), after.splitlines(), strict=False), 1) if a != b]


# ---- flat colours and constants ---------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("source", "es", "writes"),
    [
        (_fragment("if (uv.x > 0.5) discard;\nc = texture(s, uv);"), False, ["c = vec4(0.5, 0.5, 0.5, 1.0);"]),
        (
            "#version 110\nvarying vec2 uv;\nvoid main(void) { gl_FragColor = vec4(uv, 0.0, 1.0); }",
            False,
            ["gl_FragColor"],
        ),
        (
            "#version 110\nvoid main() { gl_FragData[0] = vec4(1.0); gl_FragData[2] = vec4(0.0); }",
            False,
            ["gl_FragData[0]", "gl_FragData[2]"],
        ),
        (
            (
                "#version 300 es\nprecision mediump float;\nlayout(location = 0) out vec4 a;\nlayout(location = 1) out"
                " uvec2 b;\nvoid main() { a = vec4(0.1); b = uvec2(3u); }"
            ),
            True,
            ["a = vec4", "b = uvec2(1);"],
        ),
        (
            "#version 330\nout vec3 all[2];\nvoid main() { all[0] = vec3(0.0); all[1] = vec3(1.0); }",
            False,
            ["all[0] = vec3(0.5);", "all[1] = vec3(0.5);"],
        ),
    ],
)
def test_a_flat_colour_is_written_to_every_output(source: str, es: bool, writes: list[str]) -> None:
    made = _compiles(flat_colour(source), es=es)
    assert all(text in made.splitlines()[-1] for text in writes) and made.count("void main()") == 1


def test_shaders_without_a_colour_are_refused() -> None:
    with pytest.raises(TrialError, match="writes no colour"):
        flat_colour("#version 330\nvoid main() {}")
    with pytest.raises(TrialError, match="looks nothing up"):
        without_samples(_fragment("c = vec4(uv, 0, 1);"))
    with pytest.raises(TrialError, match="cannot be rewritten"):
        flat_colour("void main() {")


def test_look_ups_become_constants_where_they_stand() -> None:
    source = _fragment(
        "vec4 a = texture(s, texture(t,\n    uv).xy);\nfloat b = texture(d, vec3(uv, 0.5)); // texture(s, uv)\nc = a *"
        " b + textureLod(t, uv, 1.0) + texelFetch(s, ivec2(0), 0);"
    )
    made = _compiles(without_samples(source))
    assert "// texture(s, uv)" in made and "texture(t" not in made and "float b = 0.75;" in made
    assert len(made.splitlines()) == len(source.splitlines()) and _changed_lines(source, made) == [5, 6, 7, 8]


# ---- rounds ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "body",
    [
        "float a = 0.0;\nfor (int i = 0; i < 9; i++) a += sin(float(i));\nc = vec4(a);",
        "float a = 0.0; int i = 0;\nwhile (i < n && a < 3.0) { a += 0.1; i++; }\nc = vec4(a);",
        (
            "float a = 0.0;\nfor (int i = 0; i < 9; i++)\n  for (int k = 0; k < 3; k++) {\n    a += 0.5;\n  }\nc ="
            " vec4(a);"
        ),
        "float a = 0.0;\nfor (;;) { a += 1.0; if (a > 4.0) break; else continue; }\nc = vec4(a);",
        "float a = 0.0;\nif (uv.x > 0.5)\n  for (int i = 0; i < 4; i++) a += 1.0;\nelse a = 2.0;\nc = vec4(a);",
    ],
)
def test_loops_stop_after_fewer_rounds(body: str) -> None:
    source = _fragment(body)
    line = next(k for k, text in enumerate(source.splitlines(), 1) if "for (" in text or "while (" in text)
    made = _compiles(fewer_iterations(source, {line: 2}))
    assert "wendascope_rounds_0++ < 2" in made and len(made.splitlines()) == len(source.splitlines())


def test_two_loops_are_cut_at_once_and_lines_without_one_are_named() -> None:
    source = _fragment(
        "float a = 0.0;\nfor (int i = 0; i < 9; i++)\n  for (int k = 0; k < 3; k++) a += 0.5;\nc = vec4(a);"
    )
    made = _compiles(fewer_iterations(source, {6: 3, 7: 1}))
    assert "wendascope_rounds_0++ < 3" in made and "wendascope_rounds_1++ < 1" in made
    with pytest.raises(TrialError, match="line 5 of the shader has no for or while loop"):
        fewer_iterations(source, {5: 1})


# ---- expressions moved to the vertices -------------------------------------------------------------------------


def _moved(body: str, head: str = "", vertex: str = VERTEX, lines: range = range(1, 99)) -> tuple[str, str]:
    fragment = _fragment(body, head)
    made = moved_to_vertices(fragment, vertex, lines)
    assert (
        len(made[0].splitlines()) == len(fragment.splitlines()) and made[1].splitlines()[: len(vertex.splitlines()) - 1]
    )
    return _compiles(made[0]), _compiles(made[1], GL.VERTEX_SHADER)


def test_what_uniforms_decide_is_handed_on_by_the_vertices() -> None:
    fragment, vertex = _moved(
        "float k = u * 2.0 + sin(u);\nvec3 d = m * normalize(v) * uv.x;\nfor (int i = 0; i < n; i++) d += v.zxy /"
        " float(n);\nc = vec4(d, k);"
    )
    assert "float k = wendascope_moved_0;" in fragment and "flat in float wendascope_moved_0;" in fragment
    assert (
        "wendascope_moved_0 = u * 2.0 + sin(u);" in vertex and "flat out vec3" in vertex and "uniform mat3 m;" in vertex
    )
    assert "* uv.x" in fragment and "v.zxy / float(n)" in vertex, "what the inputs decide stays"
    assert "i < n" in fragment, "a value alone is not worth moving"


def test_functions_constants_and_blocks_go_along() -> None:
    head = (
        "const float turn = 0.25;\nlayout(std140) uniform Scene { vec4 eye; float hour; };\nfloat angle() { return hour"
        " * turn; }\nvec3 sky() { float a = angle(); return vec3(sin(a), cos(a), eye.x); }\n"
    )
    fragment, vertex = _moved("vec3 seen = sky() * uv.x;\nc = vec4(seen, angle() * uv.y);", head)
    assert (
        "= wendascope_moved_0 * uv.x" in fragment
        and "wendascope_sky()" in vertex
        and "layout(std140) uniform Scene" in vertex
    )
    assert vertex.count("wendascope_angle()") >= 3 and "const float wendascope_turn = 0.25;" in vertex


def test_locals_hide_uniforms_and_macros_are_left_alone() -> None:
    for body in ("float u = uv.x;\nc = vec4(u * 2.0 + sin(u));", "c = vec4(HIDDEN * 2.0 + sin(HIDDEN));"):
        with pytest.raises(TrialError, match="not written as expressions"):
            _moved(body, "#define HIDDEN uv.y\n")


def test_only_the_lines_asked_for_are_moved_and_only_once() -> None:
    fragment, vertex = _moved("float a = u * 2.0;\nfloat b = u * 3.0;\nc = vec4(a, b, uv);", lines=range(6, 7))
    assert "u * 2.0" in fragment and "u * 3.0" not in fragment
    with pytest.raises(TrialError, match="already"):
        moved_to_vertices(fragment, vertex, range(1, 99))
    with pytest.raises(TrialError, match="u is another thing in the vertex shader"):
        moved_to_vertices(
            _fragment("c = vec4(u * 2.0 + uv.x);"),
            VERTEX.replace("in vec3 position;", "in vec3 position; in float u;"),
            range(1, 99),
        )


def test_older_glsl_hands_on_by_varyings() -> None:
    fragment = (
        "#version 110\nuniform float u;\nvarying vec2 uv;\nvoid main() { gl_FragColor = vec4(uv * (u * 0.5), 0.0,"
        " 1.0); }\n"
    )
    vertex = "#version 110\nattribute vec4 p;\nvarying vec2 uv;\nvoid main() { uv = p.xy; gl_Position = p; }\n"
    made = moved_to_vertices(fragment, vertex, range(1, 9))
    assert "varying float wendascope_moved_0;" in _compiles(made[0]) and "varying float" in _compiles(
        made[1], GL.VERTEX_SHADER
    )


_leaves = st.sampled_from(
    [
        ("u", "float"),
        ("v", "vec3"),
        ("uv", "vec2"),
        ("0.5", "float"),
        ("float(n)", "float"),
        ("v.xy", "vec2"),
        ("m[1]", "vec3"),
    ]
)


def _grow(inner: st.SearchStrategy[tuple[str, str]]) -> st.SearchStrategy[tuple[str, str]]:
    def pair(parts: tuple[tuple[str, str], tuple[str, str], str]) -> tuple[str, str]:
        (a, kind), (b, other), operator = parts
        if kind != other and "float" not in (kind, other):
            return f"({a})", kind
        return f"({a} {operator} {b})", other if kind == "float" else kind

    calls = st.tuples(inner, st.sampled_from(["sin", "abs", "exp2", "normalize", "fract"])).map(
        lambda p: (f"{p[1]}({p[0][0]})", p[0][1])
    )
    lengths = inner.map(lambda p: (f"length({p[0]})", "float"))
    choices = st.tuples(inner, inner).map(
        lambda p: (f"({p[0][0]}).x", "float") if p[0][1] != "float" else (f"vec3({p[0][0]}, u, 1.0)", "vec3")
    )
    return st.one_of(st.tuples(inner, inner, st.sampled_from("+-*/")).map(pair), calls, lengths, choices)


@settings(max_examples=40, deadline=None)
@given(st.recursive(_leaves, _grow, max_leaves=9))
def test_whatever_is_moved_compiles_with_the_right_types(made: tuple[str, str]) -> None:
    text, kind = made
    body = f"{kind} value = {text};\nc = vec4({'value' if kind == 'float' else 'value.x'}) + uv.xyxy;"
    depends = re.search(r"\buv\b|\bw\b|\bv\b", text) is not None
    computes = any(sign in text for sign in "+-*/(") and re.search(r"\bu\b", text) is not None
    try:
        _moved(body)
    except TrialError:
        assert depends or not computes, "an expression of uniforms alone is moved"


@settings(max_examples=150, deadline=None)
@given(
    st.lists(
        st.sampled_from(
            "void main ( ) { } ; float x = u + * uv . [ ] 1.0 , return for while if else ? : uniform vec3 #define\n out"
            " // /* */ sampler2D s texture".split(" ")
        ),
        max_size=50,
    )
)
def test_any_words_are_read_or_refused(words: list[str]) -> None:
    source = " ".join(words)
    for rewrite in (
        flat_colour,
        without_samples,
        medium_precision,
        lambda text: fewer_iterations(text, {1: 1}),
        lambda text: moved_to_vertices(text, VERTEX, [1]),
    ):
        try:
            rewrite(source)
        except TrialError:
            continue


def test_types_of_expressions_are_known() -> None:
    found = Expressions(
        Globals(
            _fragment(
                "float a = dot(v, v.zyx);\nvec3 b = m * v;\nvec2 e = v.xy * u;\nc = vec4(a) + vec4(b, 1.0) + e.xyxy +"
                " (u > 0.5 ? vec4(u) : vec4(v, 1.0));"
            )
        )
    )
    assert [e.type for e in found.found[:3]] == ["float", "vec3", "vec2"] and all(e.steady for e in found.found[:3])


# ---- channels and precision ---------------------------------------------------------------------------------


def test_grey_samplers_read_channels_of_one() -> None:
    source = _fragment("float a = texture(s, uv).r * texture(t, uv).g;\nc = vec4(a) + texture(t, uv * 2.0);")
    made = _compiles(as_channels(source, {"s": Channel(0, 1.0), "t": Channel(1, 0.5)}))
    assert (
        "vec4(vec3(texture(s, uv).r), 1.0).r" in made
        and "vec4(vec3(texture(s, uv).g), 0.5).g" in made
        and "texture(t" not in made
    )
    assert as_channels(source, {"other": Channel(0, 1.0)}) == source
    with pytest.raises(TrialError, match="handed on"):
        as_channels(
            _fragment("c = look(s);", "vec4 look(sampler2D w) { return texture(w, uv); }\n"), {"s": Channel(0, 1.0)}
        )


def test_high_precision_becomes_medium() -> None:
    source = (
        "#version 300 es\nprecision highp float;\nprecision highp int;\nin highp vec2 uv;\nout vec4 c;\nvoid main() {"
        " highp float a = uv.x; c = vec4(a); }\n"
    )
    made = _compiles(medium_precision(source), es=True)
    assert "precision mediump float;" in made and "precision highp int;" in made and "in mediump vec2" in made
    with pytest.raises(TrialError, match="asks for no high precision"):
        medium_precision(VERTEX)


# ---- powers ---------------------------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(
            st.sampled_from(["uv.x", "(u + 1.0)", "pow(uv.y, 3.0)", "dot(v, v)", "texture(s, uv).r"]),
            st.sampled_from(sorted(EXPONENTS)),
        ),
        min_size=1,
        max_size=4,
    )
)
def test_powers_become_products_that_give_the_same(powers: list[tuple[str, float]]) -> None:
    body = "\n".join(f"float a{k} = pow({base}, {exponent});" for k, (base, exponent) in enumerate(powers))
    source = _fragment(f"{body}\nc = vec4({' + '.join(f'a{k}' for k in range(len(powers)))});")
    made = simple_powers(source, range(5, 5 + len(powers)))
    assert "pow(" not in made and _changed_lines(source, made)[0] == 2 and made.count("\n") == source.count("\n")
    _compiles(made)
    for name, text in re.findall(r"float (wendascope_power_\d+)\(float x\) \{ return (.*?); \}", made):
        exponent = next(e for e in EXPONENTS if f"{name}(" in made and _value(text, 1.7) == pytest.approx(1.7**e))
        assert _value(text, 0.3) == pytest.approx(0.3**exponent)


def _value(text: str, x: float) -> float:
    return float(eval(text, {"x": x, "sqrt": lambda a: a**0.5, "inversesqrt": lambda a: a**-0.5}))


def test_powers_of_vectors_constants_and_several_lines() -> None:
    source = _fragment(
        "vec3 a = pow(v,\n  vec3(2.0)); c = vec4(pow(a, vec3(k)), pow(u, n + 2.0));", "const float k = 4.0;\n"
    )
    made = _compiles(simple_powers(source, [6, 7]).replace("n + 2.0", "float(n) + 2.0"))
    assert made.count("pow(") == 1 and made.count("\n") == source.count("\n"), "an exponent that varies stays"
    for other in ("c = vec4(pow(u, 2.4));", "c = vec4(u);", "c = vec4(pow(u, v.x));"):
        with pytest.raises(TrialError, match="small number"):
            simple_powers(_fragment(other), [5])
    with pytest.raises(TrialError, match="small number"):
        simple_powers(_fragment("c = vec4(pow(u, 2.0));"), [7])


# ---- outputs that nothing takes ---------------------------------------------------------------------------------


def test_outputs_become_variables_of_their_own() -> None:
    source = (
        "#version 330\nin vec3 p;\nflat out ivec2 a, kept;\nout highp\nvec4 b[2];\nvoid main() {\n"
        "  a = kept = ivec2(1); b[1] = vec4(p, 1.0);\n  gl_Position = b[1];\n}\n"
    )
    made = _compiles(without_outputs(source, ["a", "b"]), GL.VERTEX_SHADER)
    assert _changed_lines(source, made) == [3, 4, 5] and made.count("\n") == source.count("\n")
    assert "flat out ivec2 kept;" in made and "highp vec4 b[2];" in made and "out highp" not in made
    old = (
        "#version 120\nvarying vec2 uv, unused;\nvoid main() { uv = unused = vec2(1); gl_Position = vec4(uv, 0, 1); }\n"
    )
    assert "varying vec2 uv;" in _compiles(without_outputs(old, ["unused"]), GL.VERTEX_SHADER)
    for names in (["gl_Position"], ["nothing"], ["p"]):
        with pytest.raises(TrialError, match="stands by itself"):
            without_outputs(source, names)


def test_thirds_are_rebuilt_of_one_map_after_another() -> None:
    source = (
        "#version 330\nuniform sampler2D bumps, waves;\nin vec2 uv;\nout vec4 c;\n"
        "void main() { c = texture(bumps, uv + texture(waves, uv).xy); }\n"
    )
    once = with_third_rebuilt(source, ["bumps"])
    assert once.count("wendascope_direction(") == 2 and "wendascope_direction(texture(bumps" in once
    twice = with_third_rebuilt(once, ["waves"])
    assert twice.count("vec4 wendascope_direction(") == 1 and "wendascope_direction(texture(waves, uv))" in twice
    assert twice.count("\n") == source.count("\n"), "lines stay what they are"
    assert with_third_rebuilt(source, ["colours"]) == source
    handed_on = source.replace("texture(bumps,", "look(bumps,")
    with pytest.raises(TrialError, match="handed on"):
        with_third_rebuilt(handed_on, ["bumps"])


def test_shaders_of_es_are_raised_together() -> None:
    """GLSL ES 1.00 with words that have been taken since is left alone."""
    plain = "attribute vec2 place; varying vec2 at; void main() { at = place; gl_Position = vec4(place, 0.0, 1.0); }"
    raisable(plain)
    raised = in_es_310(plain, fragment=False)
    assert raised.startswith("#version 310 es\n") and "#define varying out" in raised
    newer = in_es_310("#version 320 es\nin vec2 at;", fragment=True, extensions=("GL_EXT_texture_query_lod",))
    assert newer == "#version 320 es\n#extension GL_EXT_texture_query_lod : enable\nin vec2 at;"
    for word in ("texture", "sample", "gl_FragData"):
        with pytest.raises(TrialError, match=word):
            raisable(plain.replace("void main", f"vec4 f() {{ return {word}[0]; }} void main"))


_HANDING_ON = """#version 330
uniform sampler2D a, b, e; uniform sampler2DShadow d;
in vec2 uv; out vec4 c;
vec4 twice(sampler2D s, vec2 at) { return texture(s, at) + textureLod(s, at, 2.0); }
float lit(in sampler2DShadow map, vec3 at) { return texture(map, at); }
vec4 deep(int k, sampler2D first, sampler2D second) { return twice(first, uv) + texture(second, uv); }
vec4 strange(sampler2D q) { return texture(q, uv); }
vec4 strange(sampler2D q, int k) { return texture(q, uv * float(k)); }
void main() { c = deep(1, a, b) + lit(d, vec3(uv, 0.5)) + strange(e) + texture(a, uv); }
"""


def test_samplers_are_followed_into_functions() -> None:
    names = noted_samplers(_HANDING_ON)
    assert names == ["a", "b", "d"], "a function of two forms is not followed"
    noting = with_levels_noted(_HANDING_ON, {name: k for k, name in enumerate(names)}, 7, False)
    assert "deep(1, a, 0, b, 1)" in noting and "lit(d, 2, vec3(uv, 0.5))" in noting
    assert "twice(first, wendascope_slot_first, uv)" in noting and "strange(e)" in noting
    assert "vec4 twice(sampler2D s, int wendascope_slot_s, vec2 at)" in noting
    assert noting.split("void main")[1].count("\n") == _HANDING_ON.split("void main")[1].count("\n")


@pytest.mark.parametrize(
    "change",
    [
        ("vec4 twice(sampler2D s", "vec4 twice(sampler2D s, vec2 at);\nvec4 twice(sampler2D s"),
        ("textureLod(s, at, 2.0)", "unknown(s)"),
        ("#version 330", "#version 330\n#define AGAIN texture(s, uv)"),
        ("#version 330", "#version 330\n#define AGAIN twice(a, uv)"),
        ("twice(sampler2D s,", "twice(sampler2D s[2],"),
    ],
    ids=["prototype", "unknown use", "macro of the parameter", "macro of the function", "array"],
)
def test_what_is_not_followed_takes_its_samplers_along(change: tuple[str, str]) -> None:
    assert "a" not in noted_samplers(_HANDING_ON.replace(*change))


def test_a_sampler_in_a_macro_is_not_noted() -> None:
    source = _HANDING_ON.replace("out vec4 c;", "out vec4 c;\n#define FINE texture(b, uv * 9.0)")
    assert "b" not in noted_samplers(source)
