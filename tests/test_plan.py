"""Recommendations and plans: findings with one cause told once, gains in order, what is reached, exports."""

from __future__ import annotations

import dataclasses
import itertools
import json
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope.advice.estimates import Correction, agrees, correction, correction_of, within_two
from wendascope.advice.findings import Case, Facts, Finding, Trying
from wendascope.advice.recommend import MOST_SHOWN, Gain, Recommendation, Section, State, recommend
from wendascope.advice.rule import known_rules
from wendascope.analysis.geometry.drawn import Drawn, StepDrawn
from wendascope.frame.remedy import Part, Remedy
from wendascope.measure.statistics import Interval
from wendascope.report.plan import PlanReport, gain_text, plan_html, plan_markdown, plan_sarif, plan_text
from wendascope.trials.plan import best_proved, make_plan, recommendations_of, worth_trying
from wendascope.trials.proofs.best_set import best_set, excludes
from wendascope.trials.proofs.proof import Proof, together_name
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.remedies import Claim
from wendascope.trials.remedies import Trying as When
from wendascope.trials.remedies._kinds import known_kinds

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
    return Finding(
        identity, rule, f"{rule} at {steps[:1]}", "why", steps, {}, ms, "how", "price", "conditions",
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


def together(findings: list[str], verdict: str, saved: float | None, submitted: float | None = None) -> Proof:
    found = proof(together_name(findings), verdict, saved, submitted)
    found.together, found.submission_verdict = findings, Verdict.SAVES if submitted else ""
    return found


def test_one_mesh_in_three_passes_is_one_recommendation() -> None:
    frame = frame_of_passes()
    mine = [
        finding(f"copies-{k}", "copies", list(range(7 * k + 1, 7 * k + 7)), 2.0, facts=Facts("", 6, 1))
        for k in range(3)
    ]
    (found,) = recommend(case_of(frame), mine, lambda _f: None, {})
    assert "18 draws in 3 passes could be 3" in found.title and found.passes == [0, 1, 2]
    assert found.findings == ["copies-0", "copies-1", "copies-2"] and found.effort == "draw submission"
    assert found.gpu is not None and found.gpu.ms == pytest.approx(6.0) and found.state is State.UNTRIED


def test_steps_that_two_findings_count_are_counted_once_and_never_above_their_time() -> None:
    frame = frame_of_passes()
    mine = [finding("a", "not-visible", [1, 2, 3, 4], 4.0), finding("b", "not-visible", [3, 4, 5, 6], 4.0)]
    (found,) = recommend(case_of(frame), mine, lambda _f: None, {})
    assert found.gpu is not None and found.gpu.ms == pytest.approx(6.0)
    (more,) = recommend(case_of(frame), [finding("a", "not-visible", [1, 2], 50.0)], lambda _f: None, {})
    assert more.gpu is not None and more.gpu.ms == pytest.approx(2.0), "no more than the steps take"


def test_every_try_is_told_for_what_it_was() -> None:
    frame = frame_of_passes()
    mine = [finding(name, "covered-clear", [step], 3.0) for step, name in ((0, "a"), (7, "b"), (14, "c"), (1, "d"))]
    mine.append(finding("e", "long-loop", [2], 3.0, remedy=Remedy("cut-loops", [2], program=1, loops={1: 2})))
    mine.append(finding("f", "too-fine", [3], None, remedy=None, refused="no buffer holds it"))
    trade = proof("e", Verdict.CHANGES, 0.9)
    trade.pixels_different, trade.pixels_visible, trade.max_difference = 29, 3, 1
    proofs = {
        "a": proof("a", Verdict.SAVES, 0.5),
        "b": proof("b", Verdict.NO_DIFFERENCE, 0.0),
        "c": proof("c", Verdict.NOISE),
    }
    proofs |= {"d": proof("d", Verdict.CHANGES), "e": trade}
    found = {r.findings[0]: r for r in recommendations_of(case_of(frame), mine, proofs)}
    gain = found["a"].gpu
    assert found["a"].state is State.PROVED and gain is not None and gain.proved
    assert (gain.ms, gain.low, gain.high) == pytest.approx((0.5, 0.45, 0.55))
    assert found["b"].small and "no measurable difference" in found["b"].fold
    assert found["c"].state is State.UNCLEAR and not found["c"].small, "it stays on the page"
    assert found["c"].gain == 0
    assert found["d"].section is Section.NOTHING and "changes the picture" in found["d"].fold
    assert found["e"].section is Section.QUALITY and not found["e"].small
    assert (found["e"].pixels, found["e"].visible, found["e"].largest) == (29, 3, 1) and found["e"].gain == 0.9
    assert found["f"].state is State.REFUSED and found["f"].tries[0].words == "no buffer holds it"


def test_a_group_is_proved_where_one_of_it_is_and_says_how_many() -> None:
    mine = [finding("a", "not-visible", [1], 1.0), finding("b", "not-visible", [8], 1.0)]
    (found,) = recommendations_of(case_of(frame_of_passes()), mine, {"a": proof("a", Verdict.SAVES, 0.5)})
    assert found.state is State.PROVED and found.state_text == "proved: 1 of 2"
    assert found.gpu is not None and found.gpu.ms == pytest.approx(0.5) and found.open_gpu == pytest.approx(1.0)


def test_no_more_than_a_dozen_are_above_the_fold() -> None:
    frame = frame_of_passes(9)
    mine = [finding(f"f{k}", "covered-clear", [k], 0.5 + k / 100) for k in range(25)]
    found = recommend(case_of(frame), mine, lambda _f: None, {})
    assert sum(not r.small for r in found) == MOST_SHOWN and [r.gain for r in found] == sorted(
        (r.gain for r in found), reverse=True
    )


def test_the_headline_and_the_budget_count_proofs_alone() -> None:
    frame = frame_of_passes()
    case, now = case_of(frame), (21.0, 5.0)
    mine = [finding("a", "covered-clear", [0, 1, 2, 3], 6.0), finding("b", "covered-clear", list(range(7, 20)), 40.0)]
    chosen = recommendations_of(case, mine, {})
    made = make_plan(case, now, chosen, mine, {}, 20.5)
    assert made.sentence == "21.0 ms, over the budget; nothing is proved yet."
    assert not made.reached and made.gpu_after == 21.0, "what is expected reaches nothing"
    assert made.gpu_expected == pytest.approx(4.0), "and takes no more than its steps take"
    assert "2 changes not tried yet are expected to reach" in made.rest
    proofs = {
        "a": proof("a", Verdict.SAVES, 1.0),
        together_name(["b", "a"]): together(["a", "b"], Verdict.SAVES, 16.5, 1.0),
    }
    chosen = recommendations_of(case, mine, proofs | {"b": proof("b", Verdict.SAVES, 12.0)})
    made = make_plan(case, now, chosen, mine, proofs | {"b": proof("b", Verdict.SAVES, 12.0)}, 5.0)
    assert [s.together for s in made.steps] == [True, True] and made.steps[0].recommendation == "recommend-b"
    assert made.gpu_after == pytest.approx(4.5) and made.cpu_after == pytest.approx(4.0) and made.reached
    assert made.sentence == "16.5 ms saved by proved changes; the budget is reached."
    assert made.rest.startswith("21.0 -> 4.5 ms with 2 changes proved together; the budget is 5.0 ms.")


def test_a_frame_within_its_budget_says_so() -> None:
    case = case_of(frame_of_passes())
    made = make_plan(case, (21.0, 5.0), [], [], {}, 33.3)
    assert made.sentence == "21.0 ms, within the budget; nothing that saves time was found." and made.reached


def test_what_was_tried_together_and_failed_is_not_added_up() -> None:
    case = case_of(frame_of_passes())
    mine = [finding("a", "covered-clear", [0, 1, 2], 2.0), finding("b", "covered-clear", [7, 8, 9], 2.0)]
    proofs = {"a": proof("a", Verdict.SAVES, 2.0), "b": proof("b", Verdict.SAVES, 1.5)}
    chosen = recommendations_of(case, mine, proofs)
    assert make_plan(case, (21.0, 5.0), chosen, mine, proofs, 5.0).gpu_after == pytest.approx(17.5)
    failed = proofs | {together_name(["a", "b"]): together(["a", "b"], Verdict.CHANGES, None)}
    assert make_plan(case, (21.0, 5.0), chosen, mine, failed, 5.0).gpu_after == pytest.approx(19.0)
    assert best_proved(mine, failed).findings == ["a"]


def test_a_plan_of_draws_beats_its_parts() -> None:
    def batch(identity: str, rule: str, *parts: list[int]) -> Finding:
        steps = sorted(s for part in parts for s in part)
        remedy = Remedy("batch", steps, parts=[Part("instances", part) for part in parts])
        return finding(identity, rule, steps, 0.5, remedy=remedy, facts=Facts("", len(steps), len(parts)))

    whole, small = batch("draw-plan", "draw-plan", [1, 2], [8, 9, 10]), batch("a", "mergeable", [8, 9, 10])
    proofs = {"draw-plan": proof("draw-plan", Verdict.SAVES, 1.3, 2.7), "a": proof("a", Verdict.SAVES, 1.4, 0.5)}
    for p in proofs.values():
        p.submission_verdict = Verdict.SAVES
    found = recommendations_of(case_of(frame_of_passes()), [whole, small], proofs)
    assert found[0].findings == ["draw-plan"] and not found[0].small
    assert found[1].small and found[1].fold == "tried as a part of the plan of all draws"
    assert best_proved([whole, small], proofs).findings == ["draw-plan"]


CHANGE = st.tuples(
    st.sets(st.integers(0, 20), min_size=1, max_size=8), st.floats(0.01, 40), st.booleans(),
    st.sampled_from(["covered-clear", "not-visible", "too-fine", "repeated-state"]),
)  # fmt: skip


@given(st.lists(CHANGE, max_size=12))
def test_gains_never_add_up_beyond_what_their_steps_cost(changes: list[tuple[set[int], float, bool, str]]) -> None:
    case = case_of(frame_of_passes())
    case.frame_ms = 21.0
    mine, proofs = [], {}
    for number, (steps, ms, proved, rule) in enumerate(changes):
        mine.append(finding(f"f{number}", rule, sorted(steps), ms))
        if proved:
            proofs[f"f{number}"] = proof(f"f{number}", Verdict.SAVES, ms)
    chosen = recommendations_of(case, mine, proofs)
    made = make_plan(case, (21.0, 5.0), chosen, mine, proofs, 5.0)
    touched = {s for steps, *_ in changes for s in steps}
    assert 21.0 - made.gpu_expected <= len(touched) + 1e-6, "a millisecond a step"
    assert 0 <= made.gpu_expected <= made.gpu_after <= 21.0 and 0 <= made.cpu_expected <= made.cpu_after <= 5.0
    assert all(s.gpu_after <= s.gpu_before + 1e-9 and s.cpu_after <= s.cpu_before + 1e-9 for s in made.steps)
    assert all(a.gpu_after == pytest.approx(b.gpu_before) for a, b in itertools.pairwise(made.steps))
    assert made.proved == 0 or any(f.id in proofs for f in mine)


@given(st.lists(CHANGE, max_size=9), st.data())
def test_the_best_set_is_the_best(changes: list[tuple[set[int], float, bool, str]], data: st.DataObject) -> None:
    mine = [finding(f"f{k}", rule, sorted(steps), ms) for k, (steps, ms, _, rule) in enumerate(changes)]
    pairs = list(itertools.combinations(range(len(mine)), 2))
    apart = {frozenset(p) for p in pairs if data.draw(st.booleans())}

    def excluded(a: Finding, b: Finding) -> bool:
        return frozenset((int(a.id[1:]), int(b.id[1:]))) in apart

    chosen = best_set(mine, lambda f: f.estimate_ms or 0.0, excluded)
    assert not any(excluded(a, b) for a, b in itertools.combinations(chosen, 2))
    best = max(
        (
            sum(mine[k].estimate_ms or 0.0 for k in some)
            for count in range(len(mine) + 1)
            for some in itertools.combinations(range(len(mine)), count)
            if not any(frozenset(p) in apart for p in itertools.combinations(some, 2))
        ),
        default=0.0,
    )
    assert sum(f.estimate_ms or 0.0 for f in chosen) == pytest.approx(best)


def test_changes_of_the_same_steps_exclude_each_other_by_what_they_do() -> None:
    half = finding("a", "fine-full-screen", [3], 1.0, remedy=Remedy("half-size", [3], divide=2))
    order = finding("b", "switches", [2, 3, 4], 1.0, remedy=Remedy("reorder-steps", [2, 3, 4], [4, 3, 2]))
    gone = finding("c", "not-visible", [2, 3, 4, 5], 1.0)
    loop = finding("d", "long-loop", [3], 1.0, remedy=Remedy("cut-loops", [3], program=1, loops={1: 2}))
    elsewhere = finding("e", "fine-full-screen", [9], 1.0, remedy=Remedy("half-size", [9], divide=2))
    assert excludes(half, order) and excludes(gone, half) and excludes(gone, loop)
    assert not excludes(half, loop) and not excludes(half, elsewhere)


def test_the_programs_own_time_goes_with_draws_that_go_and_is_told_apart() -> None:
    case = case_of(frame_of_passes())
    case.step_own_ms = np.where(np.arange(21) < 4, 100.0, 0.0)
    mine = [finding("a", "copies", [0, 1, 2, 3], 1.0, facts=Facts("", 4, 1, own_ms=400.0))]
    # the state that is set for those draws is set between their calls: its time is a part of the same
    mine.append(finding("b", "repeated-state", [], 0.5, remedy=Remedy("drop-repeats", []), facts=Facts(own_ms=90.0)))
    proofs = {"a": proof("a", Verdict.SAVES, 1.0), "b": proof("b", Verdict.SAVES, 0.5, 0.5)}
    chosen = recommendations_of(case, mine, proofs)
    made = make_plan(case, (21.0, 5.0), chosen, mine, proofs, 16.7, program_ms=466.9)
    assert "The program's own code takes 466.9 ms of its thread, of which up to 400.0 ms lie between calls" in made.rest
    assert not made.gpu_after < 19.5, "it is no part of what is proved"


def test_proofs_count_as_parts_of_the_frame_as_it_was_surveyed() -> None:
    frame = frame_of_passes()
    case = case_of(frame)
    case.frame_ms = 21.0
    mine = [finding("a", "covered-clear", list(range(7)), 6.0)]
    slower = msgspec.structs.replace(proof("a", Verdict.SAVES, 8.0), frame_ms_before=Interval(42.0, 41.0, 43.0))
    (found,) = recommendations_of(case, mine, {"a": slower})
    assert found.gpu is not None and found.gpu.ms == pytest.approx(4.0), "a machine half as fast saved twice as much"
    assert make_plan(case, (21.0, 5.0), [found], mine, {"a": slower}, 5.0).gpu_after == pytest.approx(17.0)


def test_passes_that_overlap_count_by_the_frame() -> None:
    case = case_of(frame_of_passes())
    whole = case.time_of(range(21)) or 0.0
    shorter = dataclasses.replace(case, frame_ms=sum(case.pass_ms or []) / 2)
    assert shorter.time_of(range(21)) == pytest.approx(whole / 2)
    assert sum(shorter.passes_in_frame) == pytest.approx(shorter.frame_ms)


def test_what_could_matter_is_tried_whatever_is_expected_of_it() -> None:
    case = case_of(frame_of_passes())
    small = finding("a", "copies", list(range(1, 7)), 0.001)
    advice = finding("b", "per-vertex-work", [1], 5.0, remedy=None)
    stand_in = finding("c", "wide-attributes", [1], None, remedy=Remedy("round-vertices", [1]), less_bytes=1 << 20)
    assert worth_trying(case, [small, advice, stand_in]) == [small]


def test_what_is_for_memory_is_told_by_the_surveys_own_try() -> None:
    case = case_of(frame_of_passes())
    remedy = Remedy("fewer-channels", [1], textures=[1])
    known = [
        finding("a", "spare-channels", [1], None, remedy=remedy, less_bytes=1 << 20, tried=Trying(0, 0)),
        finding("b", "wide-target", [2], None, remedy=Remedy("narrower-target", [2]), less_bytes=9, tried=Trying(4, 2)),
    ]
    found = {r.findings[0]: r for r in recommendations_of(case, known, {})}
    assert found["a"].state is State.PROVED and found["a"].section is Section.MEMORY
    assert found["b"].state is State.CHANGES and found["b"].section is Section.MEMORY
    assert found["b"].tries[0].words == "tried in replay: 4 pixels differ by up to 2 of 255"
    assert worth_trying(case, known) == [], "there is nothing more to prove"


def test_the_document_is_text_html_and_sarif() -> None:
    frame = frame_of_passes()
    case, now = case_of(frame), (21.0, 5.0)
    mine = [finding("a", "covered-clear", [0], 6.0), finding("b", "blend-without-effect", [8], 0.001)]
    mine.append(finding("m", "unused-objects", [], None, remedy=None, refused="nothing to measure", less_bytes=3 << 20))
    found = recommendations_of(case, mine, {})
    made = make_plan(case, now, [r for r in found if not r.small], mine, {}, 16.7)
    report = PlanReport("a <b>.wend", made, found, frame.passes.names, ["stage memory of the survey: failed"])
    text = plan_text(report)
    assert made.sentence in text and "1 other:" in text and "caveat: stage memory of the survey: failed" in text
    assert "Memory: 3.00 MiB less by 1 kind of change" in text
    page = plan_html(report)
    assert "a &lt;b&gt;.wend" in page and "<script" not in page and "http" not in page
    tasks = [line for line in plan_markdown(report).splitlines() if line.startswith("- [ ] ")]
    assert len(tasks) == 2 and "a \\<b\\>.wend" in plan_markdown(report) and "3.00 MiB less" in plan_markdown(report)
    sarif = json.loads(json.dumps(plan_sarif(report)))
    assert sarif["version"] == "2.1.0" and len(sarif["runs"][0]["results"]) == 3
    rules = {r["id"] for r in sarif["runs"][0]["tool"]["driver"]["rules"]}
    assert rules == {"covered-clear", "blend-without-effect", "unused-objects"}
    assert gain_text(Gain(1.234, 1.0, 2.0, False)).startswith("~1.23 (1") and gain_text(None) == ""


# ---- rules and kinds -----------------------------------------------------------------------------------------


def test_no_rule_and_no_kind_is_incomplete() -> None:
    rules, kinds = known_rules(), list(known_kinds.values())
    assert len(rules) >= 55 and len(kinds) >= 45
    for rule in rules:
        assert rule.page in PAGES, rule
        assert rule.cause.words and (not rule.risk or rule.risk[0].islower()), rule
        assert rule.leaves_out is False or rule.joins_draws is False, rule
    for kind in kinds:
        tried = kind.trying is not When.NEVER
        assert not kind.stands_for or tried, f"{kind.name}: nothing but a try stands behind it"
        assert not kind.nowhere_far or kind.claim is Claim.NEARLY, kind
        assert kind.claim is not Claim.EXPERIMENT or not tried, kind
        assert kind.claim is not Claim.SAME or tried or kind.name in MADE_IN_TRIALS, f"{kind.name} is claimed untried"


MADE_IN_TRIALS = {"early-test"}
"""Kinds that no finding carries: they are measured before anything is claimed."""
PAGES = {"Time", "Overdraw", "Geometry", "Batching", "State", "Shaders", "Memory", "Over time"}


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
