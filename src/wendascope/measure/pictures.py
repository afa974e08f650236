"""Pictures of a frame: finished, or as it stands after a step."""

from __future__ import annotations

from typing import Any

import numpy as np

from wendascope.frame.frame import Picture
from wendascope.measure.records import Verification
from wendascope.replay.edit import Edit
from wendascope.replay.progress import Job
from wendascope.replay.session import ReplaySession


def verify(session: ReplaySession, job: Job) -> Verification:
    """Replay the unedited frame and compare it with the reference picture, every byte."""
    job.progress("replaying the frame", 0.2)
    frame = session.frame
    session.run(session.prepare())
    caveats = frame.caveats + session.caveats
    if frame.reference is None:
        return Verification(0, False, 0, 0, [*caveats, "the capture has no reference picture"])
    picture = session.final_picture()
    different, largest = compare_pictures(picture, frame.reference, _alpha_matters(session))
    pixels = frame.reference.width * frame.reference.height
    return Verification(pixels, different == 0, different, largest, caveats)


def _alpha_matters(session: ReplaySession) -> bool:
    """A window without alpha reads back as 1 here and may read back as anything there."""
    return session.frame.reference_framebuffer != 0 or session.frame.default_framebuffer.alpha > 0


def compare_pictures(a: Picture, b: Picture, alpha: bool = True) -> tuple[int, int]:
    """(pixels that differ in any channel, largest difference of a channel); all pixels when sizes differ."""
    if a.pixels.shape != b.pixels.shape:
        return max(a.width * a.height, b.width * b.height), 255
    channels = 4 if alpha else 3
    difference = np.abs(a.pixels[..., :channels].astype(np.int16) - b.pixels[..., :channels])
    return int(np.count_nonzero(difference.any(axis=2))), int(difference.max(initial=0))


def picture_at(session: ReplaySession, job: Job, step: int | None = None, lens: str = "colour") -> dict[str, Any]:
    """The target of a step as it stands after it, or the finished picture.

    Returns `pixels` (height, width, 4) uint8 bottom row first for colour; `depth` (height, width) float32
    for targets without colour or the depth lens; and the target's `name`, `width`, `height`.
    """
    frame = session.frame
    if step is None:
        session.run(session.prepare())
        return {"pixels": session.final_picture().pixels, "name": "finished picture"}
    passes = frame.passes
    target = passes.targets[int(passes.of_step[step])]
    session.run(session.prepare(Edit(keep_until=int(frame.steps.call[step]) + 1)))
    result: dict[str, Any] = {"name": target.name, "width": target.width, "height": target.height}
    shown = session.read_target_depth(target) if lens == "depth" else session.read_target(target)
    if isinstance(shown, Picture):
        result["pixels"] = shown.pixels
    else:
        result["depth"] = shown
    return result
