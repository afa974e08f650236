"""Runs on with a file as its user would: verify, survey, findings, a picture, limits of a shader. All of it may
fail in one line only.
"""

from __future__ import annotations

import time
from pathlib import Path

from tests.attacks import Tally
from wendascope.measure.pictures import picture_at, verify
from wendascope.replay.client import Replay
from wendascope.report.survey import survey_document
from wendascope.task import Task
from wendascope.trials.survey.examine import examine_file

SLOWEST_SECONDS = 90.0


def run_on(path: Path, tally: Tally, what: str, seconds: float = SLOWEST_SECONDS) -> str:
    """Returns the error, if one was told."""
    began = time.monotonic()
    with (
        tally.trying(what, "told in one line", seconds + 30, foreign="the replay failed") as this,
        Replay(path) as replay,
    ):
        replay.run(verify.asked(), silent_seconds=seconds)
        found = examine_file(path, replay=replay, task=Task(cancelled=lambda: time.monotonic() - began > seconds))
        survey_document(found.frame, found.survey, 16.7, found.drawn, found.findings)
        replay.run(picture_at.asked(step=len(found.frame.steps) // 2), silent_seconds=seconds)
        tally.note("run to the end")
    return this.error
