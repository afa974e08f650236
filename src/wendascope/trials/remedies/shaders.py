"""Draw with changed shaders: with values of the frame written in, or with sources that somebody edited."""

from __future__ import annotations

import msgspec

from wendascope.analysis.findings import Remedy
from wendascope.errors import TrialError
from wendascope.trials.baking import baked, constant_texts
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("bake-uniforms")
def bake_uniforms(change: FrameChange, item: Remedy) -> None:
    record = change.program(item.program)
    steps = [s for s in range(len(change.frame.steps)) if int(change.frame.steps.program[s]) == item.program]
    constants = constant_texts(change.frame, record, steps, item.values)
    if not constants:
        raise TrialError("no uniform of the program has one value in all its steps")
    shaders = [msgspec.structs.replace(s, source=baked(s.source, constants)) if s.source else s for s in record.shaders]
    change.replace_program(item.program, msgspec.structs.replace(record, shaders=shaders))


@remedy("edit-shader")
def edit_shader(change: FrameChange, item: Remedy) -> None:
    record = change.program(item.program)
    known = {shader.type for shader in record.shaders}
    if not {s.stage for s in item.sources} <= known:
        raise TrialError("the program has no such stage")
    texts = {s.stage: s.text for s in item.sources}
    shaders = [msgspec.structs.replace(s, source=texts.get(s.type, s.source), spirv=b"" if s.type in texts else s.spirv) for s in record.shaders]
    change.replace_program(item.program, msgspec.structs.replace(record, shaders=shaders, binary=b""))
