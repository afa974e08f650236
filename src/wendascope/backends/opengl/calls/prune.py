"""Leaves out contents that no step of the frame can see: of targets that are cleared before anything reads them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.state.state_table import PATTERNS
from wendascope.backends.opengl.tables.cleared import cleared_points
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.frame.steps import KINDS
from wendascope.registry import GL, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame
    from wendascope.backends.opengl.objects.records import BufferRecord, TextureRecord

_CLEAR, _DRAW = KINDS.index("clear"), KINDS.index("draw")
_DEPTH, _STENCIL = GL.DEPTH_ATTACHMENT, GL.STENCIL_ATTACHMENT


def drop_unseen_contents(frame: OpenGLFrame) -> list[str]:
    """Set such contents to None; returns what was left out, in words. Anything doubtful is kept."""
    steps = frame.steps
    if len(steps) == 0:
        return []
    never = len(steps)
    sampled: dict[int, int] = {}
    for read in sampler_uses(frame):
        for name in np.unique(read.textures).tolist():
            first = int(read.steps[np.argmax(read.textures == name)])
            sampled[name] = min(sampled.get(name, never), first)
    # blits, copies and dispatches read in ways that are not followed here
    other = np.flatnonzero((steps.kind != _CLEAR) & (steps.kind != _DRAW))
    limit = int(other[0]) if len(other) else never
    limit = min(limit, _first_step_after_transfers(frame))
    used = first_uses(frame)
    dropped = []
    for texture in frame.objects.textures:
        use = used.get(("texture", texture.name))
        if (
            use is None
            or len(texture.images) != 1
            or texture.images[0].contents is None
            or texture.images[0].depth != 1
        ):
            continue
        step, cleared = use
        if cleared and step < min(limit, sampled.get(texture.name, never)):
            texture.images[0].contents = None
            dropped.append(f"texture {texture.name}")
    for renderbuffer in frame.objects.renderbuffers:
        use = used.get(("renderbuffer", renderbuffer.name))
        if use and use[1] and use[0] < limit and renderbuffer.contents is not None:
            renderbuffer.contents = None
            dropped.append(f"renderbuffer {renderbuffer.name}")
    window = frame.default_framebuffer
    for key, contents in (("color", "color"), ("depth", "depth_contents"), ("stencil", "stencil_contents")):
        use = used.get((key, 0))
        if use and use[1] and use[0] < limit and getattr(window, contents) is not None:
            setattr(window, contents, None)
            dropped.append(f"{key} of the window")
    return dropped


def drop_unused_contents(frame: OpenGLFrame) -> list[str]:
    """Set contents of textures and buffers to None that nothing in the frame names; returns what, in words."""
    buffers, textures = _unused(frame)
    for buffer in buffers:
        buffer.contents = None
    for texture in textures:
        for image in texture.images:
            image.contents = None
    return [f"buffer {b.name}" for b in buffers] + [f"texture {t.name}" for t in textures]


def unused_bytes(frame: OpenGLFrame) -> int:
    """Bytes of contents that nothing in the frame names, before compression."""
    buffers, textures = _unused(frame)
    images = [image.contents for texture in textures for image in texture.images]
    return sum(ref.size for ref in (*(b.contents for b in buffers), *images) if ref is not None)


def _unused(frame: OpenGLFrame) -> tuple[list[BufferRecord], list[TextureRecord]]:
    """Buffers and textures with contents whose names neither a call nor the state before the frame mentions."""
    frame = frame.with_following
    used = {"texture": _named_in_state(frame, "texture"), "buffer": _named_in_state(frame, "buffer")}
    commands = tables().commands
    for command_id in np.unique(frame.calls.ids).tolist():
        rows = np.flatnonzero(frame.calls.ids == command_id)
        for parameter in commands[command_id].parameters:
            if parameter.object_class in used and parameter.kind != "pointer":
                used[parameter.object_class] |= set(
                    np.unique(frame.calls.column(rows, parameter.slot)).astype(np.int64).tolist()
                )
            elif parameter.object_class in used:
                for call in rows.tolist():
                    data = frame.calls.argument(call, parameter.name)
                    used[parameter.object_class] |= (
                        set(np.frombuffer(data, np.uint32).tolist())
                        if isinstance(data, bytes) and len(data) % 4 == 0
                        else set()
                    )
    objects = frame.objects
    used["texture"] |= {a.name for f in objects.framebuffers for a in f.attachments if a.kind == "texture"}
    used["texture"] |= {t.view_of for t in objects.textures if t.name in used["texture"]}
    used["buffer"] |= {a.buffer for v in objects.vertex_arrays for a in v.attributes} | {
        v.element_buffer for v in objects.vertex_arrays
    }
    used["buffer"] |= {b for f in objects.feedbacks for b, _, _ in f.buffers}
    used["buffer"] |= {t.buffer for t in objects.textures if t.name in used["texture"]}
    buffers = [b for b in objects.buffers if b.name not in used["buffer"] and b.contents is not None]
    textures = [
        t for t in objects.textures if t.name not in used["texture"] and any(image.contents for image in t.images)
    ]
    return buffers, textures


def _named_in_state(frame: OpenGLFrame, object_class: str) -> set[int]:
    patterns = [p.name for p in PATTERNS.values() if p.object_class == object_class]
    return {values[0] for pattern in patterns for values in frame.state.get(pattern, {}).values()}


def _first_step_after_transfers(frame: OpenGLFrame) -> int:
    """First step that comes after a call which reads a framebuffer or texture as a whole."""
    calls = frame.calls.calls_of(
        "glReadPixels",
        "glReadnPixels",
        "glGetTexImage",
        "glGetTextureImage",
        "glGetTextureSubImage",
        "glBindImageTexture",
    )
    if len(calls) == 0:
        return len(frame.steps)
    return int(np.searchsorted(frame.steps.call, calls[0]))


def first_uses(frame: OpenGLFrame) -> dict[tuple[str, int], tuple[int, bool]]:
    """(kind, name) of every attachment -> (first step that draws into it, whether that step clears all of it)."""
    steps, passes = frame.steps, frame.passes
    found: dict[tuple[str, int], tuple[int, bool]] = {}
    for step in range(len(steps)):
        target = passes.targets[int(passes.of_step[step])]
        if target.window:
            continue
        points = (
            [("color", 0, GL.COLOR_ATTACHMENT0), ("depth", 0, _DEPTH), ("stencil", 0, _STENCIL)]
            if target.framebuffer == 0
            else [(a.kind, a.name, a.point) for a in target.attachments]
        )
        unseen = [(kind, name, point) for kind, name, point in points if (kind, name) not in found]
        if not unseen:
            continue
        cleared = cleared_points(frame, step) if steps.kind[step] == _CLEAR else None
        whole = (0, 0, target.width, target.height)
        for kind, name, point in unseen:
            if cleared is None:
                if not _untouched(frame, step, point):
                    found[kind, name] = (step, False)
            elif point in cleared:
                found[kind, name] = (step, cleared[point] == whole)
    return found


def _untouched(frame: OpenGLFrame, step: int, point: int) -> bool:
    """Whether a draw can neither read nor write depth or stencil, because the test is off."""
    if point not in (_DEPTH, _STENCIL):
        return False
    cap = GL.DEPTH_TEST if point == _DEPTH else GL.STENCIL_TEST
    return frame.history.number("capability", int(frame.steps.call[step]), cap, missing=1) == 0
