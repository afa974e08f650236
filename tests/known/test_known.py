"""What Wendascope says of every known-answer program, against its answer."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from wendascope.advice.findings import Finding
from wendascope.trials.proofs.verdicts import Verdict

from ._case import Case, all_cases
from ._looking import Gallery, Looked, calibrate_once

pytestmark = pytest.mark.driver

SAME_PICTURE = (
    "not-visible",
    "unread-pass",
    "outside-view",
    "covered-clear",
    "repeated-state",
    "overwritten-state",
    "copies",
    "mergeable",
    "textured-batch",
    "small-batches",
    "draw-plan",
    "immediate-draws",
)
"""Rules that promise the same picture: what they find is tried, and what is not expected of them is a false finding."""


_BATCHES = {"copies", "mergeable", "textured-batch", "small-batches"}
"""What plans are made of: where these may be found, so may they, and are tried."""


@pytest.fixture(scope="module")
def gallery(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Gallery]:
    made = Gallery(tmp_path_factory.mktemp("known"))
    with pytest.MonkeyPatch.context() as patch:
        for module in ("survey", "samples"):
            patch.setattr(f"wendascope.measure.{module}.calibrate", calibrate_once)
        yield made
    made.close()


@pytest.mark.parametrize("case", all_cases().values(), ids=lambda case: case.name)
def test_known_answer(case: Case, gallery: Gallery) -> None:
    looked = Looked(case.name, gallery.take(case.name))
    try:
        _hold(case, looked)
    finally:
        looked.close()


def _hold(case: Case, looked: Looked) -> None:
    assert looked.survey.verification.identical, looked.survey.verification.sentence
    told = [(f.id, f.title, f.steps) for f in looked.findings]
    for rule in {*SAME_PICTURE, *case.finds}:
        found = looked.of(rule)
        if rule in case.finds:
            _expected(case.finds[rule], found, told)
        elif rule not in case.allow and not (rule == "draw-plan" and _BATCHES & {*case.allow, *case.finds}):
            assert not found, ("false finding", told)
    for rule in case.misses:
        assert not looked.of(rule), f"{rule} is found now: it is no miss any more"
    for finding in looked.findings:
        if finding.remedy is not None and (finding.rule in SAME_PICTURE or finding.rule in case.proofs):
            _tried(case, looked, finding)
    for check in case.checks:
        check(looked)


def _expected(expected: object, found: list[Finding], told: object) -> None:
    if callable(expected):
        assert expected(found), told
    elif isinstance(expected, int):
        assert len(found) == expected, told
    else:
        assert {step for f in found for step in f.steps} == set(expected), told  # type: ignore[call-overload]


def _tried(case: Case, looked: Looked, finding: Finding) -> None:
    proof = looked.prove(finding)
    expected = case.proofs.get(finding.rule)
    if expected is not None:
        assert proof.verdict == expected, (finding.id, proof.verdict, proof.summary)
    else:
        assert proof.verdict not in (Verdict.CHANGES, Verdict.LEAVES, Verdict.REFUSED), (
            "false proof",
            finding.id,
            finding.title,
            proof.verdict,
            proof.summary,
        )


def test_there_are_enough_of_them(tmp_path: Path) -> None:
    assert len(all_cases()) >= 60
