"""Small pictures of what a step reads and writes, as it is after the step."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.backends.edit import Edit
from wendascope.errors import WendascopeError
from wendascope.frame.contents import ImageValues
from wendascope.measure.exposure import DEPTH, automatic, exposed
from wendascope.replay.jobs import remote
from wendascope.task import Task


@remote
def step_pictures(
    session: Session, job: Task, step: int, images: Sequence[tuple[str, int]], side: int = 160
) -> list[npt.NDArray[np.uint8] | None]:
    """Of (kind, name) of some images their first level and layer, at most `side` pixels in each direction, top row
    first, shape (h, w, 3), with a range that shows what is in them; None of one that cannot be read.
    """
    job.progress("replaying up to the step", 0.1)
    session.run(session.prepare(Edit(keep_until=int(session.frame.steps.call[step]) + 1)))
    found: list[npt.NDArray[np.uint8] | None] = []
    for number, (kind, name) in enumerate(images):
        job.progress("reading what the step uses", number / len(images))
        try:
            values = session.image_values(kind, name, 0, 0)
        except WendascopeError:
            found.append(None)
            continue
        format_ = session.frame.image_format(kind, name)
        found.append(small_picture(values, DEPTH if format_.has_depth else format_.kind, side))
    return found


def small_picture(values: ImageValues, kind: str, side: int) -> npt.NDArray[np.uint8]:
    """Every so many texels of an image, shown in the range that nearly all of them lie in, top row first."""
    by = max(-(-max(values.width, values.height) // side), 1)
    small = ImageValues(values.channels, np.ascontiguousarray(values.values[::by, ::by]))
    return exposed(small, kind, automatic(small, kind, window=False))
