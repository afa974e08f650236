"""One light left out: an element of an array that shaders go through, or a light of the fixed-function pipeline."""

from __future__ import annotations

import struct

import msgspec

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.objects.records import UniformRecord
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.glsl.rewriting import visited_arrays, without_element
from wendascope.glsl.rewriting._parts import OUR_PREFIX
from wendascope.registry import GL

_LOCATION = 0x7E000000
"""Of the uniform that we bring in: no program of the frame has it, the driver here gives it another one."""


@lowers("without-element")
def leave_out_element(change: FrameChange, item: Remedy) -> None:
    """Every shader that the steps use and that goes through an array passes over one of its elements."""
    (array,), element = item.names, int(item.values["element"])
    count = int(item.values["count"]) if "count" in item.values else None
    uniform, found = f"{OUR_PREFIX}without", False
    for name in sorted({int(change.frame.steps.program[step]) for step in item.steps} - {0}):
        record = change.program(name)
        shaders = list(record.shaders)
        for at, shader in enumerate(shaders):
            if shader.source and any(visited.array == array for visited in visited_arrays(shader.source)):
                shaders[at] = msgspec.structs.replace(
                    shader, source=without_element(shader.source, array, element, uniform, count)
                )
        if shaders == record.shaders:
            continue
        if record.binary or name in change.new.changed_programs:
            raise TrialError(f"program {name} has no source of its own to rewrite")
        number = UniformRecord(uniform, GL.INT, 1, [_LOCATION], struct.pack("<i", element))
        change.replace_program(
            name, msgspec.structs.replace(record, shaders=shaders, uniforms=[*record.uniforms, number])
        )
        found = True
    if not found:
        raise TrialError(f"no shader of these steps goes through {array} element by element")


@lowers("light-off")
def switch_off(change: FrameChange, item: Remedy) -> None:
    """One light of the fixed-function pipeline is off in some steps, where it is on."""
    light = GL.LIGHT0 + int(item.values["light"])
    for step in item.steps:
        before, after = CallBatch(), CallBatch()
        before.call("glDisable", light)
        after.call("glEnable", light)
        change.enclose(step, before, after)
