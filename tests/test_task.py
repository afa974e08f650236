"""Progress and cancelling of long work, whole and in parts."""

from __future__ import annotations

import pytest

from wendascope.errors import CancelledError
from wendascope.task import QUIET, Task


def test_parts_tell_where_they_lie_in_the_whole() -> None:
    told: list[tuple[str, float]] = []
    task = Task(lambda what, part: told.append((what, part)))
    second = task.one_of("frame", 2, 4)
    second.progress("reading", 0.0)
    second.part(0.5, 1.0, "proof: ").tell("measuring", 0.5)
    second.quietly().progress("nothing", 0.9)
    assert told == [("frame 2 of 4: reading", 0.25), ("frame 2 of 4: proof: measuring", 0.25 + 0.25 * 0.75)]


def test_whoever_cancels_ends_every_part() -> None:
    asked: list[bool] = []
    task = Task(cancelled=lambda: bool(asked))
    parts = [task, task.part(0.0, 0.5), task.quietly(), task.until(lambda: False)]
    for part in parts:
        part.progress("going on", 0.1)
        assert not part.cancelled
    late = task.until(lambda: True)
    assert late.cancelled and not task.cancelled, "a limit of a part is not one of the whole"
    asked.append(True)
    for part in parts:
        part.tell("may be said", 1.0)
        with pytest.raises(CancelledError):
            part.progress("ends here", 0.2)
    QUIET.progress("goes on for ever", 1.0)
