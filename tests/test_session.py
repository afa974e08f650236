"""Capture sessions: a program that listens, requests from several sides, and what happens when somebody goes away."""

from __future__ import annotations

import contextlib
import json
import signal
import socket
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.attacks import kills, odd_targets
from tests.conftest import load_opengl, program
from tests.test_capture import verified
from wendascope.errors import TargetError, UsageError, WendascopeError
from wendascope.frame.file import save
from wendascope.frame.memory_mark import SUFFIX
from wendascope.tap import sessions
from wendascope.tap.client import SessionClient
from wendascope.tap.launch import program_title
from wendascope.tap.messages import LONGEST_LINE, Beats, Do, Lines, StateIs, Take, Taken, event, pack, request
from wendascope.tap.sessions import connect, listening, runtime_folder, socket_path

pytestmark = pytest.mark.driver


class Yard:
    """A capture session in a process of its own."""

    def __init__(
        self, name: str, out: Path, command: list[str], *options: str, run: tuple[str, str] = ("-m", "wendascope.cli")
    ) -> None:
        self.name, self.out = name, out
        arguments = [
            sys.executable,
            *run,
            "capture",
            "--listen",
            name,
            "--out",
            str(out),
            *options,
            "--",
            *command,
        ]
        self.process = subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        deadline = time.monotonic() + 20
        while name not in listening():
            assert self.process.poll() is None and time.monotonic() < deadline, self.process.communicate()
            time.sleep(0.02)

    def trigger(self, *options: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "wendascope.cli", "trigger", self.name, *options],
            capture_output=True,
            text=True,
            timeout=60,
        )

    def end(self) -> tuple[str, str]:
        self.process.terminate()
        try:
            return self.process.communicate(timeout=10)
        finally:
            self.process.kill()


@pytest.fixture
def yard(runtime: Path, tmp_path: Path) -> Iterator[Yard]:
    made = Yard("yard", tmp_path / "out", program("shapes", "--frames", "1000000", "--pause", "0.01"))
    yield made
    made.end()  # which ends the program as well


def test_frames_are_taken_from_elsewhere(yard: Yard) -> None:
    first = yard.trigger()
    assert first.returncode == 0, first.stderr
    path = Path(first.stdout.strip())
    assert path.parent == yard.out and path.name.startswith("shapes-") and len(load_opengl(path).steps) == 22
    told = json.loads(yard.trigger("--frames", "3", "--json").stdout)["frames"]
    assert len({f["file"] for f in told}) == 3
    assert [f["frame"] for f in told] == list(range(told[0]["frame"], told[0]["frame"] + 3)), (
        "one right after the other"
    )
    later = json.loads(yard.trigger("--after", "0.3", "--depth", "--skip-unused", "--json").stdout)["frames"]
    assert later[0]["frame"] > told[-1]["frame"] + 5
    yard.end()
    assert listening() == []


def test_only_this_user_may_come_in(yard: Yard, runtime: Path) -> None:
    assert stat.S_IMODE(runtime_folder().stat().st_mode) == 0o700
    assert stat.S_IMODE(socket_path("yard").stat().st_mode) & 0o077 == 0
    with pytest.raises(UsageError, match="already a capture session"):
        from wendascope.tap.sessions import listen

        listen("yard")
    with pytest.raises(TargetError, match="these are: yard"):
        connect("shed")
    with pytest.raises(UsageError, match="not a session name"):
        socket_path("../elsewhere")


def test_who_ends_it_while_it_starts_ends_the_program_too(runtime: Path, tmp_path: Path) -> None:
    mark = f"--pause=0.0{time.time_ns() % 10**9}"  # tells this program from those of other tests
    for _ in range(4):
        yard = Yard("early", tmp_path / "out", program("shapes", "--frames", "1000000", mark))
        yard.end()
        running = [p for p in Path("/proc").glob("[0-9]*/cmdline") if mark.encode() in _command(p)]
        assert running == []


