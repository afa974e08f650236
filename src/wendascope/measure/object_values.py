"""What textures and render targets hold in the middle of a frame, as numbers."""

from __future__ import annotations

from wendascope.backends.doors import Session
from wendascope.backends.edit import Edit
from wendascope.frame.contents import ImageValues
from wendascope.replay.jobs import remote
from wendascope.task import Task


@remote
def object_values(
    session: Session, job: Task, kind: str, name: int, level: int, layer: int, step: int | None
) -> ImageValues:
    """One layer of one level of a `texture` or `renderbuffer` as it is after a step, or after the whole frame.
    Compressed textures come as colours from 0 to 1, as the driver expands them. Raises ReplayError where it cannot be
    read.
    """
    job.progress("replaying up to the step", 0.1)
    end = None if step is None else int(session.frame.steps.call[step]) + 1
    session.run(session.prepare(Edit(keep_until=end)))
    return session.image_values(kind, name, level, layer)
