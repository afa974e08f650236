"""Which subroutines the shaders of a step run: context state, which every change of the program resets (OpenGL 4.6
core, section 7.10).
"""

from __future__ import annotations

import hashlib
import re
from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.numbers import Mask, Numbers

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame
    from wendascope.backends.opengl.objects.records import ProgramRecord

_RESETS = ("glUseProgram", "glUseProgramObjectARB", "glBindProgramPipeline", "glUseProgramStages")
_DECLARED = re.compile(r"\bsubroutine\s+uniform\b")


def chooses_subroutines(program: ProgramRecord) -> bool:
    """Whether a program calls functions that calls of the frame choose: what is chosen is lost whenever another program
    comes into use.
    """
    return any(_DECLARED.search(shader.source) for shader in program.shaders)


def subroutine_numbers(frame: OpenGLFrame) -> tuple[Numbers, Mask]:
    """(a number for the subroutines that each step runs, the same in other frames; whether they are known: those that
    were chosen before the frame are not), shape (steps,).
    """
    calls, steps = frame.calls, np.asarray(frame.steps.call, np.int64)
    numbers, known = np.zeros(len(steps), np.uint64), np.ones(len(steps), bool)
    choosing = [p.name for p in frame.objects.programs if chooses_subroutines(p)]
    choices = set(calls.calls_of("glUniformSubroutinesuiv").tolist())
    mine = np.isin(frame.steps.program, choosing) | (np.asarray(frame.steps.program) == 0)
    if not choosing:
        return numbers, known
    events = sorted({*calls.calls_of(*_RESETS).tolist(), *choices})
    chosen: dict[int, bytes] = {}
    values: list[int] = []
    for call in events:
        if call in choices:
            chosen[int(calls.argument(call, "shadertype"))] = bytes(calls.argument(call, "indices") or b"")
        else:
            chosen = {}
        values.append(_number(chosen))
    found = np.searchsorted(events, steps) - 1
    numbers[mine & (found >= 0)] = np.array(values, np.uint64)[found[mine & (found >= 0)]]
    known[mine & ((found < 0) | (numbers == 0))] = False
    return numbers, known


def _number(chosen: dict[int, bytes]) -> int:
    """Never 0, but for none."""
    if not chosen:
        return 0
    data = repr(sorted(chosen.items())).encode()
    return int.from_bytes(hashlib.blake2b(data, digest_size=8).digest(), "little") | 1
