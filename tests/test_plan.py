"""Recommendations and plans: findings with one cause told once, gains in order, what is reached, exports."""

from __future__ import annotations

import dataclasses
import itertools
import json
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope.analysis.drawn import Drawn, StepDrawn
from wendascope.analysis.estimates import Correction, agrees, correction, correction_of, within_two
from wendascope.analysis.findings import Case, Finding
from wendascope.analysis.recommend import MOST_SHOWN, Gain, Recommendation, recommend
from wendascope.analysis.remedy import Remedy
from wendascope.measure.statistics import Interval
from wendascope.report.plan import PlanReport, gain_text, plan_html, plan_sarif, plan_text
from wendascope.trials.plan import _never_less, make_plan, plan_name, recommendations_of
from wendascope.trials.proof import Proof
from wendascope.trials.verdicts import CHANGES, NO_DIFFERENCE, NOISE, SAVES

from .raster import Clear, RasterFrame, Step, quad

PAIRS = Path(__file__).parent / "estimates.json"


def frame_of_passes(copies: int = 6) -> RasterFrame:
    """The same quad many times into two textures and the window."""
    scene: list[Step] = []
    for target in (1, 2, 0):
        scene.append(Clear(target=target))
        scene += [quad(0, 0, 9, 9, 0.5, target=target, colour=(k / 9, 0, 0, 1)) for k in range(copies)]
    return RasterFrame(scene, 32, 32)


def finding(identity: str, rule: str, steps: list[int], ms: float | None, **more: object) -> Finding:
    remedy = more.pop("remedy", Remedy("drop-steps", steps))
    page = str(more.pop("page", "Overdraw"))
    evidence = dict(more.pop("evidence", {}))  # type: ignore[call-overload]
    return Finding(
        identity, rule, page, f"{rule} at {steps[:1]}", "why", steps, evidence, ms, "how", "price", "conditions",
        remedy, **more,  # type: ignore[arg-type]
    )  # fmt: skip


def case_of(frame: RasterFrame, ms: float = 1.0) -> Case:
    steps = len(frame.steps)
    drawn = Drawn([StepDrawn() for _ in range(steps)], [], [])
    passes = [float(frame.passes.end[k] - frame.passes.first[k]) * ms for k in range(len(frame.passes))]
    return Case(frame, drawn, [ms] * steps, passes, 2.0)


def proof(identity: str, verdict: str, saved: float | None = None, submitted: float | None = None) -> Proof:
    def interval(value: float | None) -> Interval | None:
        return None if value is None else Interval(value, value * 0.9, value * 1.1)

    found = Proof(identity, verdict)
    found.saved_ms, found.submit_saved_ms = interval(saved), interval(submitted)
    return found


def test_one_mesh_in_three_passes_is_one_recommendation() -> None:
    frame = frame_of_passes()
    mine = [
        finding(
            f"copies-{k}",
            "copies",
            list(range(7 * k + 1, 7 * k + 7)),
            2.0,
            evidence={"draws now": 6, "draws together": 1},
        )
        for k in range(3)
    ]
    (found,) = recommend(case_of(frame), mine, lambda _f: None, {})
    assert "18 draws in 3 passes could be 3" in found.title and found.passes == [0, 1, 2]
    assert found.findings == ["copies-0", "copies-1", "copies-2"] and found.effort == "draw submission"
    assert found.gpu is not None and found.gpu.ms == pytest.approx(6.0) and found.state == "estimated"


def test_steps_that_two_findings_count_are_counted_once_and_never_above_their_time() -> None:
    frame = frame_of_passes()
    mine = [finding("a", "not-visible", [1, 2, 3, 4], 4.0), finding("b", "not-visible", [3, 4, 5, 6], 4.0)]
    (found,) = recommend(case_of(frame), mine, lambda _f: None, {})
    assert found.gpu is not None and found.gpu.ms == pytest.approx(6.0)
    (more,) = recommend(case_of(frame), [finding("a", "not-visible", [1, 2], 50.0)], lambda _f: None, {})
    assert more.gpu is not None and more.gpu.ms == pytest.approx(2.0), "no more than the steps take"


def test_proofs_take_the_place_of_estimates_and_what_shows_no_gain_goes_below_the_fold() -> None:
    frame = frame_of_passes()
    mine = [finding(name, "covered-clear", [step], 3.0) for step, name in ((0, "a"), (7, "b"), (14, "c"), (1, "d"))]
    proofs = {"a": proof("a", SAVES, 1.5), "b": proof("b", NO_DIFFERENCE, 0.0)}
    proofs |= {"c": proof("c", NOISE), "d": proof("d", CHANGES)}
    found = {r.findings[0]: r for r in recommendations_of(case_of(frame), mine, proofs)}
    gain = found["a"].gpu
    assert found["a"].state == "proved" and gain is not None and gain.proved
    assert (gain.ms, gain.low, gain.high) == pytest.approx((1.5, 1.35, 1.65))
    assert found["b"].small and found["b"].fold.startswith("no gain") and found["d"].small
    assert found["c"].state == "estimated" and not found["c"].small


