"""What a programmer would write to draw some steps as one: the calls, the layout of the data, the shaders."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from wendascope.backends.doors import Code
from wendascope.backends.opengl.changes.batching.rewrite import STAGES, DrawData, Source
from wendascope.backends.opengl.frame import OpenGLFrame


def calls_code(frame: OpenGLFrame, steps: Sequence[int], lines: str) -> Code:
    """The calls in place of some steps."""
    step = steps[0]
    first = int(frame.steps.call[step - 1]) + 1 if step else 0
    before = len(steps) * max(int(frame.steps.call[step]) - first + 1, 1)
    return Code("Calls", f"// in place of {len(steps)} draws, with about {before:,} calls together\n{lines}", "c")


def batch_code(calls: Code, sources: Mapping[int, Source], changed: Mapping[int, str], data: DrawData) -> list[Code]:
    """All of it: the calls, the data that each draw has, and the shaders that are not what they were."""
    code = [calls]
    if data.members:
        lines = [f"{m.offset:>6}  {m.glsl}" for m in data.members]
        layout = (
            f"{data.draws} structures of {data.stride} bytes each, in a {data.store}, std140\noffset  member\n"
            + "\n".join(lines)
        )
        code.append(Code("Data of each draw", layout))
    for stage, source in sources.items():
        if changed[stage] != source.text:
            code.append(Code(f"{STAGES[stage].capitalize()} shader", changed[stage], "glsl"))
    return code
