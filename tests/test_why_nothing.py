"""Why nothing comes from a program is told truly, and soon."""

from __future__ import annotations

import dataclasses
import shlex
import sys
import time
from pathlib import Path

import pytest

from wendascope.errors import TargetError
from wendascope.registry import native_library
from wendascope.tap.launch import Target, Trigger
from wendascope.tap.why_nothing import Process, guess_for, program_form, reason_for

PROGRAM = [sys.executable, str(Path(__file__).parent / "programs" / "shapes.py"), "--frames", "100000"]
TAP = native_library().name
FINE = Process(7, "tram", frozenset({"libGL.so.1", TAP}), True, False, True, True, "")


@pytest.mark.parametrize(
    ("changes", "says"),
    [
        ({"libraries": frozenset({"libGL.so.1"}), "preloads": False}, "environment was cleared"),
        ({"libraries": frozenset({"libEGL.so.1"}), "privileged": True}, "another user's rights"),
        ({"libraries": frozenset({"libGLESv2.so.2"}), "sees_tap": False}, "sandbox that does not have"),
        ({"libraries": frozenset({"libGL.so.1"})}, "another way"),
        ({"sees_socket": False}, "temporary folder of its own"),
        ({"libraries": frozenset({"libvulkan.so.1", TAP})}, "draws with Vulkan"),
        ({"libraries": frozenset({"libvk_swiftshader.so"})}, "draws with Vulkan"),
        ({"libraries": frozenset(), "form": "32-bit"}, "32-bit"),
    ],
)
def test_what_is_certain_is_told(changes: dict[str, object], says: str) -> None:
    assert says in reason_for([dataclasses.replace(FINE, **changes)])  # type: ignore[arg-type]


def test_what_is_not_certain_is_no_reason() -> None:
    assert reason_for([FINE]) == ""
    assert reason_for([dataclasses.replace(FINE, libraries=frozenset({"libGL.so.1", "libvulkan.so.1", TAP}))]) == ""
    assert "not used it yet" in guess_for([FINE])
    plain = dataclasses.replace(FINE, libraries=frozenset({TAP}))
    assert "has loaded OpenGL" in guess_for([plain])
    assert "linked statically" in guess_for([dataclasses.replace(plain, form="static")])
    assert guess_for([]) == "it has ended"


def test_programs_tell_their_form(tmp_path: Path) -> None:
    assert program_form(Path(sys.executable).resolve()) == ""
    script, small = tmp_path / "script", tmp_path / "small"
    script.write_text("#!/bin/sh\n")
    small.write_bytes(b"\x7fELF\x01" + bytes(80))
    assert program_form(script) == "" and program_form(small) == "32-bit"
    static = tmp_path / "static"
    static.write_bytes(b"\x7fELF\x02" + bytes(27) + (64).to_bytes(8, "little") + bytes(80))
    assert program_form(static) == "static"


@pytest.mark.driver
def test_a_cleared_environment_is_told_at_once() -> None:
    started = time.monotonic()
    with Target(["env", "-i", *PROGRAM]) as target, pytest.raises(TargetError, match="environment was cleared"):
        target.connect(Trigger(), 60.0)
    assert time.monotonic() - started < 30


@pytest.mark.driver
def test_a_launcher_may_end_before_what_it_started(tmp_path: Path) -> None:
    launcher = tmp_path / "launcher"
    launcher.write_text(f"#!/bin/sh\n{shlex.join(PROGRAM)} &\n")
    launcher.chmod(0o755)
    with Target([str(launcher)]) as target:
        frame = target.capture(Trigger(frame=3), 60.0)
        child = target.channel.process if target.channel else 0
        assert frame.call_count and child and child != target.process.pid
    deadline = time.monotonic() + 5
    while Path(f"/proc/{child}").exists() and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not Path(f"/proc/{child}").exists(), "what a launcher leaves behind ends with the capture"
