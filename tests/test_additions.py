"""A finding, a remedy, a lens, a page, a form and a measurement are one new file each, as the guide says."""

from __future__ import annotations

import importlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from wendascope import discovery
from wendascope.advice.findings import Case, find
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.desktop.pages import _registry as page_registry
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.file import load
from wendascope.frame.remedy import Remedy
from wendascope.measure.lenses import _registry as lens_registry
from wendascope.measure.pictures import picture_at
from wendascope.measure.statistics import Interval
from wendascope.replay import jobs
from wendascope.replay.progress import Job
from wendascope.report import formats
from wendascope.report.formats import _registry as form_registry
from wendascope.trials.plan import make_plan, recommendations_of, worth_trying
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.remedies import _recipes, change_of
from wendascope.trials.remedies._kinds import known_kinds
from wendascope.trials.survey.refuting import DISPROVED, refute

from .raster import Clear, RasterFrame, Rasteriser, quad

NEW = {
    "wendascope.advice.findings": """
from wendascope.advice.findings._registry import Case, Finding, finding

from wendascope.frame.remedy import Remedy
from wendascope.advice.rule import Effort, Rule, Side

@finding(Rule("added-rule", "Time", Side.GPU, Effort.ASSET, risk="added risk"))
def added(case: Case):
    yield Finding(id="added-1", rule="added-rule", title=f"{len(case.frame.steps)} steps", why="", steps=[1],
                  evidence={}, estimate_ms=0.5, how="", price="", conditions="", remedy=Remedy("added-remedy", [1]))
""",
    "wendascope.trials.remedies": """
from wendascope.trials.remedies._kinds import Claim, Trying
from wendascope.trials.remedies._recipes import recipe

@recipe("added-remedy", Claim.SAME, Trying.TOGETHER)
def added(change, item):
    change.dropped |= set(item.steps)
""",
    "wendascope.measure.lenses": """
import numpy as np
from wendascope.measure.lenses._registry import lens

def paint(found):
    return np.full((4, 6, 3), found["steps"], np.uint8)

@lens("added", "Added", 99, paint, lambda found, x, y: f"{x}, {y}", replays=False)
def measure(session, job, place):
    return {"steps": len(session.frame.steps)}
""",
    "wendascope.desktop.pages": """
from wendascope.desktop.pages._following import FramePage
from wendascope.desktop.pages._registry import page

@page("Added", 65)
class AddedPage(FramePage):
    def __init__(self, workspace, settings):
        super().__init__(workspace, "Was it added?")
        self.follow()

    def figure(self):
        return "7"

    def refresh(self, document):
        self.say("It was added.")
""",
    "wendascope.report.formats": """
from wendascope.report.formats._registry import form

@form("added", "what was added", ".txt")
def write(document, path, frame_file):
    path.write_text("added")
""",
    "wendascope.measure": """
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job
from wendascope.backends.opengl.session import OpenGLSession

@remote
def added(session: OpenGLSession, job: Job, least: int = 0) -> list[int]:
    return [v for v in session.frame.steps.vertices.tolist() if v >= least]
""",
}


@pytest.fixture
def added(tmp_path: Path) -> Iterator[None]:
    """One file in each folder, and gone again afterwards."""
    registries: list[dict[str, Any]] = [
        importlib.import_module("wendascope.advice.findings._registry")._finders,
        importlib.import_module("wendascope.advice.rule")._rules,
        _recipes._recipes,
        known_kinds,
        lens_registry._found,
        page_registry._makers,
        form_registry._forms,
        jobs._known,
    ]
    for name in NEW:
        discovery.import_all(name)
    before = [dict(registry) for registry in registries]
    for name, text in NEW.items():
        folder = tmp_path / name
        folder.mkdir()
        (folder / "zz_added.py").write_text(text)
        importlib.import_module(name).__path__.append(str(folder))
    discovery.import_all.cache_clear()
    yield
    for name in NEW:
        importlib.import_module(name).__path__.pop()
        sys.modules.pop(f"{name}.zz_added", None)
    for registry, kept in zip(registries, before, strict=True):
        registry.clear()
        registry.update(kept)
    discovery.import_all.cache_clear()


def test_a_finding_is_one_file(added: None) -> None:
    frame = RasterFrame([Clear(), quad(0, 0, 9, 9, 0.5)])
    found = find(Case(frame, Rasteriser(frame).drawn(), None))
    assert [f.title for f in found if f.rule == "added-rule"] == ["2 steps"]


def test_a_remedy_is_one_file(added: None, depot: Path) -> None:
    change = change_of(load(depot), [Remedy("added-remedy", [3, 4])])
    assert change.steps_after == len(load(depot).steps) - 2 and change.edit().drop is not None


def test_an_added_rule_and_kind_are_refuted_proved_planned_and_shown(added: None, small: Path) -> None:
    frame = load(small)
    session = OpenGLSession(frame)  # type: ignore[arg-type]
    (tried,) = refute(session, Job(), [Remedy("added-remedy", list(range(len(frame.steps))))], 30.0)
    session.close()
    assert tried.state == DISPROVED and "pixels differ" in tried.reason
    raster = RasterFrame([Clear(), quad(0, 0, 9, 9, 0.5)])
    case = Case(raster, Rasteriser(raster).drawn(), [1.0, 1.0], [2.0], 1.0, 2.0)
    mine = [f for f in find(case) if f.rule == "added-rule"]
    assert worth_trying(case, mine) == mine
    proofs = {
        "added-1": Proof("added-1", Verdict.SAVES, saved_ms=Interval(0.8, 0.7, 0.9), frame_ms_before=Interval(2, 2, 2))
    }
    (found,) = recommendations_of(case, mine, proofs)
    assert (found.effort, found.risk, found.state) == ("asset", "added risk", "proved")
    assert make_plan(case, (2.0, 1.0), [found], mine, proofs, 1.5).rest.startswith("2.0 -> 1.2 ms with 1 change")


def test_a_form_is_one_file(added: None, tmp_path: Path) -> None:
    form = formats.form_named("added")
    assert form.suffix == ".txt" and "added" in [item.name for item in formats.forms()]
    formats.export("added", None, tmp_path / "out.txt", tmp_path)  # type: ignore[arg-type]
    assert (tmp_path / "out.txt").read_text() == "added"


def test_a_lens_is_one_file_and_moves_no_other(added: None, small: Path) -> None:
    shortcuts = {item.name: item.shortcut for item in lens_registry.lenses()}
    assert shortcuts["added"] == "" and shortcuts["colour"] == "Ctrl+1" and shortcuts["layers"] == "Ctrl+5"
    frame = load(small)
    session = OpenGLSession(frame)  # type: ignore[arg-type]
    found = picture_at(session, Job(), step=2, lens="added")
    session.close()
    lens = lens_registry.lens_named("added")
    assert (lens.paint(found) == len(frame.steps)).all() and lens.probe(found, 1, 2) == "1, 2"


def test_a_measurement_is_one_file(added: None, small: Path) -> None:
    job = jobs.job_named("measure.zz_added.added")
    session = OpenGLSession(load(small))  # type: ignore[arg-type]
    asked = job.asked(least=4)
    found = job.result(job.run(session, Job(), asked.arguments))
    session.close()
    assert found == [v for v in load(small).steps.vertices.tolist() if v >= 4] and np.sum(found) > 0


def test_a_page_is_one_file(added: None, window: MainWindow) -> None:
    window.show_page("Added")
    page = window.page("Added")
    assert page.figure() == "7" and page.isVisible()
    assert window.page_titles().index("Added") < window.page_titles().index("Findings")