def test_no_more_than_a_dozen_are_above_the_fold() -> None:
    frame = frame_of_passes(9)
    mine = [finding(f"f{k}", "covered-clear", [k], 1.0 + k / 100) for k in range(25)]
    found = recommend(case_of(frame), mine, lambda _f: None, {})
    assert sum(not r.small for r in found) == MOST_SHOWN and [r.gain for r in found] == sorted(
        (r.gain for r in found), reverse=True
    )


def test_a_plan_subtracts_what_is_proved_together_and_else_what_is_estimated() -> None:
    frame = frame_of_passes()
    case, now = case_of(frame), (21.0, 5.0)
    mine = [finding("a", "covered-clear", [0], 6.0), finding("b", "covered-clear", [7], 4.0)]
    chosen = recommendations_of(case, mine, {})
    open_ = make_plan(case, now, chosen, mine, {}, 5.0)
    estimated = sum(r.gain for r in chosen)
    assert (
        open_.gpu_after == pytest.approx(21.0 - estimated)
        and "0 proved; the budget of 5.0 ms is not reached" in open_.sentence
    )
    assert open_.rest.startswith("What is left is mostly")
    together = plan_name(["b", "a"])
    proofs = {"a": proof("a", SAVES, 1.0, 0.5), together: proof(together, SAVES, 16.5, 1.0)}
    made = make_plan(case, now, chosen, mine, proofs, 5.0)
    assert [s.proved for s in made.steps] == [True, True] and made.steps[0].gpu_after == pytest.approx(20.0)
    assert made.gpu_after == pytest.approx(4.5) and made.cpu_after == pytest.approx(4.0)
    assert "2 proved; the budget of 5.0 ms is reached" in made.sentence and made.rest == ""


def test_what_cannot_be_tried_stays_subtracted_after_a_proof() -> None:
    frame = frame_of_passes()
    mine = [
        finding("a", "covered-clear", [0], 6.0, remedy=None),
        finding("b", "covered-clear", [7], 0.9),
        finding("c", "covered-clear", [14], 0.8),
    ]
    case = case_of(frame)
    proofs = {"b": proof("b", SAVES, 0.5), "c": proof("c", SAVES, 0.4), plan_name(["b", "c"]): proof("x", SAVES, 2.0)}
    chosen = [r for r in recommendations_of(case, mine, proofs) if not r.small]
    assert [r.findings[0] for r in chosen] == ["a", "b", "c"] and chosen[0].state == "cannot be tried"
    made = make_plan(case, (21.0, 5.0), chosen, mine, proofs, 5.0)
    assert [round(s.gpu_after, 3) for s in made.steps] == [20.0, 19.5, 18.0]
    assert all(a.gpu_after == b.gpu_before for a, b in itertools.pairwise(made.steps))
    worse = proofs | {plan_name(["b", "c"]): proof("x", SAVES, 0.1)}
    kept = make_plan(case, (21.0, 5.0), chosen, mine, worse, 5.0)
    assert kept.steps[-1].note == "it costs time with those before it" and kept.gpu_after == pytest.approx(19.5)


def test_the_waterfall_never_rises() -> None:
    """Proofs of a plan are noisy: one that shows less than the one before it is taken together with it."""
    frame = frame_of_passes()
    case = case_of(frame)
    mine = [finding(name, "covered-clear", [7 * k], 3.0 - k) for k, name in enumerate("abc")]
    pair, all_three = plan_name(["a", "b"]), plan_name(["a", "b", "c"])
    proofs = {"a": proof("a", SAVES, 4.0), pair: proof(pair, SAVES, 3.6), all_three: proof(all_three, SAVES, 9.0)}
    chosen = recommendations_of(case, mine, proofs)
    made = make_plan(case, (21.0, 5.0), chosen, mine, proofs, 5.0)
    after = [step.gpu_after for step in made.steps]
    assert after[0] == after[1] == pytest.approx(21.0 - 3.8, abs=0.06) and after[2] == pytest.approx(12.0)
    # what is only estimated brings no more than a proof after it with all of them leaves room for
    del proofs[pair]
    made = make_plan(case, (21.0, 5.0), chosen, mine, proofs | {all_three: proof(all_three, SAVES, 4.1)}, 5.0)
    assert [s.proved for s in made.steps] == [True, False, True]
    assert all(a.gpu_after >= b.gpu_after for a, b in itertools.pairwise(made.steps))
    assert made.gpu_after == pytest.approx(16.9)


@given(
    st.lists(
        st.none()
        | st.tuples(st.floats(-5, 50), st.floats(0.1, 9)).map(lambda v: Interval(v[0], v[0] - v[1], v[0] + v[1]))
    )
)
def test_pooled_savings_never_fall_and_keep_their_mean(saved: list[Interval | None]) -> None:
    found = [value for value, item in zip(_never_less(saved), saved, strict=True) if item is not None]
    known = [item for item in saved if item is not None]
    assert all(a <= b + 1e-9 for a, b in itertools.pairwise(found))
    weights = [1 / (item.high - item.low) ** 2 for item in known]
    total = sum(w * item.median for w, item in zip(weights, known, strict=True))
    assert sum(w * f for w, f in zip(weights, found, strict=True)) == pytest.approx(total, abs=1e-6)
    if all(a.median <= b.median for a, b in itertools.pairwise(known)):
        assert found == pytest.approx([item.median for item in known])


