"""What is said of measured changes, with fixed numbers: no driver, no noise."""

from __future__ import annotations

import pytest

from wendascope.measure.deciding import Decision
from wendascope.measure.statistics import Interval
from wendascope.trials.proofs import proof as proofs
from wendascope.trials.proofs.outcomes import Ground, Outcome
from wendascope.trials.proofs.proof import Proof, _judge
from wendascope.trials.proofs.runs import Side, Timed, TrialRun
from wendascope.trials.proofs.verdicts import API, SUBMISSION, Judged, Verdict, judge_sides, judge_times
from wendascope.trials.survey.refuting import told

GAIN, LOSS, SMALL, OPEN = Decision.GAIN, Decision.LOSS, Decision.SMALL, Decision.OPEN


@pytest.mark.parametrize(
    ("work", "submission", "api", "expected"),
    [
        (GAIN, OPEN, OPEN, Judged(Verdict.SAVES)),
        (LOSS, GAIN, GAIN, Judged(Verdict.COSTS)),
        (SMALL, SMALL, GAIN, Judged(Verdict.NO_DIFFERENCE)),
        (SMALL, GAIN, OPEN, Judged(Verdict.SAVES, SUBMISSION)),
        (OPEN, LOSS, GAIN, Judged(Verdict.COSTS, SUBMISSION)),
        (OPEN, OPEN, GAIN, Judged(Verdict.SAVES, API)),
        (SMALL, OPEN, OPEN, Judged(Verdict.NO_DIFFERENCE)),
        (OPEN, SMALL, OPEN, Judged(Verdict.NOISE)),
    ],
)
def test_the_work_decides_where_it_can(work: Decision, submission: Decision, api: Decision, expected: Judged) -> None:
    assert judge_sides(work, submission, api) == expected


@pytest.mark.parametrize(
    ("saved", "expected"),
    [
        ((0.5, 1.0, 2.0), Verdict.SAVES),
        ((-2.0, -1.0, -0.1), Verdict.COSTS),
        ((-0.05, 0.0, 0.09), Verdict.NO_DIFFERENCE),
        ((-0.05, 0.0, 0.11), Verdict.NOISE),
        ((-16.0, 2.0, 21.0), Verdict.NOISE),
    ],
)
def test_times_decide(saved: tuple[float, float, float], expected: str) -> None:
    """The frame takes 10 ms: a difference of less than 0.1 ms is none that matters."""
    low, median, high = saved
    assert judge_times(Interval(median=median, low=low, high=high), 10.0).verdict == expected


def _side(saved: float, frame_ms: float) -> Side:
    decision = GAIN if saved > 0.1 else LOSS if saved < -0.1 else SMALL
    return Side(decision, Interval(saved, saved, saved), Interval(frame_ms, frame_ms, frame_ms))


def test_what_overlaps_takes_the_longer_of_the_two() -> None:
    """Drained, 20 ms hold 3 ms of submission and 17 of drawing; a timer query measures the drawing alone."""
    proof = _measured(saved=16.0, submit_saved=0.5)
    assert proof.overlapping_ms == (17.0, 2.5), "submission is the longer one afterwards"
    assert proofs.told(proof)["overlapping_ms_after"] == 2.5
    proof.clock = "timer query"
    assert proof.overlapping_ms == (20.0, 4.0)
    assert _measured(pairs=3).overlapping_ms is None


def _measured(
    saved: float = 2.0,
    outcome: Outcome | None = None,
    ground: Ground | None = None,
    submit_saved: float = 0.0,
    pairs: int = 12,
) -> Proof:
    """A proof without any noise, of a frame of 20 ms that is submitted in 3."""
    work, submission = _side(saved, 20.0), _side(submit_saved, 3.0)
    if pairs < 10:
        work, submission = (Side(OPEN, None, side.frame_ms) for side in (work, submission))
    found = TrialRun(
        times=Timed(work, submission, clock="CPU time", pairs=pairs, seconds=1.0),
        outcome=outcome or Outcome(following=True),
        ground=ground or Ground(),
        counts=[],
        steps_before=10,
        steps_after=8,
        calls_before=30,
        calls_after=20,
        fragments_before=None,
        fragments_after=None,
        new_bytes=0,
        left_out=[],
        driver="a driver",
    )
    return _judge("finding", found)


