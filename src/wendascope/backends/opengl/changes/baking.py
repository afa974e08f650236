"""Shaders with values of the frame written into them, so that what they decide falls away."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.records import ProgramRecord, sampler_targets
from wendascope.backends.opengl.objects.uniform_values import uniform_value
from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals, UnclearSourceError
from wendascope.glsl.std140 import fits, glsl_type

_KINDS = {"f": np.float32, "i": np.int32, "u": np.uint32}


def constant_texts(
    frame: OpenGLFrame, program: ProgramRecord, steps: list[int], given: Mapping[str, float]
) -> dict[str, str]:
    """Uniform -> its value as GLSL, for every scalar and vector that has one value in all the steps. `given`
    overrides.
    """
    calls = [int(frame.steps.call[s]) for s in steps]
    found = {}
    for uniform in program.uniforms:
        if (
            uniform.type in sampler_targets()
            or not fits(uniform.type)
            or len(uniform.locations) != 1
            or "." in uniform.name
            or "[" in uniform.name
        ):
            continue
        letter, count = uniform_type(uniform.type)
        if len(letter) > 1:
            continue
        if uniform.name in given:
            found[uniform.name] = _text(uniform.type, np.full(count, given[uniform.name], _KINDS[letter]))
            continue
        values = {uniform_value(frame, program, uniform, call) for call in calls}
        if len(values) == 1:
            found[uniform.name] = _text(uniform.type, np.frombuffer(values.pop(), _KINDS[letter]))
    return found


def _text(type_: int, values: np.ndarray) -> str:
    name = glsl_type(type_)
    if name.startswith(("bool", "bvec")):
        parts = ["true" if v else "false" for v in values.tolist()]
    elif values.dtype == np.float32:
        if not np.isfinite(values).all():
            raise TrialError("a uniform holds no finite number, which GLSL cannot write")
        parts = [_float(v) for v in values.tolist()]
    else:
        parts = [f"{v}u" if values.dtype == np.uint32 else str(v) for v in values.tolist()]
    return parts[0] if len(parts) == 1 else f"{name}({', '.join(parts)})"


def _float(value: float) -> str:
    """Nine digits name every 32-bit float."""
    text = f"{value:.9g}"
    return text if any(c in text for c in ".e") else text + ".0"


def baked(source: str, constants: Mapping[str, str]) -> str:
    """The source with uniforms as constants. Raises TrialError where its declarations are not understood."""
    try:
        found = Globals(source)
    except UnclearSourceError as error:
        raise TrialError(f"the shader cannot be rewritten: {error}") from error
    for declaration in reversed(
        [d for d in found.declarations if d.has("uniform") and any(n.text in constants for n in d.names)]
    ):
        lines = declaration.without(constants)
        lines += [
            f"const {declaration.precision}{declaration.type} {n.text} = {constants[n.text]};"
            for n in declaration.names
            if n.text in constants
        ]
        source = source[: declaration.first] + " ".join(lines) + source[declaration.end :]
    return source
