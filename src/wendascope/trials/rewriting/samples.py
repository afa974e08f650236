"""Texture samples as the source writes them, and the source with constants in their place."""

from __future__ import annotations

import re
from dataclasses import dataclass

from wendascope.errors import TrialError
from wendascope.glsl.globals import Globals
from wendascope.trials.rewriting._parts import closing, read, spliced

_FUNCTION = re.compile(
    r"(texture|shadow)([123]D|Cube|2DRect|[12]DArray)?(Proj)?(Lod|Grad)?(Offset|Offsets)?(EXT|ARB)?$|texture(Gather\w*)$|texelFetch(Offset)?$"
)


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
            _FUNCTION.match(token.text)
            and code[at + 1].text == "("
            and code[at + 2].text in samplers
            and code[at + 3].text in (",", "[")
        ):
            last = closing(code, at + 1)
            rows.append(LookUp(token.at, code[last].at + 1, token.text, code[at + 2].text, code[at + 2].at))
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
