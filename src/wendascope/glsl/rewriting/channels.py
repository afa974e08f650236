"""Samplers of grey textures that become channels of one texture."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from wendascope.glsl.rewriting._parts import read, spliced
from wendascope.glsl.rewriting.samples import plain_samples


@dataclass(frozen=True)
class Channel:
    """Where the grey of a texture lies in the packed one, and the alpha that all its texels have."""

    index: int
    alpha: float


def as_channels(source: str, channels: Mapping[str, Channel]) -> str:
    """Look-ups of these samplers read a channel of the first of them; so equal places are looked up once.

    The samplers have to be bound to the packed texture. Raises TrialError where one is used in any other way.
    """
    rows = plain_samples(read(source), channels)
    if not rows:
        return source
    names = [name for name in channels if any(row.sampler == name for row in rows)]
    first = names[0]
    pieces = []
    for row in rows:
        channel = channels[row.sampler]
        pieces += [
            (row.first, row.first, "vec4(vec3("),
            (row.sampler_at, row.sampler_at + len(row.sampler), first),
            (row.end, row.end, f".{'rgba'[channel.index]}), {channel.alpha:.9g}{'' if channel.alpha % 1 else '.0'})"),
        ]
    return spliced(source, pieces)