def _command(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError:
        return b""


def states(client: SessionClient, until: str, seconds: float = 10.0) -> list[StateIs]:
    found = []
    for told in client.events(seconds):
        if isinstance(told, StateIs):
            found.append(told)
            if told.state == until:
                return found
    raise AssertionError(f"never {until}: {found}")


def test_hold_and_step(yard: Yard) -> None:
    with SessionClient("yard") as client:
        beats = next(e for e in client.events(10) if isinstance(e, Beats))
        assert beats.rows[-1].draws == 21, "draws of a frame"
        client.send(Do("hold"))
        held = states(client, "held")[-1]
        list(client.events(0.3))
        client.send(Do("step"))
        assert int(states(client, "held")[-1].text.split()[-1]) == int(held.text.split()[-1]) + 1
        client.send(Take())
        taken = next(e for e in client.events(20) if isinstance(e, Taken))
        assert taken.frame == int(held.text.split()[-1])
        states(client, "held")
        client.send(Do("go"))
        states(client, "running")
        assert any(isinstance(e, Beats) for e in client.events(2))


def test_waiting_can_be_cancelled_and_two_cannot_wait_at_once(yard: Yard) -> None:
    with SessionClient("yard") as client, SessionClient("yard") as other:
        client.send(Take(frame=10**8))
        states(client, "waiting")
        other.send(Take())
        with pytest.raises(TargetError, match="already being waited for"):
            list(other.events(3))
        client.send(Do("cancel"))
        states(client, "running")
        client.send(Take(after_seconds=0.4))
        assert any("taking a frame in" in s.text for s in states(client, "taking"))


def test_the_program_runs_on_when_the_session_is_killed(runtime: Path, tmp_path: Path) -> None:
    done = tmp_path / "done"
    shapes = " ".join(program("shapes", "--frames", "150", "--pause", "0.01"))
    # it also writes all the time: no broken pipe may end it
    yard = Yard(
        "yard",
        tmp_path / "out",
        [
            "sh",
            "-c",
            f"(while sleep 0.05; do echo clang; done) & {shapes} && echo in the shed && touch {done}; kill $!",
        ],
    )
    time.sleep(0.5)
    yard.process.send_signal(signal.SIGKILL)
    yard.process.communicate()
    deadline = time.monotonic() + 20
    while not done.exists():
        assert time.monotonic() < deadline, "the program stopped with its capture session"
        time.sleep(0.05)
    assert listening() == [], "the dead socket is cleared away"


def test_a_program_is_held_by_who_is_there_only(runtime: Path, tmp_path: Path) -> None:
    drawn = tmp_path / "drawn"
    patient = (
        "import wendascope.tap.channel as channel; channel.PATIENCE_SECONDS = 1.0;"
        " from wendascope.cli import main; main()"
    )
    command = [str(odd_targets.built(tmp_path)), "wait-long", "300", str(drawn)]
    yard = Yard("yard", tmp_path / "out", command, run=("-c", patient))
    try:
        with SessionClient("yard") as client:
            client.send(Do("hold"))
            states(client, "held")
            time.sleep(2.5)  # the session says that it is there
            client.send(Do("step"))
            states(client, "held")
            yard.process.send_signal(signal.SIGSTOP)
            deadline = time.monotonic() + 20
            while not drawn.exists():
                assert time.monotonic() < deadline, "the program stays held for a session that is stopped"
                time.sleep(0.05)
            yard.process.send_signal(signal.SIGCONT)
            assert states(client, "ended")
    finally:
        yard.end()


def test_a_program_that_fails_shows_what_it_wrote(runtime: Path, tmp_path: Path) -> None:
    command = [
        sys.executable,
        "-c",
        "import time; time.sleep(1.0); print('the points are frozen'); raise SystemExit(3)",
    ]
    yard = Yard("yard", tmp_path / "out", command)
    done = yard.trigger()
    assert done.returncode == 4 and "exit code 3" in done.stderr and "the points are frozen" in done.stderr


def test_folder_and_environment_of_the_program(runtime: Path, tmp_path: Path) -> None:
    (tmp_path / "depot").mkdir()
    script = "import os; open('told', 'w').write(os.environ['LINE'] + os.getcwd())"
    done = subprocess.run(
        [
            sys.executable,
            "-m",
            "wendascope.cli",
            "capture",
            "--folder",
            str(tmp_path / "depot"),
            "--env",
            "LINE=seven",
            "--",
            sys.executable,
            "-c",
            script,
        ],
        capture_output=True,
        text=True,
    )
    assert done.returncode == 4
    assert (tmp_path / "depot" / "told").read_text() == f"seven{tmp_path / 'depot'}"
    wrong = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", "capture", "--env", "LINE", "--", "true"],
        capture_output=True,
        text=True,
    )
    assert wrong.returncode == 2 and "NAME=VALUE" in wrong.stderr


# ---- the messages ------------------------------------------------------------------------------------


@given(st.binary(max_size=400))
def test_nothing_that_comes_in_crashes(data: bytes) -> None:
    for parse in (event, request):
        try:
            parse(data)
        except WendascopeError as error:
            assert str(error)


@given(st.lists(st.binary(min_size=1, max_size=40).filter(lambda b: b"\n" not in b), max_size=8), st.integers(1, 17))
def test_lines_are_put_together_from_any_pieces(lines: list[bytes], size: int) -> None:
    whole = b"".join(line + b"\n" for line in lines)
    feed = Lines()
    found = [line for at in range(0, len(whole), size) for line in feed.feed(whole[at : at + size])]
    assert found == lines


def test_requests_survive_the_wire_and_endless_lines_do_not() -> None:
    for made in (Take(frame=3, frames=2, depth=True), Do("step")):
        assert request(pack(made)) == made
    with pytest.raises(TargetError, match="too long"):
        Lines().feed(b"x" * (LONGEST_LINE + 1))


