"""Measurements that are kept in the file they belong to."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec

from wendascope.frame import file
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey
from wendascope.measure.survey import REPEATS
from wendascope.replay.client import Replay

_KIND = "survey"


def survey_file(
    path: Path,
    repeats: int = REPEATS,
    progress: Callable[[str, float], None] = lambda _what, _part: None,
    cancelled: Callable[[], bool] = lambda: False,
    replay: Replay | None = None,
) -> tuple[Frame, Survey]:
    """Survey a frame and keep the result in its file. Raises any WendascopeError.

    A replay process that is already running may be given; otherwise one is started and ended.
    """
    frame = file.load(path)
    own = None if replay else Replay(path)
    try:
        used = replay or own
        assert used is not None
        result = msgspec.convert(used.run("measure.survey", "survey", progress, cancelled, repeats=repeats), Survey)
    finally:
        if own:
            own.close()
    file.add(path, _KIND, result)
    return frame, result


def stored_survey(path: Path) -> Survey | None:
    """The newest survey in a file, or None. Raises FileError."""
    found = file.added(path, _KIND, Survey)
    return found[-1] if found else None
