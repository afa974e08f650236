"""Small pictures of every pass as it ends up, all of one run of the frame."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.errors import WendascopeError
from wendascope.frame.steps import KINDS
from wendascope.measure.exposure import automatic, exposed
from wendascope.measure.lenses import Found, Place, lens_named
from wendascope.replay.jobs import remote
from wendascope.task import Task

Image = npt.NDArray[np.uint8]


@remote
def pass_pictures(session: Session, job: Task, width: int = 320, height: int = 240) -> dict[int, Image]:
    """Pass -> its target after its last step, at most so large, top row first, shape (h, w, 3), in the range that
    nearly all of it lies in. Passes whose target cannot be read back are left out.
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
        small = _reduced(found, width, height)
        assert lens.values is not None
        values, kind = lens.values(small)
        picture = exposed(values, kind, automatic(values, kind, window=not target.framebuffer))
        pictures[index] = np.ascontiguousarray(picture, np.uint8)
    walk.finish()
    return pictures


def _reduced(found: Found, width: int, height: int) -> Found:
    """What a lens found, with blocks of pixels as one: colours on average, depth by one of them."""
    if "pixels" not in found:
        depth = found["depth"]
        by = _by(depth.shape, width, height)
        return {"depth": np.ascontiguousarray(depth[::by, ::by])}
    by = _by(found["pixels"].shape, width, height)
    small = {"pixels": _averaged(found["pixels"], by)}
    if "values" not in found:
        return small
    whole = found["kind"] in ("uint", "sint")  # names of things have no average
    values = found["values"][::by, ::by] if whole else _averaged(found["values"], by)
    return {**small, "values": np.ascontiguousarray(values), "channels": found["channels"], "kind": found["kind"]}


def _averaged(image: npt.NDArray[Any], by: int) -> npt.NDArray[Any]:
    rows, columns = image.shape[0] // by, image.shape[1] // by
    blocks = image[: rows * by, : columns * by].reshape(rows, by, columns, by, image.shape[2])
    return np.asarray(blocks.mean(axis=(1, 3)).astype(image.dtype))


def _by(shape: tuple[int, ...], width: int, height: int) -> int:
    """How many pixels become one along each side; at least one stays."""
    needed = max(-(-shape[0] // height), -(-shape[1] // width), 1)
    return max(1, min(needed, shape[0], shape[1]))
