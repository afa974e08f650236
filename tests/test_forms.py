"""Report forms, from what the demo's frames hold: numbers agree in all of them, and files are as their formats say."""

from __future__ import annotations

import csv
import itertools
import json
from pathlib import Path

import pytest

from wendascope import records
from wendascope.demo.data import demo_files
from wendascope.errors import FileError, UsageError
from wendascope.frame.file import load
from wendascope.report.formats import export, form_named, forms
from wendascope.report.survey import SurveyDocument, survey_document
from wendascope.trials.survey.examine import stored_examination


@pytest.fixture(scope="module")
def document() -> SurveyDocument:
    path = demo_files()[0]
    drawn, findings = stored_examination(path)
    survey = records.SURVEY.newest(path)
    assert survey is not None
    return survey_document(load(path), survey, 16.7, drawn, findings)


def test_the_document_adds_up(document: SurveyDocument) -> None:
    assert sum(p.share for p in document.passes) == pytest.approx(1.0)
    assert sum(p.steps for p in document.passes) == len(document.steps)
    assert [s.index for s in document.steps] == list(range(len(document.steps)))
    assert all(s.ms_low <= s.ms <= s.ms_high for s in document.steps)
    assert len({f.id for f in document.findings}) == len(document.findings) > 10
    for step in document.steps:
        assert step.fragments is None or step.survivors is None or 0 <= step.survivors <= step.fragments


def test_json_says_what_the_document_says(document: SurveyDocument, tmp_path: Path) -> None:
    export("json", document, tmp_path / "frame.json", demo_files()[0])
    read = json.loads((tmp_path / "frame.json").read_text())
    assert read["frame_ms"]["median"] == document.frame_ms.median
    assert [p["name"] for p in read["passes"]] == [p.name for p in document.passes]
    assert {"index", "call", "kind", "name", "pass", "ms", "ms_low", "ms_high"} <= set(read["steps"][0])


def test_csv_has_a_row_for_each_and_the_same_numbers(document: SurveyDocument, tmp_path: Path) -> None:
    export("csv", document, tmp_path / "tables", demo_files()[0])
    tables = {}
    for name in ("passes", "steps", "findings"):
        with (tmp_path / "tables" / f"{name}.csv").open(newline="") as file:
            tables[name] = list(csv.DictReader(file))
    assert [float(row["ms"]) for row in tables["steps"]] == [s.ms for s in document.steps]
    assert [row["name"] for row in tables["passes"]] == [p.name for p in document.passes]
    assert [json.loads(row["steps"]) for row in tables["findings"]] == [f.steps for f in document.findings]
    assert json.loads(tables["findings"][0]["evidence"]) == document.findings[0].evidence


def test_trace_events_lie_in_their_lanes(document: SurveyDocument, tmp_path: Path) -> None:
    export("trace", document, tmp_path / "trace.json", demo_files()[0])
    events = json.loads((tmp_path / "trace.json").read_text())["traceEvents"]
    lanes = {e["tid"]: e["args"]["name"] for e in events if e["ph"] == "M"}
    passes = [e for e in events if e["ph"] == "X" and lanes[e["tid"]].startswith("passes")]
    assert [e["name"] for e in passes] == [p.name for p in document.passes]
    for before, after in itertools.pairwise(passes):
        assert after["ts"] == pytest.approx(before["ts"] + before["dur"])
    calls = [e for e in events if e["ph"] == "X" and e not in passes]
    assert len(calls) == len(load(demo_files()[0]).cpu_lane.begin) and all(e["dur"] >= 0 for e in calls)


@pytest.mark.driver
def test_the_page_holds_every_finding_and_no_mark_of_names(document: SurveyDocument, tmp_path: Path) -> None:
    document.passes[0].name = "<b>&sneaky</b>"
    export("html", document, tmp_path / "frame.html", demo_files()[0])
    page = (tmp_path / "frame.html").read_text()
    assert "&lt;b&gt;&amp;sneaky&lt;/b&gt;" in page and "<b>&sneaky" not in page
    assert page.count("data:image/") > len(document.passes) and "http://" not in page and "https://" not in page
    assert f"{document.frame_ms.median:.1f}" in page


def test_a_form_that_is_not_there_is_named_with_those_that_are(document: SurveyDocument, tmp_path: Path) -> None:
    with pytest.raises(UsageError, match="choose one of csv, html, json"):
        form_named("punch card")
    assert [form.name for form in forms()] == sorted(form.name for form in forms())
    (tmp_path / "file").write_text("")
    with pytest.raises(FileError):
        export("csv", document, tmp_path / "file", demo_files()[0])
