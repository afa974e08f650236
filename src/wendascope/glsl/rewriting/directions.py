"""Samplers of unit vectors whose third part is rebuilt from the other two."""

from __future__ import annotations

from collections.abc import Collection

from wendascope.glsl.rewriting._parts import OUR_PREFIX, at_top, read, spliced
from wendascope.glsl.rewriting.samples import plain_samples

_REBUILT = f"{OUR_PREFIX}direction"


def with_third_rebuilt(source: str, samplers: Collection[str]) -> str:
    """What these samplers give has red and green as they are, and the blue that makes red, green and blue a unit vector
    (0 to 1 standing for -1 to 1). Raises TrialError where one is used in any other way than to be sampled.
    """
    found = read(source)
    rows = plain_samples(found, samplers)
    if not rows:
        return source
    pieces = []
    for row in rows:
        pieces += [(row.first, row.first, f"{_REBUILT}("), (row.end, row.end, ")")]
    if f"vec4 {_REBUILT}(" in source:  # another texture's samplers were rewritten before
        return spliced(source, pieces)
    declared = (
        f"vec4 {_REBUILT}(vec4 t) {{ vec2 part = t.xy * 2.0 - 1.0;"
        f" return vec4(t.xy, sqrt(max(1.0 - dot(part, part), 0.0)) * 0.5 + 0.5, t.w); }}"
    )
    return spliced(source, [*pieces, at_top(found, declared)])
