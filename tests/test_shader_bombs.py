"""Shaders that are small and would take for ever to be followed: each is refused, or followed, within seconds."""

from __future__ import annotations

import time

import pytest

from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.shaders.cost import shader_cost
from wendascope.analysis.shaders.flow import shader_flow
from wendascope.analysis.shaders.live import live_instructions
from wendascope.glsl.compiler import compile_glsl
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.spirv import BadModuleError, check_followable, read_module
from wendascope.registry import GL

_HEAD = "#version 330 core\nout vec4 c; uniform float u; uniform int m;\n"
_LONGEST_SECONDS = 12.0


def _doubling(count: int) -> str:
    calls = "".join(f"float f{k + 1}(float x) {{ return f{k}(x) + f{k}(x); }}\n" for k in range(count))
    return f"{_HEAD}float f0(float x) {{ return x; }}\n{calls}void main() {{ c = vec4(f{count}(u)); }}\n"


def _body(body: str) -> str:
    return f"{_HEAD}void main() {{ float x = u;\n{body}c = vec4(x); }}\n"


def _nested(count: int) -> str:
    loops = "".join(f"for (int i{k} = 0; i{k} < m; i{k}++) {{" for k in range(count))
    return _body(loops + "x += 1.0;" + "}" * count)


BOMBS = {
    "functions that double": (_doubling(40), True),
    "loops in loops": (_nested(200), True),
    "branches in a row": (_body("".join(f"if (u > {k}.0) x = sin(x); else x = cos(x);\n" for k in range(3000))), True),
    "statements": (_body("x += 1.0;\n" * 15_000), False),
    "functions that call": (_doubling(10), False),
    "loops": (_nested(12), False),
}
"""Source, and whether it is refused."""


@pytest.mark.parametrize("name", BOMBS)
def test_shaders_without_end(name: str) -> None:
    source, refused = BOMBS[name]
    module = read_module(compile_glsl(source, GL.FRAGMENT_SHADER, Dialect()))
    began = time.process_time()
    if refused:
        with pytest.raises(BadModuleError, match="followed"):
            check_followable(module)
    else:
        check_followable(module)
        live = live_instructions(module)
        cost = shader_cost(module, guidelines().operations, {}, {}, live)
        assert cost.total > 0
        shader_flow(module, cost.results)
    assert time.process_time() - began < _LONGEST_SECONDS
