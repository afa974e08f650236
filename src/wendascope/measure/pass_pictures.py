"""Small pictures of every pass as it ends up, all of one run of the frame."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.errors import WendascopeError
from wendascope.frame.steps import KINDS
from wendascope.measure.lenses import Found, Place, lens_named
from wendascope.replay.jobs import remote
from wendascope.task import Task

Image = npt.NDArray[np.uint8]


@remote
def pass_pictures(session: Session, job: Task, width: int = 320, height: int = 240) -> dict[int, Image]:
    """Pass -> its target after its last step, at most so large, top row first, shape (h, w, 3). Passes whose target
    cannot be read back are left out.
    """
    frame, passes = session.frame, session.frame.passes
    colour, depth = lens_named("colour"), lens_named("depth")
    walk = session.walk()
    pictures: dict[int, Image] = {}
    for index, target in enumerate(passes.targets):
        job.progress("pictures of passes", index / len(passes))
        first, last = int(passes.first[index]), int(passes.end[index]) - 1
        walk.run_step(last)
        draws = first + np.flatnonzero(frame.steps.kind[first : last + 1] == KINDS.index("draw"))
        lens = depth if len(draws) and bool(frame.uses.writes_no_colour[draws].all()) else colour
        try:
            found = lens.measure(session, job, Place(target, last))
        except WendascopeError:
            continue
        pictures[index] = np.ascontiguousarray(lens.paint(_reduced(found, width, height)), np.uint8)
    walk.finish()
    return pictures


def _reduced(found: Found, width: int, height: int) -> Found:
    """What a lens found, with blocks of pixels as one: colours on average, depth by one of them."""
    if "pixels" not in found:
        depth = found["depth"]
        by = _by(depth.shape, width, height)
        return {"depth": np.ascontiguousarray(depth[::by, ::by])}
    pixels = found["pixels"]
    by = _by(pixels.shape, width, height)
    rows, columns = pixels.shape[0] // by, pixels.shape[1] // by
    blocks = pixels[: rows * by, : columns * by].reshape(rows, by, columns, by, pixels.shape[2])
    return {"pixels": blocks.mean(axis=(1, 3)).astype(np.uint8)}


def _by(shape: tuple[int, ...], width: int, height: int) -> int:
    """How many pixels become one along each side; at least one stays."""
    needed = max(-(-shape[0] // height), -(-shape[1] // width), 1)
    return max(1, min(needed, shape[0], shape[1]))
