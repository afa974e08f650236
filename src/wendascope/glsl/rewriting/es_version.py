"""Shaders of OpenGL ES in the version that knows storage buffers, GLSL ES 3.10."""

from __future__ import annotations

import re
from collections.abc import Iterable

from wendascope.errors import TrialError
from wendascope.glsl.rewriting._parts import OUR_PREFIX, read
from wendascope.glsl.upgrade import TAKEN_SINCE

ES = 310
VERSION = re.compile(r"^[ \t]*#[ \t]*version[ \t]+(\d+)[ \t]*(\w*)[^\n]*$", re.MULTILINE)
_FIRST = 100
"""Of ES, and what sources have that name none."""
_SAMPLED = ("2D", "Cube")
_COLOUR = f"{OUR_PREFIX}colour"


def es_version(source: str) -> int:
    """Which GLSL ES a source is written in."""
    found = VERSION.search(source)
    return int(found[1]) if found else _FIRST


def colour_output(source: str) -> str:
    """What a raised fragment shader has to declare before all else."""
    return f"layout(location = 0) out highp vec4 {_COLOUR};" if es_version(source) == _FIRST else ""


def raisable(source: str) -> None:
    """Raises TrialError for GLSL ES 1.00 with words that were free to use, or with several outputs."""
    if es_version(source) == _FIRST:
        words = {t.text for _, t in read(source).code()}
        taken = sorted(words & (TAKEN_SINCE | {"gl_FragData"}))
        if taken:
            raise TrialError(f"the shader is of GLSL ES 1.00 and uses {taken[0]}")


def in_es_310(source: str, fragment: bool, extensions: tuple[str, ...] = ()) -> str:
    """A raisable shader in GLSL ES 3.10, or as late as it was. Shaders of one program have to be raised together."""
    number, found = es_version(source), VERSION.search(source)
    head = f"#version {max(number, ES)} es"
    head += "".join(f"\n#extension {name} : enable" for name in extensions)
    if number == _FIRST:
        head += "".join(f"\n#define {old} {new}" for old, new in _words(fragment).items())
    body = source[found.end() :] if found else "\n" + source
    return (source[: found.start()] if found else "") + head + body


def _words(fragment: bool) -> dict[str, str]:
    words = {"attribute": "in", "varying": "in" if fragment else "out", "gl_FragColor": _COLOUR}
    for kind in _SAMPLED:
        for ending, new in (("", ""), ("Proj", "Proj"), ("Lod", "Lod"), ("LodEXT", "Lod"), ("GradEXT", "Grad")):
            words[f"texture{kind}{ending}"] = f"texture{new}"
    return words | {"texture2DProjLod": "textureProjLod", "texture2DProjLodEXT": "textureProjLod"}


def with_extensions(source: str, names: Iterable[str]) -> str:
    """A shader of OpenGL with some ARB extensions; those older than GLSL 1.30 become GLSL 1.50 compatibility."""
    found = VERSION.search(source)
    number = int(found[1]) if found else 110
    head = found[0] if found and number >= 130 else "#version 150 compatibility"
    head += "".join(f"\n#extension GL_ARB_{name} : enable" for name in names)
    body = source[found.end() :] if found else "\n" + source
    return (source[: found.start()] if found else "") + head + body
