"""What one frame of a sequence can do without, tried on its other frames as well."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from wendascope.advice.findings import Case
from wendascope.advice.left_out import LeftOut
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.frame.file import frame_count, load
from wendascope.frame.frame import Frame
from wendascope.frame.places import frame_path, place_of
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.trials.survey.left_out import find_left_out, pictures_without

_SECONDS_PER_FRAME = 20.0


def try_elsewhere(path: Path, items: Sequence[LeftOut], task: Task) -> list[LeftOut]:
    """The same, where those that the frame does not need tell which other frames of its sequence need them. Raises
    FileError, ReplayError, CancelledError.
    """
    found = list(items)
    waiting = [item for item in found if item.needless and not item.frames_tried]
    count, here = frame_count(path), place_of(path)[1]
    with Replay(path) as replay:
        for number in range(1, count + 1):
            if number == here or not waiting:
                continue
            of_frame = task.one_of("frame", number, count)
            of_frame.progress("lights and parts of views", 0.0)
            there = {item.same_as: item for item in _all_of(load(frame_path(path, number)))}
            asked = [there[item.same_as] for item in waiting if item.same_as in there]
            if not asked:
                continue  # nothing of the kind is drawn there
            replay.turn_to(number)
            tried = replay.run(pictures_without.asked(asked, _SECONDS_PER_FRAME), of_frame)
            results = {item.same_as: item for item in tried}
            for item in waiting:
                result = results.get(item.same_as)
                if result is not None and result.tried and not result.refused:
                    item.frames_tried += 1
                    if result.pixels:
                        item.needed_in.append(number)
    return found


def _all_of(frame: Frame) -> list[LeftOut]:
    return find_left_out(Case(frame, Drawn([], [], []), None))
