"""The best set that holds together, and the order of proofs, with a replay that is made up."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.raster import RasterFrame, quad
from wendascope.advice.findings import Finding
from wendascope.errors import ReplayCrashedError
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Part, Remedy
from wendascope.measure.statistics import Interval
from wendascope.replay import wire
from wendascope.replay.jobs import Asked
from wendascope.task import QUIET
from wendascope.trials.proofs import prove_all
from wendascope.trials.proofs.outcomes import Outcome
from wendascope.trials.proofs.proof import Proof, stored_proofs
from wendascope.trials.proofs.prove_all import Promise, _holding, _ready, held_by_wholes
from wendascope.trials.proofs.verdicts import Verdict


def finding(number: int, estimate: float = 1.0) -> Finding:
    remedy = Remedy("drop-steps", [number])
    return Finding(f"f{number}", "rule", f"finding {number}", "", [number], {}, estimate, "", "", "", remedy)


class MadeUpReplay:
    """Edits change the picture when they hold two findings that exclude each other."""

    def __init__(self, excludes: set[frozenset[int]]) -> None:
        self.excludes, self.runs = excludes, 0

    def run(self, asked: Asked[Any], *_: Any) -> Outcome:
        self.runs += 1
        given = wire.unpack(asked.arguments, asked.job._arguments)  # as the replay process reads it
        steps = {s for r in given.remedies for s in r.steps}
        return Outcome(pixels_different=int(any(pair <= steps for pair in self.excludes)))


def hold(count: int, excludes: set[frozenset[int]]) -> tuple[list[int], list[str], int]:
    replay = MadeUpReplay(excludes)
    held, out = _holding(None, [finding(i) for i in range(count)], replay, QUIET)  # type: ignore[arg-type]
    return [int(f.id[1:]) for f in held], out, replay.runs


def test_all_that_hold_together_stay() -> None:
    assert hold(5, set()) == ([0, 1, 2, 3, 4], [], 1)


def test_the_one_that_excludes_another_is_left_out_and_both_are_named() -> None:
    held, out, runs = hold(8, {frozenset({1, 6})})
    assert held == [0, 1, 2, 3, 4, 5, 7] and out == ["finding 6: excludes finding 1"] and runs <= 12


def test_of_two_the_second_goes() -> None:
    assert hold(2, {frozenset({0, 1})})[:2] == ([0], ["finding 1: excludes finding 0"])


@given(st.integers(2, 9), st.sets(st.frozensets(st.integers(0, 8), min_size=2, max_size=2), max_size=3))
def test_what_is_left_holds_and_costs_few_replays(count: int, excludes: set[frozenset[int]]) -> None:
    held, out, runs = hold(count, excludes)
    assert not any(pair <= set(held) for pair in excludes) or len(held) == 1
    assert runs <= 14 and 0 in held and len(held) + len(out) <= count


def test_the_most_promising_come_first() -> None:
    frame = RasterFrame([quad(0, 0, 8, 8, 0.5), quad(0, 0, 8, 8, 0.4)], 8, 8, {})
    survey: Any = SimpleNamespace(frame_ms=SimpleNamespace(median=10.0), passes=[SimpleNamespace(ms=10.0)])
    rows = [finding(0, 1.0), finding(1, 5.0)]
    for known in (survey, None):
        assert sorted(rows, key=Promise(frame, known, lambda _f: 0.0), reverse=True)[0].id == "f1"


def test_a_proof_corrects_the_estimates_of_its_rule() -> None:
    frame = RasterFrame([quad(0, 0, 8, 8, 0.5)], 8, 8, {})
    promise = Promise(frame, None, lambda _f: 10.0)
    small, large = finding(0, 0.1), finding(1, 0.3)
    assert promise.expected(small) == 0.2, "a small estimate keeps nothing from being tried: the bound counts"
    shown = Proof("f0", Verdict.SAVES, saved_ms=Interval(2.0, 1.9, 2.1))
    promise.learn(small, shown)
    assert promise.expected(large) == pytest.approx(6.0), "twenty times what was expected, as its sibling was"


def test_parts_of_a_whole_that_kept_the_picture_need_no_proof_of_their_own() -> None:
    def batch(name: str, rule: str, *parts: list[int]) -> Finding:
        steps = sorted(s for part in parts for s in part)
        remedy = Remedy("batch", steps, parts=[Part("instances", part) for part in parts])
        return Finding(name, rule, "", "", steps, {}, 1.0, "", "", "", remedy)

    whole = batch("draw-plan", "draw-plan", [0, 1], [2, 3])
    part, other = batch("a", "copies", [0, 1]), batch("b", "copies", [4, 5])
    everything = [whole, part, other]
    for verdict, held in (
        (Verdict.SAVES, {"a": "draw-plan"}),
        (Verdict.NO_DIFFERENCE, {"a": "draw-plan"}),
        (Verdict.CHANGES, {}),
    ):
        assert held_by_wholes([part, other], everything, {"draw-plan": Proof("draw-plan", verdict)}) == held
    assert held_by_wholes([part], everything, {}) == {}


def test_a_driver_that_crashes_on_one_goes_on_with_the_others(depot: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def made_up(_path: Path, _frame: Frame, items: list[Finding], *_: Any) -> Proof:
        if items[0].id == "f1":
            raise ReplayCrashedError("signal 11", 7)
        return Proof(items[0].id, Verdict.REFUSED, "tried")

    monkeypatch.setattr(prove_all, "prove", made_up)
    monkeypatch.setattr(prove_all, "check_driver", lambda *_: None)
    told: list[Proof] = []
    items = [finding(k) for k in range(3)]
    found = prove_all.prove_all(depot, load(depot), items, None, proved=told.append, again=True)  # type: ignore[arg-type]
    assert [p.finding for p in found.proofs] == ["f0", "f1", "f2"] == sorted(p.finding for p in told)
    (crashed,) = [p for p in found.proofs if p.finding == "f1"]
    assert (
        crashed.verdict == Verdict.REFUSED
        and "signal 11" in crashed.reason
        and stored_proofs(depot)["f1"].reason == crashed.reason
    )


def test_batches_wait_for_the_plan_that_holds_them_and_that_is_always_tried() -> None:
    whole = finding(0)
    whole.rule = "draw-plan"
    part, other = finding(1), finding(2)
    part.rule = "copies"
    waiting = [whole, part, other]
    assert _ready(waiting, False, False, False) == [whole, other]
    assert _ready([part, other], True, False, False) == [part, other], "once the plan was tried, its parts may be"
    assert _ready(waiting, False, True, False) == [whole], "late, and still tried"
    assert _ready([whole, part], True, True, False) == [] and _ready(waiting, False, True, True) == []
    assert _ready(waiting, False, False, True) == waiting
