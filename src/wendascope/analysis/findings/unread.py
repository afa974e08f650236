"""Passes whose result nothing in the frame reads."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.analysis.findings._registry import Case, Finding, Remedy, finding
from wendascope.frame.frame import Frame
from wendascope.frame.inputs import sampler_uses
from wendascope.registry import GL

_READS_FRAMEBUFFER = ("glReadPixels", "glReadnPixels", "glBlitFramebuffer", "glBlitFramebufferEXT", "glCopyTexImage2D", "glCopyTexSubImage2D", "glCopyTexSubImage3D")
_READS_WITHOUT_TRACE = ("glGetTexImage", "glGetTextureImage", "glGetTextureSubImage", "glBindImageTexture", "glBindImageTextures", "glCopyImageSubData", "glBindTextures")


@finding("unread-pass")
def unread_passes(case: Case) -> Iterator[Finding]:
    frame = case.frame
    if len(frame.calls.calls_of(*_READS_WITHOUT_TRACE)):
        return
    read = _read_images(frame)
    for index, name in enumerate(case.names):
        target = frame.passes.targets[index]
        images = {(a.kind, a.name) for a in target.attachments}
        if target.framebuffer in (0, frame.reference_framebuffer) or not images or images & read:
            continue
        steps = list(case.steps_of(index))
        if not any(frame.steps.kind_name(s) == "draw" for s in steps):
            continue
        yield Finding(
            id=f"unread-pass-{index}", rule="unread-pass", page="Overdraw",
            title=f"Nothing reads the result of {name}",
            why="No later step samples, copies or reads back what this pass draws into.",
            steps=steps,
            evidence={"steps": len(steps), "fragments": sum(max(case.drawn.steps[s].fragments, 0) for s in steps)},
            estimate_ms=case.time_of(steps), how="the time of the pass",
            price="none",
            conditions="no later frame reads it either: this frame alone cannot tell",
            remedy=Remedy("drop-steps", steps),
        )  # fmt: skip


def _read_images(frame: Frame) -> set[tuple[str, int]]:
    """(kind, name) of every image that a step of the frame reads, at any time: an earlier reader means the frame after."""
    found: set[tuple[str, int]] = set()
    for use in sampler_uses(frame):
        found |= {("texture", int(name)) for name in np.unique(use.textures) if name}
    views = {t.name: t.view_of for t in frame.objects.textures if t.view_of}
    found |= {("texture", views[name]) for kind, name in found if kind == "texture" and name in views}
    calls = frame.calls.calls_of(*_READS_FRAMEBUFFER)
    sources = set(np.unique(frame.history.column("framebuffer", calls, GL.READ_FRAMEBUFFER)).tolist()) if len(calls) else set()
    for target in frame.passes.targets:
        if target.framebuffer in sources:
            found |= {(a.kind, a.name) for a in target.attachments}
    for record in frame.objects.framebuffers:
        if record.name in sources:
            found |= {(a.kind, a.name) for a in record.attachments}
    return found
