"""Fragment shaders of OpenGL ES at medium precision."""

from __future__ import annotations

from wendascope.errors import TrialError
from wendascope.glsl.rewriting._parts import read, spliced


def medium_precision(source: str) -> str:
    """Every `highp` of floats becomes `mediump`. Raises TrialError where there is none."""
    code = [t for _, t in read(source).code()]
    pieces = []
    for at, token in enumerate(code[:-1]):
        if token.text == "highp" and not code[at + 1].text.startswith(
            ("int", "uint", "ivec", "uvec", "sampler", "isampler", "usampler")
        ):
            pieces.append((token.at, token.at + len(token.text), "mediump"))
    if not pieces:
        raise TrialError("the fragment shader asks for no high precision")
    return spliced(source, pieces)
