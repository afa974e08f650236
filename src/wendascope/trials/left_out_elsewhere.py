"""What one frame of a sequence can do without, tried on its other frames as well."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from wendascope.analysis.drawn import Drawn
from wendascope.analysis.findings import Case
from wendascope.analysis.left_out import LeftOut
from wendascope.errors import CancelledError
from wendascope.frame.file import frame_count, load
from wendascope.frame.places import frame_path, place_of
from wendascope.replay.client import Progress, Replay
from wendascope.trials.left_out import find_left_out, pictures_without

_SECONDS_PER_FRAME = 20.0


def try_elsewhere(
    path: Path, items: Sequence[LeftOut], progress: Progress, cancelled: Callable[[], bool]
) -> list[LeftOut]:
    """The same, where those that the frame does not need tell which other frames of its sequence need them. Raises
    FileError, ReplayError, CancelledError.
    """
    found = list(items)
    waiting = [item for item in found if item.needless and not item.frames_tried]
    count, here = frame_count(path), place_of(path)[1]
    for number in range(1, count + 1):
        if number == here or not waiting:
            continue
        if cancelled():
            raise CancelledError
        place = frame_path(path, number)

        def told(what: str, part: float, number: int = number) -> None:
            progress(f"{what}, frame {number} of {count}", (number - 1 + part) / count)

        told("lights and parts of views", 0.0)
        there = {item.same_as: item for item in find_left_out(Case(load(place), Drawn([], [], []), None))}
        asked = [there[item.same_as] for item in waiting if item.same_as in there]
        if not asked:
            continue  # nothing of the kind is drawn there
        with Replay(place) as replay:
            tried = replay.run(pictures_without.asked(asked, _SECONDS_PER_FRAME), told, cancelled)
        results = {item.same_as: item for item in tried}
        for item in waiting:
            result = results.get(item.same_as)
            if result is not None and result.tried and not result.refused:
                item.frames_tried += 1
                if result.pixels:
                    item.needed_in.append(number)
    return found