def test_proofs_count_as_parts_of_the_frame_as_it_was_surveyed() -> None:
    frame = frame_of_passes()
    case = case_of(frame)
    case.frame_ms = 21.0
    mine = [finding("a", "covered-clear", [0], 6.0)]
    slower = msgspec.structs.replace(proof("a", SAVES, 8.0), frame_ms_before=Interval(42.0, 41.0, 43.0))
    (found,) = recommendations_of(case, mine, {"a": slower})
    assert found.gpu is not None and found.gpu.ms == pytest.approx(4.0), "a machine half as fast saved twice as much"
    assert make_plan(case, (21.0, 5.0), [found], mine, {"a": slower}, 5.0).gpu_after == pytest.approx(17.0)


def test_passes_that_overlap_count_by_the_frame() -> None:
    case = case_of(frame_of_passes())
    whole = case.time_of(range(21)) or 0.0
    shorter = dataclasses.replace(case, frame_ms=sum(case.pass_ms or []) / 2)
    assert shorter.time_of(range(21)) == pytest.approx(whole / 2)
    assert sum(shorter.passes_in_frame) == pytest.approx(shorter.frame_ms)


def test_the_document_is_text_html_and_sarif() -> None:
    frame = frame_of_passes()
    case, now = case_of(frame), (21.0, 5.0)
    mine = [finding("a", "covered-clear", [0], 6.0), finding("b", "outside-view", [8], 0.01)]
    found = recommendations_of(case, mine, {})
    made = make_plan(case, now, [r for r in found if not r.small], mine, {}, 16.7)
    report = PlanReport("a <b>.wend", made, found, frame.passes.names)
    text = plan_text(report)
    assert made.sentence in text and "1 small gain:" in text
    page = plan_html(report)
    assert "a &lt;b&gt;.wend" in page and "<script" not in page and "http" not in page
    sarif = json.loads(json.dumps(plan_sarif(report)))
    assert sarif["version"] == "2.1.0" and len(sarif["runs"][0]["results"]) == 2
    assert {r["id"] for r in sarif["runs"][0]["tool"]["driver"]["rules"]} == {"covered-clear", "outside-view"}
    assert gain_text(Gain(1.234, 1.0, 2.0, False)).startswith("~1.23 (1") and gain_text(None) == ""


# ---- estimates -----------------------------------------------------------------------------------------------


def test_rules_that_are_off_by_more_than_two_are_corrected() -> None:
    assert correction_of([(1.0, 0.9), (2.0, 2.2), (3.0, 2.0)]).factor == 1.0
    off = correction_of([(10.0, 2.0), (20.0, 5.0), (8.0, 1.8)])
    assert 0.15 < off.factor < 0.3 and off.low <= 1.0 <= off.high
    assert correction_of([(1.0, 9.0)]) == Correction(1, 1.0, 0.3, 2.0), "one pair says nothing"
    assert within_two(1.0, 1.9) and within_two(0.05, 0.0) and not within_two(3.0, 1.0) and not within_two(3.0, 0.0)


def test_corrections_bring_more_pairs_within_two_than_without() -> None:
    """The pairs that were kept from frames of engines and of the demo: what was estimated, proved, and its interval."""
    pairs: dict[str, list[tuple[float, float, float, float]]] = {}
    for _, rule, *numbers in json.loads(PAIRS.read_text()):
        pairs.setdefault(rule, []).append(tuple(numbers))
    before = after = allowed = 0
    for mine in pairs.values():
        factor = correction_of([(e, p) for e, p, _, _ in mine]).factor
        before += sum(within_two(e, p) for e, p, _, _ in mine)
        after += sum(within_two(e * factor, p) for e, p, _, _ in mine)
        allowed += sum(agrees(e * factor, low, high) for e, _, low, high in mine)
    total = sum(map(len, pairs.values()))
    assert total >= 150 and after > 1.3 * before and allowed > 0.7 * total
    assert all(correction(rule).pairs == len(mine) for rule, mine in pairs.items()), "what was kept is what is used"


def test_a_proof_allows_what_lies_within_its_interval() -> None:
    assert agrees(3.0, 1.6, 2.0) and agrees(0.26, -0.5, 0.4) and agrees(0.05, 0.0, 0.0)
    assert not agrees(3.0, 0.1, 1.0) and not agrees(3.0, -2.0, 0.0) and not agrees(1.0, 2.5, 4.0)


def test_a_recommendation_survives_its_encoding() -> None:
    (found,) = recommend(case_of(frame_of_passes()), [finding("a", "covered-clear", [0], 6.0)], lambda _f: None, {})
    assert msgspec.json.decode(msgspec.json.encode(found), type=Recommendation) == found
