"""Capturing running programs from outside, and replaying what was captured, pixel for pixel."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import DATA, Capture, load_opengl, program
from wendascope.backends.opengl.calls.packed import FLAG_LOST
from wendascope.errors import CancelledError, TargetError
from wendascope.frame.file import save
from wendascope.measure.pictures import verify
from wendascope.measure.records import Verification
from wendascope.measure.survey import survey
from wendascope.replay.client import Replay
from wendascope.tap.channel import FrameEnd
from wendascope.tap.launch import Target, Trigger
from wendascope.task import Task

pytestmark = pytest.mark.driver


def check_identical(path: Path) -> None:
    frame = load_opengl(path)
    assert frame.reference is not None
    colours = np.unique(frame.reference.pixels.reshape(-1, 4), axis=0)
    assert len(colours) > 8, "the picture is too plain to prove anything"
    with Replay(path) as replay:
        found = replay.run(verify.asked())
    assert found.identical, found
    assert found.caveats == []


@pytest.mark.parametrize(
    ("name", "frame_end", "steps"),
    [
        ("shapes", FrameEnd.swap, 22),
        ("everything", FrameEnd.swap, 9),
        ("recycling", FrameEnd.swap, 5),
        ("moderngl_window", FrameEnd.swap, 4),
        ("moderngl_readback", FrameEnd.readback, 2),
    ],
)
@pytest.mark.parametrize("number", [2, 7])
def test_programs_replay_to_the_identical_picture(
    capture: Capture, name: str, frame_end: FrameEnd, steps: int, number: int
) -> None:
    path, frame = capture(program(name), number, frame_end)
    assert frame.metadata.frame_number == number
    assert len(frame.steps) == steps
    check_identical(path)


@pytest.mark.parametrize("scene", ["build", "shading:shading=phong", "texture", "refract"])
def test_programs_nobody_here_wrote(capture: Capture, scene: str) -> None:
    path, frame = capture(["glmark2", "-b", f"{scene}:duration=30.0", "-s", "320x240"], 20)
    assert len(frame.steps) >= 2
    check_identical(path)


def test_objects_made_and_deleted_in_a_frame_replay_every_time(capture: Capture) -> None:
    path, _ = capture(program("recycling"), 4)
    with Replay(path) as replay:
        results = [replay.run(verify.asked()).identical for _ in range(3)]
        surveyed = replay.run(survey.asked(repeats=1))
    assert results == [True, True, True] and surveyed.verification.identical


def test_the_running_demo(capture: Capture) -> None:
    path, frame = capture([sys.executable, "-m", "wendascope.demo", "--size", "320x180"], 3)
    assert len(frame.steps) > 900
    assert frame.passes.names[:4] == ["shadow", "camera", "mirror", "depot"]
    assert not np.any(frame.calls.flags & FLAG_LOST)
    check_identical(path)


@pytest.mark.parametrize("name", ["depot", "depot-better"])
def test_the_shipped_demo_frames(name: str) -> None:
    path = DATA / f"{name}.wend"
    assert path.stat().st_size < 4 << 20
    frame = load_opengl(path)
    assert len(frame.passes) >= 8
    assert (frame.default_framebuffer.width, frame.default_framebuffer.height) == (1280, 720)
    check_identical(path)


def test_a_changed_frame_is_not_called_identical(capture: Capture, tmp_path: Path) -> None:
    """The comparison can fail: one uniform of one call is changed."""
    path, _ = capture(program("shapes"), 3)
    frame = load_opengl(path)
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    call = int(frame.calls.calls_of("glUniform4f")[-1])
    slot = int(frame.calls.offsets[call]) + 4 + frame.calls.command(call).parameter("v0").slot
    frame.calls.words[slot] = np.uint64(np.float32(0.25).view(np.uint32))
    changed = tmp_path / "changed.wend"
    save(frame, changed)
    with Replay(changed) as replay:
        found = replay.run(verify.asked())
    assert not found.identical and found.pixels_different > 10 and found.max_difference > 0


def test_heartbeats_tell_calls_and_draws(capture: Capture) -> None:
    _, frame = capture(program("shapes"), 8)
    assert len(frame.frame_statistics) >= 6
    beat = frame.frame_statistics[-1]
    assert beat.draws == 21
    assert beat.vertices == 4 + sum(4 * (1 + i % 2) for i in range(20))
    assert beat.calls == len(frame.calls)
    assert beat.cpu_ns > 0


def test_several_frames_in_one_session(display: str) -> None:
    with Target(program("shapes", "--frames", "100000"), environment={**os.environ, "DISPLAY": display}) as target:
        following = Trigger(frame=1)
        first = target.capture(Trigger(frame=3), then=following)
        second = target.capture(following)
        third = target.capture(Trigger(after_seconds=0.2))
    assert (first.metadata.frame_number, second.metadata.frame_number) == (3, 4)
    assert third.metadata.frame_number > 4
    assert first.call_count == second.call_count == third.call_count


def test_of_several_frames_every_nth_is_taken(display: str) -> None:
    with Target(program("shapes", "--frames", "100000"), environment={**os.environ, "DISPLAY": display}) as target:
        trigger, following = Trigger(frame=2), Trigger(later=7)
        numbers = []
        for _ in range(3):
            numbers.append(target.capture(trigger, then=following).metadata.frame_number)
            trigger = following
    assert numbers == [2, 9, 16]


def test_a_program_that_was_let_go_runs_on(display: str) -> None:
    with Target(program("shapes", "--frames", "100000"), environment={**os.environ, "DISPLAY": display}) as target:
        target.capture(Trigger(frame=2))
        target.let_go()
    try:
        time.sleep(1.0)
        assert target.process.poll() is None
    finally:
        target.process.kill()
        target.process.wait()


def test_a_program_at_rest_is_told_as_that(display: str) -> None:
    command, environment = program("shapes", "--frames", "3", "--linger", "60"), {**os.environ, "DISPLAY": display}
    with (
        Target(command, environment=environment) as target,
        pytest.raises(TargetError, match=r"3 frames, the last .* ago: it draws only when something happens"),
    ):
        target.capture(Trigger(frame=100), timeout=5.0)


def test_a_slow_frame_is_waited_for(display: str) -> None:
    with Target(program("shapes", "--frames", "100000", "--pause", "0.03")) as target:
        frame = target.capture(Trigger(slower_than_ms=20.0))
    beat = frame.frame_statistics[-1]
    assert beat.frame == frame.metadata.frame_number and beat.cpu_ns + beat.swap_ns > 20e6


def test_contents_that_are_cleared_first_are_left_out(capture: Capture) -> None:
    _, frame = capture(program("shapes"), 3)
    assert "color of the window" in frame.metadata.left_out
    canvas = [t for t in frame.objects.textures if t.width == 64]
    assert canvas[0].images[0].contents is not None, "the canvas is not cleared: its contents matter"


# ---- caveats, by name ---------------------------------------------------------------------------------


def verified(path: Path) -> Verification:
    with Replay(path) as replay:
        return replay.run(verify.asked())


def test_multisampled_contents_are_kept_resolved(capture: Capture) -> None:
    path, frame = capture(program("multisample"), 9)
    assert frame.caveats == [
        "multisampled contents from before the frame are kept resolved, all samples of a pixel alike (2)"
    ]
    assert verified(path).identical


def test_calls_of_other_contexts_are_recorded_where_they_matter(capture: Capture) -> None:
    path, frame = capture(program("two_threads"), 5)
    assert len(frame.steps) == 40
    assert frame.caveats == [], "contexts that share nothing cannot change each other's picture"
    assert verified(path).identical
    path, frame = capture(program("two_threads", "--share"), 5)
    assert frame.caveats == [] and len(frame.other_contexts) == 1, "the other one's calls are part of the frame"
    # the threads take turns as they like: the other one may come in several times
    owners = {name.rpartition(", ")[2].partition(" (")[0] for name in frame.passes.names}
    assert owners == {"64²", "context 2"}
    assert verified(path).identical


# ---- what can go wrong -----------------------------------------------------------------------------


def test_a_program_that_does_not_exist() -> None:
    with pytest.raises(TargetError, match="does not exist"):
        Target(["/nowhere/program"])


def test_a_program_that_ends_before_the_frame() -> None:
    with (
        Target(program("shapes", "--frames", "4")) as target,
        pytest.raises(TargetError, match="before the frame was taken"),
    ):
        target.capture(Trigger(frame=500))


def test_a_program_that_never_draws_shows_its_last_lines() -> None:
    command = [sys.executable, "-c", "print('no tram today'); raise SystemExit(7)"]
    with Target(command) as target, pytest.raises(TargetError, match="exit code 7") as error:
        target.capture(Trigger(frame=1))
    assert "no tram today" in error.value.output


def test_a_program_that_goes_on_without_drawing() -> None:
    command = [sys.executable, "-c", "import time; time.sleep(60)"]
    with Target(command) as target, pytest.raises(TargetError, match="no OpenGL context within"):
        target.capture(Trigger(frame=1), timeout=1.0)


def test_a_frame_that_does_not_come_in_time() -> None:
    with (
        Target(program("shapes", "--frames", "1000000", "--pause", "0.01")) as target,
        pytest.raises(TargetError, match="did not reach"),
    ):
        target.capture(Trigger(frame=100000), timeout=1.5)


def test_cancelling_a_capture() -> None:
    with Target(program("shapes", "--frames", "1000000", "--pause", "0.01")) as target, pytest.raises(CancelledError):
        target.capture(Trigger(frame=100000), task=Task(cancelled=lambda: True))
