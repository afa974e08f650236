"""Runs that begin in the middle of a frame, on real programs: they come out as the frame does as a whole."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import load_opengl
from wendascope.backends.contents import differing
from wendascope.backends.edit import Edit
from wendascope.backends.opengl.running.span_start import SpanStart, step_calls
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.backends.opengl.tables.written import Written
from wendascope.frame.remedy import Remedy
from wendascope.measure.clocks import Clock
from wendascope.measure.times import pass_spans
from wendascope.replay.client import Replay
from wendascope.replay.progress import Job
from wendascope.trials.proofs.outcomes import outcomes
from wendascope.trials.proofs.runs import time_remedies
from wendascope.trials.proofs.span_runs import SpanPairs, SpanRuns, Spans
from wendascope.trials.remedies import change_of

from .conftest import Capture, program

pytestmark = pytest.mark.driver


@pytest.fixture(params=["wasteful", "crowd core", "everything", "multisample", "gles"])
def session(request: pytest.FixtureRequest, capture: Capture) -> Iterator[OpenGLSession]:
    path, _ = capture(program(*request.param.split()))
    made = OpenGLSession(load_opengl(path))
    yield made
    made.close()


def _rest_comes_out(session: OpenGLSession, start: SpanStart) -> bool:
    start.enter(start.approach(Edit()))
    whole = session.prepare()
    session.run_part(whole, int(np.searchsorted(whole.owner, start.call)), len(whole.stream))
    return outcomes(session).came_out()


def test_from_every_pass_and_some_steps_on_the_frame_comes_out(session: OpenGLSession) -> None:
    outcomes(session)
    steps = session.frame.steps
    middle = [step_calls(session.frame, step)[0] for step in range(1, len(steps), max(len(steps) // 4, 1))]
    for call in dict.fromkeys([*(first for first, _ in pass_spans(session)), *middle]):
        start = SpanStart(session, call)
        for _ in range(2):  # again and again
            assert _rest_comes_out(session, start), (call, start.kept)
        start.close()
        assert _rest_comes_out(session, start), "without its copies it runs what comes before"


def test_a_span_is_measured_by_all_clocks(session: OpenGLSession) -> None:
    spans = Spans(session)
    first, end = max(pass_spans(session), key=lambda span: span[1] - span[0])
    run = SpanRuns(session, spans.start(first), end, Clock.CPU)
    times = [run.run() for _ in range(3)]
    assert all(t.work_ms > 0 and 0 < t.submit_ms <= t.work_ms * 1.5 for t in times)
    twice = [{k: v for k, v in run.contents().items() if k[0].kind == "texture"} for _ in range(2)]
    assert twice[0] == twice[1], "what the span does not write holds what there was: of textures, the same"
    counted = run.fragments()
    assert counted is None or counted >= 0


def test_a_span_writes_nothing_but_what_it_is_said_to(session: OpenGLSession) -> None:
    """Then to put that back is enough to run it again."""
    spans = Spans(session)
    for first, end in pass_spans(session):
        start = spans.start(first)
        run = SpanRuns(session, start, end, Clock.CPU)
        start.enter(start.approach(Edit()))
        before = session.contents()
        run.run()
        after = session.contents()
        changed = {s for s in differing(before, after) if s.kind in ("texture", "renderbuffer")}
        written = run.written
        assert isinstance(written, Written)
        said = {("texture", n) for n in written.textures} | {("renderbuffer", n) for n in written.renderbuffers}
        assert {(s.kind, s.name) for s in changed} <= said
        run.run(run.written)
        assert not differing(session.contents(), after)


def test_a_change_of_several_passes_is_measured_in_each(capture: Capture) -> None:
    path, _ = capture(program("wasteful"))
    session = OpenGLSession(load_opengl(path))
    pairs = [
        tuple(SpanRuns(session, Spans(session).start(first), end, Clock.CPU, edit) for edit in (None, Edit()))
        for first, end in pass_spans(session)
    ]
    together = SpanPairs([(a, b) for a, b in pairs])
    for order in ((0, 1), (1, 0)):
        work, submission = together.run(order)
        assert abs(submission) <= abs(work) + 5.0
    fragments = together.fragments()
    assert fragments is not None and fragments[0] == fragments[1] > 0
    assert fragments[0] == sum(a.fragments() or 0 for a, _ in pairs)
    session.close()


def test_edits_whose_objects_have_the_same_names_run_beside_each_other(capture: Capture) -> None:
    """Each prepared with objects of its own; the second does not take the first one's away."""
    path, frame = capture(program("crowd", "core"))
    session = OpenGLSession(load_opengl(path))
    program_name = int(frame.steps.program[np.flatnonzero(frame.steps.program)[0]])
    steps = np.flatnonzero(frame.steps.program == program_name).tolist()
    prepared = []
    for kind in ("flat-colour", "early-test"):
        change = change_of(session.frame, [Remedy(kind, steps, program=program_name)])
        edit = change.edit()
        session.add(change.brought_in)
        prepared.append(session.prepare(edit))
    pictures = []
    for which in (0, 1, 0, 1):
        session.run(prepared[which])
        pictures.append(session.final_picture().pixels)
    assert (pictures[0] == pictures[2]).all() and (pictures[1] == pictures[3]).all()
    assert (pictures[0] != pictures[1]).any()
    session.close()


def test_what_saves_much_is_decided_at_the_first_look(capture: Capture, tmp_path: Path) -> None:
    path, frame = capture(program("crowd", "core"))
    everything = list(range(len(frame.steps)))
    with Replay(path) as replay:
        timed = replay.run(time_remedies.asked([Remedy("drop-steps", everything[1:])], [], 20.0))
        assert replay.run(time_remedies.asked([Remedy("drop-steps", everything[1:])], [], 20.0)).clock == timed.clock
    assert timed.submission.decision == "gain" and timed.pairs >= 10
    assert timed.submission.saved is not None and timed.submission.saved.low > 0


def test_a_job_can_be_asked_in_this_process_as_well(session: OpenGLSession) -> None:
    timed = time_remedies(session, Job(), [Remedy("drop-repeats", [])], [], 0.5)
    assert timed.work.frame_ms.median > 0 and timed.seconds < 20
