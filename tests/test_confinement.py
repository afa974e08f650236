"""The replay process gives up what it does not need, and ends when it should."""

from __future__ import annotations

import os
import platform
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import pytest

from tests.attacks.kills import alive
from tests.conftest import load_opengl
from wendascope import system_calls
from wendascope.backends.opengl.calls.runnable import may_run, may_set_up
from wendascope.confinement import landlock_version
from wendascope.demo.data import demo_files
from wendascope.errors import ReplayCrashedError, ReplayError
from wendascope.frame.file import content_of, save
from wendascope.frame.origins import MADE_HERE, introduction, origin, remember
from wendascope.glsl.compiler import CompileError, compile_glsl
from wendascope.glsl.preprocessor import Dialect
from wendascope.measure.pictures import verify
from wendascope.registry import GL, tables
from wendascope.replay.client import Replay, in_force

pytestmark = pytest.mark.driver
TRIES = """
import json, os, resource, socket, sys, threading
from wendascope.replay.worker import give_up_rights

held = give_up_rights(sys.argv[1], "")
def outcome(action):
    try:
        action()
        return "done"
    except (OSError, ValueError) as error:
        return type(error).__name__
print(json.dumps({
    "held": held,
    "the frame": outcome(lambda: open(sys.argv[1], "rb").close()),
    "the frame, written": outcome(lambda: open(sys.argv[1], "r+b").close()),
    "its neighbour": outcome(lambda: open(sys.argv[2], "rb").close()),
    "passwords": outcome(lambda: open("/etc/passwd").close()),
    "a new file": outcome(lambda: open(sys.argv[1] + ".new", "w").close()),
    "removing": outcome(lambda: os.unlink(sys.argv[2])),
    "internet": outcome(lambda: socket.socket(socket.AF_INET)),
    "local socket": outcome(lambda: socket.socket(socket.AF_UNIX)),
    "fork": outcome(lambda: os.fork() or os._exit(0)),
    "a program": outcome(lambda: os.execv("/bin/true", ["true"])),
    "another's environment": outcome(lambda: open(f"/proc/{os.getppid()}/environ", "rb").read()),
    "a signal to another": outcome(lambda: os.kill(os.getppid(), 0)),
    "another's limits": outcome(lambda: resource.prlimit(os.getppid(), resource.RLIMIT_NOFILE)),
    "mode": outcome(lambda: os.chmod(sys.argv[1], 0o777)),
    "mode of what is open": outcome(lambda: os.fchmod(os.open(sys.argv[1], os.O_RDONLY), 0o777)),
    "times": outcome(lambda: os.utime(sys.argv[1])),
    "a thread": outcome(lambda: threading.Thread(target=int).start()),
    "a signal to itself": outcome(lambda: os.kill(os.getpid(), 0)),
    "its own limits": outcome(lambda: resource.getrlimit(resource.RLIMIT_AS)),
}))
"""


@pytest.mark.skipif(not landlock_version(), reason="this kernel has no Landlock")
def test_what_is_given_up_is_gone(tmp_path: Path) -> None:
    frame, neighbour = tmp_path / "frame.wend", tmp_path / "neighbour.wend"
    frame.write_bytes(b"frame")
    neighbour.write_bytes(b"neighbour")
    done = subprocess.run(
        [sys.executable, "-P", "-c", TRIES, str(frame), str(neighbour)], capture_output=True, check=True, cwd=tmp_path
    )
    found = msgspec.json.decode(done.stdout)
    assert len(found.pop("held")) == (4 if os.geteuid() == 0 else 3)
    allowed = {what for what, outcome in found.items() if outcome == "done"}
    assert allowed == {"the frame", "a thread", "a signal to itself", "its own limits"}, found
    assert neighbour.exists() and not (tmp_path / "frame.wend.new").exists()


def test_it_can_be_switched_off_and_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("WENDASCOPE_CONFINE", "off")
    found = in_force()
    assert "reads your files" in found.allowed and "cannot confine" in found.sentence


@pytest.mark.skipif(not landlock_version(), reason="this kernel has no Landlock")
def test_what_is_in_force_is_tried_and_told() -> None:
    found = in_force()
    assert found.allowed == [] and len(found.refused) >= 15 and "Landlock" in found.sentence
    told = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", "--version", "--verbose"], capture_output=True, text=True, check=True
    ).stdout
    assert "Landlock" in told and "seccomp" in told and "GiB" in told and "ALLOWED" not in told