def test_a_gain_is_told_with_its_size() -> None:
    proof = _measured(2.0)
    assert (
        proof.verdict == Verdict.SAVES
        and proof.gain_ms == 2.0
        and proof.told_verdict == "saves 2.00 ms"
        and "picture identical" in proof.summary
    )
    assert _measured(-1.0).told_verdict == "costs 1.00 ms"
    assert (
        _measured(0.0).told_verdict == "no measurable difference (less than 0.00 ms)" and _measured(0.0).gain_ms is None
    )


def test_too_few_pairs_decide_nothing() -> None:
    assert _measured(2.0, pairs=10).verdict == Verdict.SAVES
    assert _measured(2.0, pairs=9).verdict == Verdict.NOISE, "ten pairs are the fewest that decide"


def test_submission_alone_can_be_the_gain() -> None:
    proof = _measured(0.0, submit_saved=1.5)
    assert (
        proof.verdict == Verdict.SAVES
        and proof.side == SUBMISSION
        and proof.gain_ms == 1.5
        and proof.told_verdict == "saves 1.50 ms of submission"
    )


def test_pictures_come_before_times() -> None:
    proof = _measured(2.0, Outcome(pixels_different=7, max_difference=3, where=(0, 0, 2, 4), following=True))
    assert (
        proof.verdict == Verdict.CHANGES
        and proof.gain_ms is None
        and "7 pixels differ by up to 3 of 255" in proof.summary
    )
    assert _measured(2.0, Outcome(later_pixels=1, following=True)).verdict == Verdict.CHANGES
    only_by_luck = _measured(2.0, Outcome(pixels_different=7, by_pattern=True))
    assert only_by_luck.verdict == Verdict.CHANGES and "only by what earlier frames had left" in only_by_luck.summary


def test_what_is_left_behind_is_told_apart_from_the_screen() -> None:
    unknown = _measured(2.0, Outcome(left_behind=["texture 5"]))
    assert (
        unknown.verdict == Verdict.LEAVES
        and "capture the frame again" in unknown.reason
        and "left behind otherwise: texture 5" in unknown.summary
    )
    known = _measured(2.0, Outcome(left_behind=["texture 5"], following=True))
    assert known.verdict == Verdict.LEAVES and not known.reason
    healed = _measured(2.0, Outcome(rewritten=["texture 5"], following=True))
    assert healed.verdict == Verdict.SAVES and "the frame after writes texture 5 anew" in healed.summary


def test_nothing_is_proved_on_a_frame_that_does_not_replay() -> None:
    proof = _measured(2.0, ground=Ground(unlike_capture=6))
    assert (
        proof.verdict == Verdict.REFUSED
        and "6 pixels differ" in proof.reason
        and proof.gain_ms is None
        and proof.unlike_capture == 6
    )
    assert _measured(2.0, Outcome(pixels_different=7), Ground(unlike_capture=6)).verdict == Verdict.CHANGES, (
        "the worse of the two is told"
    )
    assert (
        Ground(unsteady=["the picture", "texture 3"]).trouble
        == "the replay differs from run to run in the picture, texture 3"
    )
    assert not Ground().trouble


def test_a_rounding_here_and_there_does_not_stand_in_the_way() -> None:
    """A few pixels by 1 of 255, the same every time: proofs go on, and say so."""
    few = Ground(unlike_capture=5, unlike_by=1, pixels=76800)
    proof = _measured(2.0, ground=few)
    assert (
        not few.trouble
        and proof.verdict == Verdict.SAVES
        and "rounds otherwise" in proof.summary
        and "5 pixels" in proof.summary
    )
    assert Ground(unlike_capture=5, unlike_by=2, pixels=76800).trouble, "more than a rounding"
    assert Ground(unlike_capture=77, unlike_by=1, pixels=76800).trouble, "more than here and there"
    assert Ground(unlike_capture=5, unlike_by=1, pixels=76800, unsteady=["the picture"]).trouble


def test_refutations_say_what_differs() -> None:
    assert told(Outcome(pixels_different=1, max_difference=9)) == "1 pixel differs by up to 9 of 255"
    assert told(Outcome(later_pixels=12)) == "12 pixels differ in the frame after"
    assert told(Outcome(left_behind=["texture 5", "buffer 2"])) == "left behind otherwise: texture 5, buffer 2"
    assert Outcome(rewritten=["texture 5"]).same and not Outcome(left_behind=["texture 5"]).same
