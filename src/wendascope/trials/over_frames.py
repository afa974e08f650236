"""What the frames of a sequence come to, pass by pass: by replaying all of them, once for a file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wendascope import records
from wendascope.errors import CancelledError
from wendascope.frame.file import frame_count, load
from wendascope.frame.places import frame_path
from wendascope.measure.pass_results import pass_results
from wendascope.measure.records import SequenceResults
from wendascope.replay.client import Progress, Replay


def sequence_results(
    path: Path,
    progress: Progress = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> SequenceResults:
    """The results kept in the file that a path names, else those of replaying its frames, which are kept then. Raises
    FileError, ReplayError, CancelledError.
    """
    first = frame_path(path, 1)
    known = records.SEQUENCE_RESULTS.newest(first)
    if known is not None:
        return known
    found = SequenceResults([], [])
    count = frame_count(first)
    for number in range(1, count + 1):
        if cancelled():
            raise CancelledError
        place = frame_path(first, number)

        def told(_what: str, part: float, number: int = number) -> None:
            progress(f"results of frame {number} of {count}", (number - 1 + part) / count)

        with Replay(place) as replay:
            found.digests.append(replay.run(pass_results.asked(), told, cancelled))
        found.names.append(list(load(place).passes.short_names))
    records.SEQUENCE_RESULTS.keep(first, found)
    return found
