"""The demo without a window: the whole path, from the running program to the report."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from pathlib import Path

import msgspec
from PIL import Image

from wendascope.advice.recommend import State, gain_words
from wendascope.demo.data import shipped_file
from wendascope.demo.surface import missing_packages
from wendascope.errors import ReplayError
from wendascope.files import write_atomically
from wendascope.frame.file import load, save
from wendascope.measure.lenses import lens_named
from wendascope.measure.pictures import picture_at, verify
from wendascope.replay.client import Replay
from wendascope.report.formats import export
from wendascope.report.plan import plan_report
from wendascope.report.survey import survey_document
from wendascope.tap.launch import Target, Trigger
from wendascope.task import Task
from wendascope.trials.plan import prove_plan
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.survey.examine import case_of, examine_file

_FRAME = 30
_BUDGET_MS = 16.7
_PROVING_SECONDS = 30.0


class DemoRun(msgspec.Struct):
    frame_file: str
    report: str
    pictures: list[str]
    identical: bool
    sentence: str
    proofs: list[str]
    """What is proved, largest gain first."""
    plan: str
    """What it reaches together."""


def run_demo(folder: Path, task: Task, say: Callable[[str], None], size: str = "") -> DemoRun:
    """Capture, verify, survey, picture and report, saying each step. `size` is width x height of what is drawn,
    where it is not to be that of the demo. Raises any WendascopeError.
    """
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "depot.wend"
    missing = ", ".join(missing_packages())
    if missing:
        say(f"1 of 6  taking the frame that came along: the demo program needs {missing} (wendascope[demo])")
        shutil.copyfile(shipped_file(path.name), path)
    else:
        say("1 of 6  starting the demo program and taking its frame 30")
        options = ["--size", size] if size else []
        with Target([sys.executable, "-m", "wendascope.demo", "--off-screen", *options]) as target:
            save(target.capture(Trigger(frame=_FRAME), 120.0, task), path)
    frame = load(path)
    say(f"        {path}: {frame.call_count:,} calls, {len(frame.steps):,} steps, {len(frame.passes)} passes")
    with Replay(path) as replay:
        say("2 of 6  replaying it and comparing every pixel")
        verification = replay.run(verify.asked(), task)
        if not verification.identical:
            raise ReplayError(
                f"the replay differs in {verification.pixels_different} pixels; please report this machine's driver"
            )
        say(f"        identical, {verification.pixels:,} pixels")
        say("3 of 6  measuring times, layers and triangles")
        examined = examine_file(path, task=task, replay=replay)
        frame = examined.frame
        document = survey_document(frame, examined.survey, _BUDGET_MS, examined.drawn, examined.findings)
        say(f"        {document.sentence}")
        for finding in document.findings[:3]:
            say(f"        {finding.title}")
        say("4 of 6  proving what could matter, and the best of it as one frame")
        case = case_of(frame, examined.drawn, examined.survey)
        prove_plan(path, case, examined.findings, replay, task=task, budget=_PROVING_SECONDS)
        proofs = stored_proofs(path)
        document = survey_document(
            frame, examined.survey, _BUDGET_MS, examined.drawn, examined.findings, proofs, examined.refuted
        )
        say("5 of 6  writing pictures")
        pictures = [_picture(replay, folder / "finished.png", None, task)]
        dearest = max(range(len(frame.passes)), key=lambda i: document.passes[i].ms)
        last = int(frame.passes.end[dearest]) - 1
        pictures.append(
            _picture(replay, folder / f"after-{document.passes[dearest].name.replace(' ', '-')}.png", last, task)
        )
    say("6 of 6  writing the report")
    report = folder / "report.html"
    export("html", document, report, path)
    export("csv", document, folder / "tables", path)
    for written in (*pictures, report, folder / "tables"):
        say(f"        {written}")
    planned = plan_report(path, case, examined.survey, examined.findings, _BUDGET_MS)
    plan, chosen = planned.plan, [item for item in planned.recommendations if not item.small]
    told = [f"{item.state_text}, {gain_words(item)}: {item.title}" for item in chosen if item.state is State.PROVED]
    for line in (*told, plan.sentence, *filter(None, [plan.rest])):
        say(line)
    return DemoRun(str(path), str(report), [str(p) for p in pictures], True, document.sentence, told, plan.sentence)


def _picture(replay: Replay, path: Path, step: int | None, task: Task) -> Path:
    found = replay.run(picture_at.asked(step), task)
    image = Image.fromarray(lens_named("colour").paint(found))
    write_atomically(path, lambda scratch: image.save(scratch, "PNG"))
    return path