@pytest.mark.parametrize(
    ("command", "title"),
    [
        (["/opt/game/bin/tram"], "tram"), (["python3.11", "-m", "yard.viewer", "--fast"], "yard.viewer"),
        (["/usr/bin/python", "-u", "/home/line/seven.py"], "seven"), (["bash"], "bash"), ([], ""),
    ],
)  # fmt: skip
def test_program_titles(command: list[str], title: str) -> None:
    assert program_title(command) == title


def test_the_depth_of_the_picture_is_kept_and_compared(runtime: Path, tmp_path: Path) -> None:
    out = tmp_path / "deep.wend"
    command = [
        sys.executable,
        "-m",
        "wendascope.cli",
        "capture",
        "--frame",
        "4",
        "--depth",
        "--out",
        str(out),
        "--",
        *program("fixed_function"),
    ]
    assert subprocess.run(command, capture_output=True).returncode == 0
    frame = load_opengl(out)
    assert frame.reference_depth is not None
    depth = np.frombuffer(frame.reference_depth, np.uint32)
    assert len(depth) == 160 * 120 and len(np.unique(depth)) > 50
    found = verified(out)
    assert found.identical and found.depth_different == 0
    frame.reference_depth = (depth ^ np.uint32(1 << 30)).tobytes()
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    save(frame, tmp_path / "other.wend")
    found = verified(tmp_path / "other.wend")
    assert not found.identical and found.depth_different == 160 * 120


def test_a_session_that_begins_is_not_taken_for_a_dead_one(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Whoever looks for sessions between its name and its first answer would remove it: it has no name until then."""
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    tmp_path.chmod(0o700)

    class LookedFor(socket.socket):
        def listen(self, *waiting: int) -> None:
            assert "soon" not in sessions.listening()
            super().listen(*waiting)

    monkeypatch.setattr(socket, "socket", LookedFor)
    with sessions.listen("soon"):
        assert sessions.listening() == ["soon"]
    assert sessions.listening() == [], "its socket is removed once nobody listens"


def _threads(folder: Path, frames: int = 3000) -> list[str]:
    return [str(kills.program(folder)), "1", str(frames), str(folder / "drawn")]


def test_thousands_of_requests_at_once_stop_nobody(runtime: Path, tmp_path: Path) -> None:
    yard = Yard("yard", tmp_path / "out", _threads(tmp_path, 1500))
    try:
        with SessionClient("yard") as client, SessionClient("yard") as other:
            states(other, "running")
            requests = [Do("mark")] * 2000 + [Do("hold"), Do("go")] * 500
            client.send_all(requests)  # in one write
            asked = time.monotonic()
            other.send(Take())
            assert next(event for event in other.events(20) if isinstance(event, Taken))
            assert time.monotonic() - asked < 15
        drawn = tmp_path / "drawn"
        until = time.monotonic() + 30
        while not drawn.exists() and time.monotonic() < until:
            time.sleep(0.05)
        assert drawn.exists(), "the program draws to its end"
        marks = list((tmp_path / "out").glob(f"*{SUFFIX}"))
        assert 1 <= len(marks) <= 200, "the others are refused, and not one is half written"
    finally:
        yard.end()


def test_a_program_that_draws_nothing_is_asked_without_end(runtime: Path, tmp_path: Path) -> None:
    """It reads nothing, so that its socket fills."""
    odd = odd_targets.built(tmp_path)
    yard = Yard("yard", tmp_path / "out", [str(odd), "draw-and-sleep", "20", str(tmp_path / "drawn")])
    try:
        time.sleep(1.0)
        with SessionClient("yard") as client:
            client.send_all([Do("hold"), Do("cancel")] * 2000)
            client.send(Do("stop"))
            with pytest.raises(TargetError, match="was ended"):
                list(client.events(20))
    finally:
        yard.end()


def test_a_take_that_fails_ends_neither_session_nor_program(runtime: Path, tmp_path: Path) -> None:
    odd = odd_targets.built(tmp_path)
    drawn = tmp_path / "drawn"
    yard = Yard("yard", tmp_path / "out", [str(odd), "no-memory-a-while", "1200", str(drawn)])
    try:
        with SessionClient("yard") as client:
            client.send(Take(frame=620))
            with pytest.raises(TargetError, match="memory"):
                list(client.events(20))
        with SessionClient("yard") as client:  # what was not remembered meanwhile is lost, and said again
            client.send(Take(frame=1000))
            with pytest.raises(TargetError, match="memory"):
                list(client.events(20))
        assert yard.process.wait(20) == 0 and drawn.exists()
    finally:
        yard.end()


def test_one_client_too_many_is_told_so(yard: Yard) -> None:
    with contextlib.ExitStack() as stack:
        for _ in range(64):
            stack.enter_context(connect("yard"))
        time.sleep(0.5)
        found = yard.trigger()
        assert found.returncode == 4 and "64 clients" in found.stderr and "Traceback" not in found.stderr
    assert yard.trigger().returncode == 0, "they are gone, so there is room"
