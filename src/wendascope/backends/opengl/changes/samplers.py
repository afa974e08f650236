"""Shaders that read some textures in another way than before."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping

import msgspec
import numpy as np

from wendascope.backends.opengl.changes.frame_change import FrameChange
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.errors import TrialError


def rewrite_samplers(
    change: FrameChange, textures: Collection[int], rewritten: Callable[[str, Mapping[str, int]], str]
) -> None:
    """Rewrite all shaders of the programs that read some textures. `rewritten` gets a source and its samplers of them,
    each with its texture. Raises TrialError where a sampler reads several.
    """
    for program, samplers in _samplers(change.frame, textures).items():
        record = change.program(program)
        if record.binary or any(s.spirv or not s.source for s in record.shaders):
            raise TrialError(f"program {program} reads them and was loaded as binary or SPIR-V")
        shaders = [msgspec.structs.replace(s, source=rewritten(s.source, samplers)) for s in record.shaders]
        change.replace_program(program, msgspec.structs.replace(record, shaders=shaders))


def _samplers(frame: OpenGLFrame, textures: Collection[int]) -> dict[int, dict[str, int]]:
    """Program -> its samplers that read one of the textures, with it."""
    found: dict[int, dict[str, int]] = {}
    for use in sampler_uses(frame):
        read = np.unique(use.textures).tolist()
        if not any(t in textures for t in read):
            continue
        if len(read) > 1:
            raise TrialError(f"{use.sampler} of program {use.program} reads different textures from step to step")
        found.setdefault(use.program, {})[use.sampler] = read[0]
    return found
