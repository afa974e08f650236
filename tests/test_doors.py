"""What measures, refutes, proves and plans, on a backend that needs no driver and whose clock says what it is told."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from tests.raster import Clear, Draw, RasterFrame, Rasteriser, Step, quad
from tests.raster.backend import RasterSession, SceneChanges, Script, replay_of
from wendascope.advice.findings import Finding
from wendascope.backends.doors import Changes, Counter, Session
from wendascope.errors import TrialError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import INSTANCE, Part, Remedy
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.pass_pictures import pass_pictures
from wendascope.measure.pictures import verify
from wendascope.measure.survey import survey
from wendascope.measure.times import span_counts, step_spans
from wendascope.task import QUIET, Task
from wendascope.trials.experiments.limit_runs import measure_variants
from wendascope.trials.proofs.outcomes import judge_remedies
from wendascope.trials.proofs.proof import Proof, measured_proof
from wendascope.trials.proofs.prove_all import _holding
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.remedies import change_of
from wendascope.trials.survey.examine import examine
from wendascope.trials.survey.refuting import DISPROVED, HOLDS, refute

HIDDEN, SEEN, SMALL, BEHIND, GLASS = 1, 2, 3, 4, 5
SCENE: list[Step] = [
    Clear((0.1, 0.1, 0.2, 1.0)),
    quad(0, 0, 64, 64, 0.9, colour=(0.8, 0.1, 0.1, 1.0)),
    quad(0, 0, 64, 64, 0.5, colour=(0.2, 0.6, 0.3, 1.0)),
    quad(8, 8, 24, 24, 0.3, colour=(0.9, 0.9, 0.2, 1.0)),
    quad(8, 8, 20, 20, 0.7, colour=(0.1, 0.3, 0.9, 1.0)),
    quad(30, 30, 60, 60, 0.2, colour=(1.0, 1.0, 1.0, 0.4), blend=True, writes=False),
]


def scene(*more: Step) -> RasterFrame:
    return RasterFrame([*SCENE, *more])


def drop(*steps: int) -> Remedy:
    return Remedy("drop-steps", list(steps))


def proved(frame: RasterFrame, remedy: Remedy, script: Script | None = None, seconds: float = 0.5) -> Proof:
    return measured_proof(frame, "f", [remedy], replay_of(frame, script), seconds)


def test_the_scene_stands_behind_the_doors() -> None:
    session: Session = RasterSession(scene())
    changes: Changes = SceneChanges(scene(), False)
    assert session.frame.call_count == changes.frame.call_count == len(SCENE)


def test_a_frame_is_verified_by_its_picture() -> None:
    frame = scene()
    replay = replay_of(frame)
    assert replay.run(verify.asked()).identical
    frame.reference = type(frame.reference)(np.zeros_like(frame.reference.pixels))  # type: ignore[misc, union-attr]
    found = replay.run(verify.asked())
    assert not found.identical and found.pixels_different == 64 * 64


def test_a_survey_shows_what_the_clock_was_told() -> None:
    frame = scene()
    script = Script(cost=lambda step, _n: 3.0 if step is frame.scene[SEEN] else 0.5)
    found = replay_of(frame, script).run(survey.asked(4))
    assert found.method == "drain" and found.verification.identical
    assert found.frame_ms.median == pytest.approx(5 * 0.5 + 3.0 + 6 * 0.01)
    assert found.passes[0].ms == pytest.approx(found.frame_ms.median), "one pass is the frame"
    assert found.steps.ms[SEEN] == pytest.approx(3.01) and found.steps.ms[SMALL] == pytest.approx(0.51)


def test_counters_count_each_span() -> None:
    session = RasterSession(scene())
    counted = span_counts(session, step_spans(session), [Counter.SAMPLES, Counter.VERTEX_RUNS])
    assert counted == {Counter.SAMPLES: [0, 64 * 64, 64 * 64, 16 * 16, 0, 30 * 30]}, "only what there is is counted"


def test_layers_measured_are_the_layers_drawn() -> None:
    frame = scene(quad(0, 0, 10, 10, 0.2, colour=(0, 0, 0, 1), target=7), quad(40, 40, 50, 50, 0.1, texture=7))
    session = RasterSession(frame)
    measured, drawn = measure_drawn(session, Task()), Rasteriser(frame).drawn()
    for step, (mine, known) in enumerate(zip(measured.steps, drawn.steps, strict=True)):
        for name in ("kind", "fragments", "survivors", "idle", "effect"):
            assert getattr(mine, name) == getattr(known, name), (step, name)
        if isinstance(frame.scene[step], Draw):
            assert (mine.depth_test, mine.depth_write, mine.depth_func) == (
                known.depth_test, known.depth_write, known.depth_func,
            )  # fmt: skip
    assert measured.steps[HIDDEN].survivors == 0 and not measured.mismatched and not measured.caveats


def test_pictures_of_passes_are_of_their_ends() -> None:
    frame = scene(quad(0, 0, 64, 64, 0.2, colour=(0.0, 1.0, 0.0, 1.0), target=7))
    pictures = replay_of(frame).run(pass_pictures.asked())
    assert len(pictures) == 2 and pictures[1].reshape(-1, 3).tolist() == [[0, 255, 0]] * (64 * 64)


# ---- what changes come to ----------------------------------------------------------------------------------


def outcome(frame: RasterFrame, *remedies: Remedy) -> Any:
    return judge_remedies(replay_of(frame).session, list(remedies))


def test_what_nobody_sees_can_be_left_out() -> None:
    assert outcome(scene(), drop(HIDDEN)).same and outcome(scene(), drop(BEHIND), drop(HIDDEN)).same
    seen = outcome(scene(), drop(SMALL))
    assert seen.pixels_different == 16 * 16 and seen.where == (8, 8, 24, 24) and not seen.by_pattern


def test_a_clear_is_not_needed_only_by_what_was_there_before() -> None:
    """The picture comes out as it was where the frame before left the same; patterns show that."""
    found = outcome(scene(), drop(0))
    assert found.pixels_different and found.by_pattern


def test_a_target_that_nobody_reads_is_left_behind_otherwise() -> None:
    frame = scene(quad(0, 0, 64, 64, 0.5, colour=(0.5, 0.5, 0.5, 1.0), target=7))
    found = outcome(frame, drop(6))
    assert not found.same and found.left_behind == ["texture 7"] and not found.pixels_different


def test_orders_and_joined_draws_are_what_they_say() -> None:
    assert outcome(scene(), Remedy("reorder-steps", [1, 2, 3], order=[3, 2, 1])).same
    assert not outcome(scene(), Remedy("reorder-steps", [2, 3, 4, 5], order=[5, 2, 3, 4])).same
    alike = [quad(4 * k, 0, 4 * k + 3, 3, 0.1, colour=(1.0, 0.0, 0.0, 1.0)) for k in range(6)]
    together = Remedy("batch", list(range(6, 12)), parts=[Part(INSTANCE, list(range(6, 12)))])
    frame = scene(*alike)
    assert outcome(frame, together).same
    change = change_of(frame, [together])
    change.edit()
    assert change.steps_after == len(SCENE) + 1
    with pytest.raises(TrialError, match="differ"):
        outcome(scene(), Remedy("batch", [2, 3], parts=[Part(INSTANCE, [2, 3])]))


def test_what_a_backend_does_not_know_is_refused_by_name() -> None:
    with pytest.raises(TrialError, match="one-texel is not known"):
        outcome(scene(), Remedy("one-texel", [1]))
    proof = proved(scene(), Remedy("one-texel", [1]))
    assert proof.verdict == Verdict.REFUSED and "one-texel" in proof.reason


# ---- proofs ------------------------------------------------------------------------------------------------


def costly(step: int, ms: float, noise: float = 0.02, seed: int = 1) -> Script:
    return Script(lambda what, _n: ms if what == SCENE[step] else 1.0, noise=noise, seed=seed)


def test_a_costly_step_that_nobody_sees_saves_what_it_costs() -> None:
    proof = proved(scene(), drop(HIDDEN), costly(HIDDEN, 4.0))
    assert proof.verdict == Verdict.SAVES and proof.saved_ms is not None
    assert proof.saved_ms.low <= 4.05 and proof.saved_ms.high >= 3.9
    assert proof.pixels_different == 0 and proof.steps_after == len(SCENE) - 1


def test_one_that_costs_nothing_saves_nothing() -> None:
    free = replace(costly(HIDDEN, 0.0, noise=0.001), submit=lambda _step: 0.0)
    assert proved(scene(), drop(HIDDEN), free).verdict == Verdict.NO_DIFFERENCE


def test_a_saving_in_a_picture_that_changes_is_none() -> None:
    proof = proved(scene(), drop(SMALL), costly(SMALL, 9.0))
    assert proof.verdict == Verdict.CHANGES and proof.pixels_different == 256 and proof.saved_ms is None


def test_the_obvious_order_may_cost() -> None:
    """Far things first pass the depth test more often."""
    by_fragments = Script(lambda _what, fragments: 0.1 + fragments / 400, noise=0.01)
    frame = RasterFrame([Clear(), *(quad(0, 0, 64, 64, 0.1 * k, colour=(0.1 * k, 0, 0, 1)) for k in range(1, 6))])
    backwards = Remedy("reorder-steps", [1, 2, 3, 4, 5], order=[5, 4, 3, 2, 1])
    assert proved(frame, backwards, by_fragments).verdict == Verdict.COSTS
    slow = RasterFrame([frame.scene[0], *reversed(frame.scene[1:])])
    assert proved(slow, backwards, by_fragments).verdict == Verdict.SAVES


def test_noise_makes_no_claims() -> None:
    """Of twenty frames in which nothing is saved, none claims more than the error that is allowed for."""
    claims = 0
    for seed in range(20):
        script = replace(costly(HIDDEN, 0.0, noise=0.1, seed=seed), submit=lambda _step: 0.0)
        claims += proved(scene(), drop(HIDDEN), script, seconds=0.05).verdict in (Verdict.SAVES, Verdict.COSTS)
    assert claims <= 2


def test_claims_are_refuted_before_they_are_made() -> None:
    replay = replay_of(scene())
    tried = replay.run(refute.asked([drop(HIDDEN), drop(SMALL), drop(HIDDEN, SMALL, BEHIND)], 20.0))
    assert [t.state for t in tried] == [HOLDS, DISPROVED, HOLDS]
    assert tried[2].remedy is not None and tried[2].remedy.steps == [HIDDEN, BEHIND], "what holds of it is kept"


def test_of_all_together_what_changes_the_picture_is_left_out() -> None:
    frame = scene()
    findings = [
        Finding(f"f{n}", "rule", f"step {n}", "", [n], {}, 1.0, "", "", "", drop(n)) for n in (HIDDEN, BEHIND, SMALL)
    ]
    held, out = _holding(frame, findings, replay_of(frame), QUIET)
    assert [f.id for f in held] == ["f1", "f4"] and len(out) == 1 and out[0].startswith("step 3:")


def test_experiments_are_timed_in_turns() -> None:
    replay = replay_of(scene(), costly(SEEN, 5.0, noise=0.0))
    found = replay.run(measure_variants.asked([HIDDEN, SEEN], [[drop(SEEN)], [Remedy("one-texel", [1])]], 3))
    assert np.median(found.ms[0]) - np.median(found.ms[1]) == pytest.approx(5.01)
    assert np.isnan(found.ms[2]).all() and "one-texel" in found.refused[1] and found.different[0] > 0


def test_a_survey_of_all_stages() -> None:
    frame = scene()
    seen: list[Frame] = []
    found = examine(frame, replay_of(frame, costly(HIDDEN, 6.0)), 2, ended=lambda part: seen.append(part.frame))
    assert len(seen) > 4, "what is known is told as stages end"
    rules = {f.rule for f in found.findings}
    assert "hidden" in rules or "covered" in rules or any(HIDDEN in f.steps for f in found.findings), rules
    assert all(SMALL not in f.steps for f in found.findings if f.remedy and f.remedy.kind == "drop-steps")
    assert not [c for c in found.caveats if "failed" in c], found.caveats
