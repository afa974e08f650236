"""What of a shader has an effect, as a driver keeps it: shaders that hide it in functions, branches and loops."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.shaders.cost import shader_cost
from wendascope.analysis.shaders.live import live_inputs, live_instructions
from wendascope.glsl.compiler import compile_glsl
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.spirv import OUTPUT, Module, read_module
from wendascope.glsl.stages import Stage
from wendascope.glsl.words import tokens, words_of

HEAD = """#version 450
layout(location = 0) in vec3 normal;
layout(location = 1) in vec2 place;
layout(location = 0) out vec4 colour;
layout(location = 1) out vec4 other;
uniform sampler2D image;
uniform float k;
uniform int n;
"""
DEAR = "pow(normal.x, k)"
"""What is looked for: nothing else in these shaders takes a power."""


def _module(body: str) -> Module:
    return read_module(compile_glsl(HEAD + body, Stage.FRAGMENT, Dialect()))


def _powers(body: str, taken: tuple[str, ...] = ("colour", "other")) -> int:
    """How many powers of a shader have an effect, where some of its outputs are taken."""
    module = _module(body)
    outputs = {v for v, made in module.variables.items() if made.operands[2] == OUTPUT and module.names[v] in taken}
    live = live_instructions(module, outputs)
    return sum(i.opcode == 12 and i.operands[3] == 26 and id(i) in live for i in module.instructions())


LIVE = {
    "stored": f"void main() {{ colour = vec4({DEAR}); }}",
    "through a local": f"void main() {{ float a = {DEAR}; float b = a + 1.0; colour = vec4(b); }}",
    "a part of a vector": f"void main() {{ vec4 a = vec4(0.0); a.y = {DEAR}; colour = a; }}",
    "a global": f"float g; void main() {{ g = {DEAR}; colour = vec4(g); }}",
    "returned": f"float f() {{ return {DEAR}; }} void main() {{ colour = vec4(f()); }}",
    "an inout parameter": (
        f"void f(inout float a) {{ a = {DEAR}; }} void main() {{ float x = 0.0; f(x); colour = vec4(x); }}"
    ),
    "two calls deep": (
        f"void g(out float a) {{ a = {DEAR}; }} void f(out float a) {{ g(a); }}"
        " void main() { float x; f(x); colour = vec4(x); }"
    ),
    "an argument": f"float f(float a) {{ return a * 2.0; }} void main() {{ colour = vec4(f({DEAR})); }}",
    "a condition": f"void main() {{ colour = vec4(0.0); if ({DEAR} > 0.5) colour = vec4(1.0); }}",
    "a condition of &&": f"void main() {{ colour = vec4(0.0); if (k > 0.0 && {DEAR} > 0.5) colour = vec4(1.0); }}",
    "a choice": f"void main() {{ colour = k > 0.0 ? vec4({DEAR}) : vec4(0.0); }}",
    "discarding": f"void main() {{ if ({DEAR} > 0.5) discard; }}",
    "discarding in a function": f"void f() {{ if ({DEAR} > 0.5) discard; }} void main() {{ f(); }}",
    "whether a function is called": (f"void f() {{ discard; }} void main() {{ if ({DEAR} > 0.5) f(); }}"),
    "an early return": f"void main() {{ colour = vec4(0.0); if ({DEAR} > 0.5) return; colour = vec4(1.0); }}",
    "the length of a loop": (
        f"void main() {{ float s = 0.0; for (float i = 0.0; i < {DEAR}; i += 1.0) s += 1.0; colour = vec4(s); }}"
    ),
    "leaving a loop": (
        f"void main() {{ float s = 0.0; for (int i = 0; i < n; i++) {{ if ({DEAR} > s) break; s += 1.0; }}"
        " colour = vec4(s); }"
    ),
    "carried by a loop": (
        "void main() { float s = 1.0; for (int i = 0; i < n; i++) s = pow(s, k); colour = vec4(s); }"
    ),
    "a switch": (
        f"void main() {{ switch (int({DEAR})) {{ case 1: colour = vec4(1.0); break; default: colour = vec4(0.0); }} }}"
    ),
    "an index": f"void main() {{ float a[4] = float[4](1.0, 2.0, 3.0, 4.0); colour = vec4(a[int({DEAR})]); }}",
    "where it is stored": f"void main() {{ colour = vec4(0.0); colour[int({DEAR})] = 1.0; }}",
    "a coordinate": f"void main() {{ colour = texture(image, vec2({DEAR})); }}",
    "depth": f"void main() {{ gl_FragDepth = {DEAR}; }}",
    "a buffer": f"buffer B {{ float b; }}; void main() {{ b = {DEAR}; }}",
    "an image": f"layout(r32f) writeonly uniform image2D i; void main() {{ imageStore(i, ivec2(0), vec4({DEAR})); }}",
    "a structure": f"struct S {{ float a; float b; }}; void main() {{ S s; s.b = {DEAR}; colour = vec4(s.b); }}",
}
DEAD = {
    "kept by nobody": f"void main() {{ float a = {DEAR}; colour = vec4(1.0); }}",
    "a call without effect": f"float f() {{ return {DEAR}; }} void main() {{ f(); colour = vec4(1.0); }}",
    "an argument that is not read": f"float f(float a) {{ return 2.0; }} void main() {{ colour = vec4(f({DEAR})); }}",
    "a parameter that nobody reads": (
        f"void f(out float a) {{ a = {DEAR}; }} void main() {{ float x; f(x); colour = vec4(1.0); }}"
    ),
    "a branch around nothing": f"void main() {{ float a = 0.0; if ({DEAR} > 0.5) a = 1.0; colour = vec4(1.0); }}",
    "a loop around nothing": (
        f"void main() {{ float a = 0.0; for (int i = 0; i < n; i++) a += {DEAR}; colour = vec4(1.0); }}"
    ),
    "a function that is not called": f"float f() {{ return {DEAR}; }} void main() {{ colour = vec4(1.0); }}",
    "a global that nobody reads": f"float g; void main() {{ g = {DEAR}; colour = vec4(1.0); }}",
}


@pytest.mark.parametrize("case", LIVE)
def test_what_has_an_effect_is_live(case: str) -> None:
    assert _powers(LIVE[case]) >= 1


@pytest.mark.parametrize("case", DEAD)
def test_what_has_none_is_not(case: str) -> None:
    assert _powers(DEAD[case]) == 0


def test_outputs_that_nothing_takes_keep_nothing() -> None:
    body = f"void main() {{ colour = vec4({DEAR}); other = vec4(pow(place.x, k)); }}"
    assert _powers(body) == 2 and _powers(body, ("colour",)) == 1 and _powers(body, ()) == 0
    cut = f"void main() {{ vec4 t = texture(image, place); if (t.a < 0.5) discard; colour = t * {DEAR}; }}"
    assert _powers(cut, ()) == 0
    module = _module(cut)
    live = live_instructions(module, set())
    assert live_inputs(module, live) == {"place"}, "what is discarded by is looked up all the same"
    costs = guidelines().operations
    nothing, whole = shader_cost(module, costs, {}, live=live), shader_cost(module, costs, {})
    assert 0 < nothing.total < whole.total and nothing.fetches == whole.fetches == 1


def test_everything_is_live_where_all_is_used() -> None:
    body = "void main() { colour = texture(image, place) * k; other = vec4(normal, 1.0); }"
    module = _module(body)
    costs = guidelines().operations
    live = live_instructions(module)
    assert shader_cost(module, costs, {}, live=live).total == shader_cost(module, costs, {}).total
    assert live_inputs(module, live) == {"place", "normal"}


@given(st.text(st.sampled_from("ab_1.e0x /*\n\\"), max_size=40))
def test_words_are_those_of_the_tokens(source: str) -> None:
    assert words_of(source) == {t.text for t in tokens(source) if t.kind == "word"}
