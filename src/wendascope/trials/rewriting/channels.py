"""Samplers of grey textures that become channels of one texture."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from wendascope.errors import TrialError
from wendascope.trials.rewriting._parts import read, spliced
from wendascope.trials.rewriting.samples import sampler_types, texture_samples


@dataclass(frozen=True)
class Channel:
    """Where the grey of a texture lies in the packed one, and the alpha that all its texels have."""

    index: int
    alpha: float


def as_channels(source: str, channels: Mapping[str, Channel]) -> str:
    """Look-ups of these samplers read a channel of the first of them; so equal places are looked up once.

    The samplers have to be bound to the packed texture. Raises TrialError where one is used in any other way.
    """
    found = read(source)
    types = sampler_types(found)
    here = [name for name in channels if name in types]
    if not here:
        return source
    if any(types[name] != "sampler2D" for name in here):
        raise TrialError("a sampler of a grey texture is no sampler2D")
    rows = [row for row in texture_samples(found) if row.sampler in here]
    if any(row.function == "textureGather" for row in rows):
        raise TrialError("a grey texture is gathered")
    code = [t for _, t in found.code()]
    declared = [d for d in found.declarations if d.has("uniform")]
    for name in here:
        uses = [t for t in code if t.text == name and not any(d.first <= t.at < d.end for d in declared)]
        if len(uses) != sum(row.sampler == name for row in rows) or name in found.directive_words():
            raise TrialError(f"{name} is handed on or hidden in a macro, so its texture samples cannot be found")
    first = here[0]
    pieces = []
    for row in rows:
        channel = channels[row.sampler]
        pieces += [
            (row.first, row.first, "vec4(vec3("),
            (row.sampler_at, row.sampler_at + len(row.sampler), first),
            (row.end, row.end, f".{'rgba'[channel.index]}), {channel.alpha:.9g}{'' if channel.alpha % 1 else '.0'})"),
        ]
    return spliced(source, pieces)