def with_fragment_shader(small: Path, body: str, path: Path) -> Path:
    frame = load_opengl(small)
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    for program in frame.objects.programs:
        program.shaders = [
            msgspec.structs.replace(s, source=body) if s.type == GL.FRAGMENT_SHADER else s for s in program.shaders
        ]
    save(frame, path)
    return path


def test_a_call_that_takes_too_long_is_one_sentence(
    small: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("WENDASCOPE_PATIENCE", "3")
    lines = "\n".join(
        ["#define A0 colour += vec4(0.1);", *(f"#define A{i} {' '.join([f'A{i - 1}'] * 12)}" for i in range(1, 10))]
    )
    bomb = f"#version 330 core\nout vec4 colour;\n{lines}\nvoid main() {{ colour = vec4(0.0); A9 }}"
    began = time.monotonic()
    with Replay(with_fragment_shader(small, bomb, tmp_path / "bomb.wend")) as replay:
        with pytest.raises(ReplayCrashedError, match=r"glCompileShader of program \d+ took longer than 3 s") as error:
            replay.run(verify.asked())
        assert "\n" not in str(error.value)
    assert time.monotonic() - began < 60


def test_a_compiler_is_limited_too() -> None:
    lines = "\n".join(["#define A0 c += 1.0;", *(f"#define A{i} {' '.join([f'A{i - 1}'] * 12)}" for i in range(1, 9))])
    began = time.monotonic()
    with pytest.raises(CompileError):
        compile_glsl(
            f"#version 330 core\nout vec4 colour;\n{lines}\nvoid main() {{ float c = 0.0; A8 colour = vec4(c); }}",
            GL.FRAGMENT_SHADER,
            Dialect(),
        )
    assert time.monotonic() - began < 20


_CLIENT = """
import sys, time
from pathlib import Path
from wendascope.measure.pictures import verify
from wendascope.replay.client import Replay
replay = Replay(Path(sys.argv[1]))
replay.run(verify.asked())
print(replay._process.pid, flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM, signal.SIGSEGV])
def test_it_ends_with_its_client(small: Path, how: signal.Signals) -> None:
    client = subprocess.Popen([sys.executable, "-c", _CLIENT, str(small)], stdout=subprocess.PIPE, text=True)
    assert client.stdout is not None
    worker = int(client.stdout.readline())
    assert alive(worker)
    client.send_signal(how)
    client.wait()
    until = time.monotonic() + 1.0
    while alive(worker) and time.monotonic() < until:
        time.sleep(0.02)
    assert not alive(worker)


# ---- which calls may run, and whose frames ------------------------------------------------------------


def test_commands_run_by_a_list() -> None:
    by_name = tables().by_name
    for name in (
        "glDrawElements",
        "glTexSubImage2D",
        "glUniform4fv",
        "glReadPixels",
        "glMapBufferRange",
        "glGenTextures",
        "wendaWriteBuffer",
    ):
        assert may_run(by_name[name]), name
    for name in (
        "glGetTexImage",
        "glGetIntegerv",
        "glDebugMessageCallback",
        "glEGLImageTargetTexture2DOES",
        "glMapTexture2DINTEL",
        "wendaReadBuffer",
        "wendaString",
        "glVertexArrayRangeNV",
    ):
        assert not may_run(by_name[name]), name
    for name in ("glReadPixels", "glMapBufferRange", "glFeedbackBuffer", "glGetTexImage"):
        assert not may_set_up(by_name[name]), name
    assert may_set_up(by_name["glLightfv"]) and may_set_up(by_name["glPolygonStipple"])


def test_every_frame_of_the_demo_is_known(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    for path in demo_files():
        assert origin(content_of(path)) == MADE_HERE, path


def test_a_frame_made_here_is_known_and_a_strangers_is_introduced_once(
    small: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from wendascope.frame.file import content_of

    content = content_of(small)
    assert origin(content) == MADE_HERE and introduction(load_opengl(small), content) == ""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "somebody-else"))
    assert origin(content) == ""
    assert "not captured here" in introduction(load_opengl(small), content)
    assert introduction(load_opengl(small), content) == "", "said once"
    remember(content, MADE_HERE)
    assert origin(content) == MADE_HERE
    (tmp_path / "somebody-else" / "wendascope" / "frames").write_bytes(b"\xff\xfe" * 100)
    assert origin(content) == "", "a damaged list knows nobody"


def test_the_command_line_introduces_a_stranger(small: Path, tmp_path: Path) -> None:
    environment = {**os.environ, "XDG_STATE_HOME": str(tmp_path)}
    told = [
        subprocess.run(
            [sys.executable, "-m", "wendascope.cli", "show", str(small)],
            capture_output=True,
            text=True,
            check=True,
            env=environment,
        ).stderr
        for _ in range(2)
    ]
    assert "not captured here" in told[0] and "1 GPU program that" in told[0]
    assert "not captured" not in told[1]


def test_a_pipe_is_no_frame(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe.wend")
    done = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", "show", str(tmp_path / "pipe.wend")],
        capture_output=True,
        text=True,
        timeout=30,
    )
    assert done.returncode == 3 and "is not a file" in done.stderr and "Traceback" not in done.stderr


def test_an_address_without_a_buffer_is_refused_when_it_is_run(small: Path, tmp_path: Path) -> None:
    from tests.attacks.hostile import all_hostile, make

    make(small, all_hostile()["pixels read back at 0x400000"], tmp_path / "hostile.wend")
    with (
        Replay(tmp_path / "hostile.wend") as replay,
        pytest.raises(ReplayError, match="address where no buffer is bound"),
    ):
        replay.run(verify.asked())


def test_another_protocol_is_refused_by_name(tmp_path: Path) -> None:
    from tests.conftest import program
    from wendascope.errors import TargetError
    from wendascope.tap import channel, launch

    out = tmp_path / "out.txt"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(channel, "PROTOCOL", channel.PROTOCOL + 1)  # what is sent to the tap
        with launch.Target(program("shapes", "--frames", "40", "--out", str(out))) as target:
            with pytest.raises(TargetError):
                target.capture(launch.Trigger(frame=5), 20.0)
            target.process.wait(20)
            target.output.finish()
            assert "runs on unwatched" in target.output.tail and out.exists()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(launch, "PROTOCOL", channel.PROTOCOL + 1)  # what is expected of the tap
        with (
            launch.Target(program("shapes", "--frames", "40")) as target,
            pytest.raises(TargetError, match=f"speaks protocol {channel.PROTOCOL}"),
        ):
            target.capture(launch.Trigger(frame=5), 20.0)


OLDER = """
import sys
from wendascope import confinement
version, calls = int(sys.argv[1]), sys.argv[2] == "seccomp"
confinement.landlock_version = lambda: version
if not calls:
    confinement._restrict_calls = lambda programs: ""
from wendascope.replay.worker import tell_what_is_in_force
tell_what_is_in_force()
"""


@pytest.mark.parametrize("calls", ["seccomp", "none"])
@pytest.mark.parametrize("version", [0, 1, 3, 4, 5, 6])
def test_what_an_older_kernel_lacks_is_not_told(version: int, calls: str) -> None:
    """What is said to be refused was tried: without a feature, what it would have refused is told as allowed."""
    if version > landlock_version():
        pytest.skip("this kernel is older itself")
    done = subprocess.run(
        [sys.executable, "-P", "-c", OLDER, str(version), calls], capture_output=True, check=True, timeout=60
    )
    found = msgspec.json.decode(done.stdout)
    told = " ".join(found["in_force"])
    assert ("Landlock" in told) == (version > 0) and ("seccomp" in told) == (calls == "seccomp")
    if version == 0:
        assert {"reads your files", "writes files"} <= set(found["allowed"])
    else:
        assert {"reads your files", "writes files"} <= set(found["refused"])
    by_calls = {
        "opens connections", "starts programs", "queues signals to other processes", "changes the times of files",
        "changes priorities of other processes", "attaches shared memory of others", "watches files",
    }  # fmt: skip
    if calls == "seccomp":
        assert by_calls <= set(found["refused"])
    else:
        assert {"opens connections", "watches files", "attaches shared memory of others"} <= set(found["allowed"])
    assert "raises its limit of memory" in found["refused"]
    assert not set(found["refused"]) & set(found["allowed"])


def test_numbers_of_system_calls_are_those_of_this_machine() -> None:
    header = Path("/usr/include/x86_64-linux-gnu/asm/unistd_64.h")
    if platform.machine() != "x86_64" or not header.exists():
        pytest.skip("the list of this processor is not here")
    known = dict(re.findall(r"#define __NR_(\w+) (\d+)", header.read_text()))
    for group in (
        system_calls.PLAIN,
        system_calls.FILES,
        system_calls.PROGRAMS,
        system_calls.OWN,
        system_calls.THREADS,
    ):
        for name, (number, _) in group.items():
            assert int(known.get(name, number)) == number, name
