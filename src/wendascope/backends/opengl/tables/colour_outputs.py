"""Which fragment outputs reach a colour of their target, and which steps leave one of its colours undefined."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.backends.opengl.state.draw_buffers import draw_buffers
from wendascope.frame.numbers import Ints, Mask
from wendascope.frame.steps import KINDS
from wendascope.glsl.preprocessor import Dialect, compiled_text
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_FIRST, _LAST = GL.COLOR_ATTACHMENT0, GL.COLOR_ATTACHMENT0 + 31
_BUILT_IN = re.compile(r"\bgl_FragColor\b|\bgl_FragData\s*\[\s*(\w+)\s*\]")


class ColourOutputs:
    """Of the draws of one frame."""

    def __init__(self, frame: OpenGLFrame) -> None:
        self._frame = frame
        self._written: dict[int, set[int] | None] = {}

    def taken(self, step: int) -> set[int]:
        """Numbers of fragment outputs that reach a colour of the step's target which is not masked."""
        return set(self._points(step))

    def _points(self, step: int) -> dict[int, int]:
        """The same, with the number of the attachment that each reaches."""
        frame, call = self._frame, int(self._frame.steps.call[step])
        target = frame.passes.targets[int(frame.passes.of_step[step])]
        if not target.framebuffer:
            reached = {0: 0}
        else:
            points = {a.point - _FIRST for a in target.attachments if _FIRST <= a.point <= _LAST}
            buffers = draw_buffers(frame, target.framebuffer, call)
            reached = {k: b - _FIRST for k, b in enumerate(buffers)} if buffers else {k: k for k in points}
            reached = {number: point for number, point in reached.items() if point in points}
        masks = {number: frame.history.value("color_mask", call, min(number, 7)) for number in reached}
        return {number: reached[number] for number, mask in masks.items() if any(mask or (1,))}

    def undefined(self) -> Mask:
        """Steps whose target takes a colour that their fragment shader does not write, shape (steps,): what is there
        afterwards is undefined, and every build of the shader may leave something else.
        """
        frame = self._frame
        found = np.zeros(len(frame.steps), bool)
        known: dict[tuple[int | None, ...], bool] = {}
        masks = [frame.history.setters("color_mask", np.asarray(frame.steps.call, np.int64), k) for k in range(8)]
        for step in np.flatnonzero(frame.steps.kind == KINDS.index("draw")).tolist():
            program = int(frame.steps.program[step])
            written = self._outputs(program)
            if written is None:
                continue
            framebuffer = frame.passes.targets[int(frame.passes.of_step[step])].framebuffer
            chosen = frame.history.last_event("draw_buffers", int(frame.steps.call[step]), framebuffer, 0)
            key = (program, framebuffer, chosen, *(int(column[step]) for column in masks))
            if key not in known:
                known[key] = bool(self.taken(step) - written)
            found[step] = known[key]
        return found

    def undefined_attachments(self) -> set[tuple[str, int]]:
        """(kind, name) of the attachments that such steps leave undefined."""
        frame = self._frame
        found: set[tuple[str, int]] = set()
        for step in np.flatnonzero(self.undefined()).tolist():
            target = frame.passes.targets[int(frame.passes.of_step[step])]
            written = self._outputs(int(frame.steps.program[step])) or set()
            points = {_FIRST + point for number, point in self._points(step).items() if number not in written}
            found |= {(a.kind, a.name) for a in target.attachments if a.point in points}
        return found

    def _outputs(self, name: int) -> set[int] | None:
        """Numbers of the colours that a program writes; None where all are, or that cannot be told."""
        if name not in self._written:
            record = self._frame.objects.program(name)
            self._written[name] = _outputs_of(record, self._frame.context.dialect) if record else None
        return self._written[name]


def _outputs_of(record: ProgramRecord, dialect: Dialect) -> set[int] | None:
    fragments = [s for s in record.shaders if s.type == GL.FRAGMENT_SHADER]
    if record.binary or len(fragments) != 1 or fragments[0].spirv:
        return None
    text = compiled_text(fragments[0].source, dialect)
    built_in = list(_BUILT_IN.finditer(text))
    if any(m[1] is None or not m[1].isdigit() for m in built_in):
        return None
    if built_in:
        return {int(m[1]) for m in built_in}
    numbers: Ints = np.array([number for number in record.output_numbers.values() if number >= 0], np.int64)
    # without any it may be of a context that does not tell
    return set(numbers.tolist()) if len(numbers) else None
