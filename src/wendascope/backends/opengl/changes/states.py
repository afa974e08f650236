"""State that a remedy changes for a step and puts back after it."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import VIEWPORTS, decoded
from wendascope.backends.opengl.state.tracker import signed32
from wendascope.errors import TrialError
from wendascope.registry import GL


def integers(frame: OpenGLFrame, pattern: str, call: int, i: int = 0, j: int = 0) -> tuple[int, ...]:
    """A value of the state as whole numbers. Raises TrialError where it is not known."""
    raw = frame.history.value(pattern, call, i, j)
    if raw is None:
        raise TrialError(f"the {pattern.replace('_', ' ')} is not known there")
    return raw


def viewport(frame: OpenGLFrame, call: int) -> tuple[int, int, int, int]:
    """(x, y, width, height). Raises TrialError where there are several, or none is known."""
    _check_alike(frame, "viewport", "glViewportIndexedf", call)
    x, y, width, height = (round(decoded("f", v)) for v in frame.history.value_in_kinds("viewport", call) or ())
    return x, y, width, height


def scissor(frame: OpenGLFrame, call: int) -> tuple[int, int, int, int]:
    """(x, y, width, height), even with the test off. Raises TrialError where there are several, or none is known."""
    _check_alike(frame, "scissor", "glScissorIndexed", call)
    x, y, width, height = (signed32(v) for v in integers(frame, "scissor", call))
    return x, y, width, height


def _check_alike(frame: OpenGLFrame, pattern: str, setter_of_one: str, call: int) -> None:
    raw = integers(frame, pattern, call)
    if Offers(frame.context)(setter_of_one) and any(
        frame.history.value(pattern, call, i) not in (raw, None) for i in range(1, VIEWPORTS)
    ):
        raise TrialError(f"the step draws through several {pattern}s")


_INDEXED = {GL.SCISSOR_TEST: "scissor_test_enabled", GL.BLEND: "blend_enabled"}


def is_on(frame: OpenGLFrame, call: int, capability: int) -> bool:
    """Of those that are switched by index, the first."""
    name = _INDEXED.get(capability)
    raw = frame.history.value(name, call) if name else frame.history.value("capability", call, capability)
    return bool(raw and raw[0])


def bind_texture(batch: CallBatch, unit: int, target: int, texture: int) -> None:
    """Bind a texture to a unit, which is the active one then."""
    batch.call("glActiveTexture", GL.TEXTURE0 + unit)
    batch.call("glBindTexture", target, texture)


def active_texture(frame: OpenGLFrame, call: int) -> int:
    """The texture unit that a call finds active."""
    return frame.history.number("active_texture", call, missing=GL.TEXTURE0) or GL.TEXTURE0


def first_colour(frame: OpenGLFrame, step: int) -> TextureRecord | None:
    """The texture that takes a step's first colour; None for the window and renderbuffers."""
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    names = [a.name for a in target.attachments if a.kind == "texture" and a.point == GL.COLOR_ATTACHMENT0]
    return next((r for name in names if (r := frame.objects.texture(name)) is not None and r.images), None)


def samples(frame: OpenGLFrame, step: int) -> int:
    """Of the target of a step; 0 where it has one."""
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    if not target.framebuffer:
        return frame.default_framebuffer.samples
    renderbuffers = {r.name: r.samples for r in frame.objects.renderbuffers}
    for attachment in target.attachments:
        record = frame.objects.texture(attachment.name) if attachment.kind == "texture" else None
        of_texture = record.images[0].samples if record is not None and record.images else 0
        found = of_texture or (renderbuffers.get(attachment.name, 0) if attachment.kind == "renderbuffer" else 0)
        if found:
            return found
    return 0
