"""What a window has worked out in a frame's own process: see `trials/frame_process.py`."""

from __future__ import annotations

import atexit
from pathlib import Path

from wendascope.analysis.draws.breaks import Accepted
from wendascope.analysis.draws.structure import Structure, study
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.shaders.study import ProgramStudy
from wendascope.frame.frame import Frame
from wendascope.measure.records import Survey
from wendascope.measure.survey import REPEATS
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.trials.survey.examine import Examined, examined
from wendascope.trials.survey.stages import Examination, SurveyRun, case_of

_under_way: list[SurveyRun] = []
"""The survey of this process, between two of its stages."""


def study_calls(_task: Task, frame: Frame, accepted: list[Accepted], drawn: Drawn | None) -> Structure:
    """What follows from the calls alone."""
    return study(frame, accepted, drawn)


def study_programs(_task: Task, frame: Frame, drawn: Drawn | None, survey: Survey | None) -> list[ProgramStudy]:
    """Who spends vertices and fragments. Raises MachineError where there is no compiler."""
    return case_of(frame, drawn, survey).study_shaders()


def survey_stage(task: Task, frame: Frame, path: Path, begin: bool, resume: bool) -> Examined | None:
    """Run the next stage of a survey, or with `begin` the first one of a new survey: with `resume`, only what is
    missing of the one that the file has. Returns what is known by then, None before the frame was timed.

    Raises what a required stage raises, FileError, and CancelledError.
    """
    if begin:
        end_survey()
        _under_way.append(SurveyRun(Examination(frame, Replay(path), REPEATS, path), resume=resume))
    run = _under_way[0]
    run.known.task = task
    run.step()
    found = examined(run.known) if run.known.survey is not None else None
    if run.next is None:
        end_survey()
    return found


@atexit.register
def end_survey() -> None:
    """End the replay process of a survey that is over or not wanted any more."""
    for run in _under_way:
        run.known.replay.close()
    _under_way.clear()
