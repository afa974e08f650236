"""Shaders without one of the elements that they go through: they compile, and look at all the others."""

from __future__ import annotations

import pytest

from wendascope.errors import TrialError
from wendascope.glsl.compiler import compile_glsl
from wendascope.glsl.preprocessor import Dialect
from wendascope.glsl.rewriting import visited_arrays, without_element
from wendascope.registry import GL

HEAD = "#version 330 core\nuniform vec4 lamps[6];\nuniform int count;\nuniform int ids[6];\nin vec3 at;\nout vec4 c;\n"
PLAIN = (
    HEAD
    + """void main() {
    vec3 sum = vec3(0.0);
    for (int i = 0; i < count; i++) {
        sum += lamps[i].xyz * lamps[i].w;
    }
    c = vec4(sum, 1.0);
}
"""
)
SINGLE = PLAIN.replace("{\n        sum += lamps[i].xyz * lamps[i].w;\n    }", "sum += lamps[i].xyz;")
INDIRECT = PLAIN.replace("lamps[i]", "lamps[ids[i]]")
BACKWARDS = PLAIN.replace("int i = 0; i < count; i++", "int i = 5; i >= 0; i--")
CHANGING = PLAIN.replace("sum +=", "if (at.x > 2.0) i++; sum +=")
FUNCTION = (
    HEAD
    + """void lit(int which, inout vec3 sum) { sum += lamps[which].xyz; }
void main() {
    vec3 sum = vec3(0.0);
    for (int i = 0; i < count; i++) lit(ids[i], sum);
    c = vec4(sum, 1.0);
}
"""
)


@pytest.mark.parametrize(
    ("source", "by_round"),
    [(PLAIN, True), (SINGLE, True), (INDIRECT, False), (BACKWARDS, False), (CHANGING, True), (FUNCTION, False)],
    ids=["plain", "single statement", "by way of another array", "backwards", "counter changed", "function"],
)
def test_elements_are_found_and_left_out(source: str, by_round: bool) -> None:
    (found,) = visited_arrays(source)
    assert (found.array, found.size, found.by_round) == ("lamps", 6, by_round)
    made = without_element(source, "lamps", 2, "left_out")
    assert made.count("\n") == source.count("\n"), "lines stay what they are"
    compile_glsl(made, GL.FRAGMENT_SHADER, Dialect())


def test_a_plain_loop_runs_a_round_less() -> None:
    assert "i < int(5)" in without_element(PLAIN, "lamps", 2, "u", 6)
    assert "i < int(6)" in without_element(PLAIN, "lamps", 7, "u", 6), "there is no such lamp to leave out"
    assert "(count) - int(2 < int(count))" in without_element(PLAIN, "lamps", 2, "u")
    for source in (INDIRECT, BACKWARDS, CHANGING):
        assert "== 2) continue;" in without_element(source, "lamps", 2, "u", 6)
    assert "== u) return;" in without_element(FUNCTION, "lamps", 2, "u") and "uniform int u;" in without_element(
        FUNCTION, "lamps", 2, "u"
    )


def test_what_goes_through_no_array_is_refused() -> None:
    assert visited_arrays(PLAIN.replace("lamps[i]", "lamps[3]")) == []
    assert visited_arrays(PLAIN.replace("uniform vec4 lamps", "const vec4 lamps")) == []
    with pytest.raises(TrialError, match="does not go through"):
        without_element(PLAIN, "others", 0, "u")
