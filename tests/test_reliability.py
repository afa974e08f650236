"""The target behaves as it would without us, whatever it or its surroundings do; and we say what happened."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Iterator

import pytest

from tests.conftest import program
from wendascope.errors import TargetError
from wendascope.tap.launch import Target, Trigger

pytestmark = pytest.mark.driver


def finished(target: Target, seconds: float = 30.0) -> tuple[int, str]:
    """Exit code and output of a target that was let go."""
    code = target.process.wait(seconds)
    target.output.finish()
    return code, target.output.tail


@pytest.mark.parametrize(
    "kind",
    ["forks", "forks_while_drawing", "replaces_itself", "starts_a_child_that_draws", "changes_threads"],
)
def test_a_frame_is_taken_all_the_same(display: str, kind: str) -> None:
    with Target(program("troubled", kind), environment={**os.environ, "DISPLAY": display}) as target:
        frame = target.capture(Trigger(after_seconds=0.5), 30.0)
        target.let_go()
        assert len(frame.steps) == 16
        assert finished(target) == (0, "all frames drawn")


def test_a_context_deleted_in_the_frame(display: str) -> None:
    """The frame that is being recorded never ends: its context goes before the swap."""
    with Target(program("troubled", "deletes_its_context"), environment={**os.environ, "DISPLAY": display}) as target:
        outcomes = []
        for _ in range(2):
            try:
                frame = target.capture(Trigger(frame=1), 10.0)
                assert len(frame.steps) in (16, 32), "one context's frame, or that and the begun one of the next"
                outcomes.append("taken")
            except TargetError as error:
                assert any(words in str(error) for words in ("no OpenGL calls", "went away", "did not answer")), str(
                    error
                )
                outcomes.append("refused")
        assert "taken" in outcomes, "frames that do end are taken"
        target.let_go()
        assert finished(target) == (0, "all frames drawn")


@pytest.fixture
def server() -> Iterator[tuple[str, subprocess.Popen[bytes]]]:
    """An X server of its own, which a test may take away."""
    read, write = os.pipe()
    made = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "800x600x24", "-nolisten", "tcp"],
        pass_fds=(write,),
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as answer:
        number = answer.readline().strip()
    yield f":{number}", made
    made.kill()
    made.wait()


def test_the_x_server_goes_away(server: tuple[str, subprocess.Popen[bytes]]) -> None:
    display, process = server
    alone = subprocess.Popen(
        ["glxgears"], env={**os.environ, "DISPLAY": display}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    with Target(["glxgears"], environment={**os.environ, "DISPLAY": display}) as target:
        target.capture(Trigger(frame=5), 30.0)
        process.kill()
        with pytest.raises(TargetError, match=r"ended|went away"):
            target.capture(Trigger(frame=10**9), 20.0)
        assert target.process.wait(10) == alone.wait(10), "it ends as it does without us"


def test_the_window_is_closed(server: tuple[str, subprocess.Popen[bytes]]) -> None:
    display, _ = server
    environment = {**os.environ, "DISPLAY": display}
    with Target(["glxgears"], environment=environment) as target:
        target.connect(Trigger(frame=10**9), 20.0)
        time.sleep(0.3)
        found = subprocess.run(
            ["xwininfo", "-root", "-tree"], env=environment, capture_output=True, text=True, check=True
        ).stdout
        window = next(line.split()[0] for line in found.splitlines() if "glxgears" in line)
        subprocess.run(["xkill", "-id", window], env=environment, check=True, capture_output=True)
        with pytest.raises(TargetError, match=r"ended|went away"):
            target.capture(Trigger(frame=10**9), 20.0)


def test_children_that_draw_are_counted(display: str) -> None:
    with Target(program("troubled", "forks"), environment={**os.environ, "DISPLAY": display}) as target:
        target.capture(Trigger(after_seconds=0.8), 30.0)
        deadline = time.monotonic() + 5
        while target.others == 0 and time.monotonic() < deadline:
            target.poll(0.05)
        assert target.others == 1, "parent and child both draw: one is followed, the other counted"
