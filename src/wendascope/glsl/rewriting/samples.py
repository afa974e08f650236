"""Texture samples as the source writes them, and the source with constants in their place."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals
from wendascope.glsl.rewriting._parts import closing, read, spliced

_FUNCTION = re.compile(
    r"(texture|shadow)([123]D|Cube|2DRect|[12]DArray)?(Proj)?(Lod|Grad)?(Offset|Offsets)?(EXT|ARB)?$|texture(Gather\w*)$|texelFetch(Offset)?$"
)


def is_sample(function: str) -> bool:
    """Whether a built-in function of that name samples a texture."""
    return _FUNCTION.match(function) is not None


@dataclass(frozen=True)
class LookUp:
    """Places are characters of the source."""

    first: int
    end: int
    function: str
    sampler: str
    sampler_at: int


def texture_samples(found: Globals) -> list[LookUp]:
    """Every texture sample through a sampler that is named at the outermost level, in the order of the source."""
    samplers = sampler_types(found)
    code = [t for _, t in found.code()]
    rows = []
    for at, token in enumerate(code[:-2]):
        if (
            is_sample(token.text)
            and code[at + 1].text == "("
            and code[at + 2].text in samplers
            and code[at + 3].text in (",", "[")
        ):
            last = closing(code, at + 1)
            rows.append(LookUp(token.at, code[last].at + 1, token.text, code[at + 2].text, code[at + 2].at))
    return rows


def plain_samples(found: Globals, samplers: Collection[str]) -> list[LookUp]:
    """Every texture sample through some two-dimensional samplers. Raises TrialError where one is used in any other way,
    so that not all could be found.
    """
    types = sampler_types(found)
    here = [name for name in samplers if name in types]
    if any(types[name] != "sampler2D" for name in here):
        raise TrialError("a sampler of these textures is no sampler2D")
    rows = [row for row in texture_samples(found) if row.sampler in here]
    if any(row.function.startswith("textureGather") for row in rows):
        raise TrialError("a texture is gathered")
    code = [t for _, t in found.code()]
    declared = [d for d in found.declarations if d.has("uniform")]
    for name in here:
        uses = [t for t in code if t.text == name and not any(d.first <= t.at < d.end for d in declared)]
        if len(uses) != sum(row.sampler == name for row in rows) or name in found.directive_words():
            raise TrialError(f"{name} is handed on or hidden in a macro, so its texture samples cannot be found")
    return rows


def sampler_types(found: Globals) -> dict[str, str]:
    """Sampler -> its type."""
    return {n.text: d.type for d in found.declarations if d.has("uniform") and "sampler" in d.type for n in d.names}


def without_samples(source: str) -> str:
    """Every texture sample gives a constant: what is left is the arithmetic. Raises TrialError where there is none."""
    found = read(source)
    rows = texture_samples(found)
    if not rows:
        raise TrialError("the fragment shader looks nothing up")
    types = sampler_types(found)
    outer = [r for r in rows if not any(o.first < r.first and r.end <= o.end for o in rows)]
    return spliced(
        source,
        [
            (r.first, r.end, _constant(types[r.sampler], r.function) + "\n" * source.count("\n", r.first, r.end))
            for r in outer
        ],
    )


def _constant(sampler: str, function: str) -> str:
    if "Shadow" in sampler:
        return "vec4(0.75)" if function.startswith("shadow") or "Gather" in function else "0.75"
    if sampler.startswith("i"):
        return "ivec4(1)"
    if sampler.startswith("u"):
        return "uvec4(1u)"
    return "vec4(0.5, 0.5, 0.5, 0.75)"
