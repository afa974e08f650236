"""Captures programs that nobody here wrote, each at three frames, and prints how each capture replays.

    python tools/program_matrix.py [words...]     only programs whose name contains a word
        --at N              one frame of each instead of three
        --second-driver     captured and replayed on OpenGL over Vulkan, not on this machine's first driver

Needs a display; `xvfb-run` makes one. Programs whose packages are missing say so in their row:
`pip install arcade pyglet pygame pyvista moderngl glfw PyOpenGL panda3d vispy mujoco kivy PySide6`; es2tri is driven by
`xdotool`; screensavers are those of the packages xscreensaver-gl and xscreensaver-gl-extra.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from wendascope.errors import WendascopeError
from wendascope.frame.file import save
from wendascope.measure.pictures import verify
from wendascope.replay.client import Replay
from wendascope.tap.channel import FrameEnd
from wendascope.tap.launch import Target, Trigger

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests import SECOND_DRIVER

TESTS = Path(__file__).parent.parent / "tests" / "programs"
OTHERS = Path(__file__).parent / "matrix_programs"
FRAMES = (2, 15, 40)
SCREENSAVERS = Path("/usr/libexec/xscreensaver")
NOT_GL = ("mapscroller.pl", "xscreensaver-gl-visual")
INSTALLED = (
    ("osg light", ("osglight",)),
    ("osg shadow", ("osgshadow",)),
    ("osg deferred", ("osgdeferred",)),
    ("planetarium", ("stellarium",)),
    ("kart racing", ("/usr/games/supertuxkart", "--no-sound", "--screensize=640x480", "--windowed")),
    ("strategy game", ("/usr/games/warzone2100", "--nosound", "--window", "--gfxbackend=opengl")),
    ("voxel game", ("/usr/games/minetest",)),
)  # fmt: skip


@dataclass(frozen=True)
class Program:
    name: str
    command: tuple[str, ...]
    frame_end: FrameEnd = FrameEnd.swap
    environment: tuple[tuple[str, str], ...] = ()


def programs() -> list[Program]:
    """Everything that is installed here."""
    found = [Program(name, (name,)) for name in ("glxgears", "es2gears_x11", "es2tri")]
    found += [
        Program(f"glxgears {label}", ("glxgears", *arguments))
        for label, arguments in (("samples", ("-samples", "4")), ("stereo off", ("-geometry", "640x480")))
    ]
    for tool in ("glmark2", "glmark2-es2"):
        listed = subprocess.run([tool, "--list-scenes"], capture_output=True, text=True, check=False).stdout
        for scene in re.findall(r"\[Scene\] (\S+)", listed):
            if scene not in ("default", "loop"):
                found.append(Program(f"{tool} {scene}", (tool, "-s", "400x300", "-b", f"{scene}:duration=60.0")))
    own = (("MUJOCO_GL", "glfw"),)
    found += [Program(path.stem, (sys.executable, str(path)), environment=own) for path in sorted(OTHERS.glob("*.py"))]
    found += [
        Program(f"screensaver {path.name}", (str(path), "--window"))
        for path in sorted(SCREENSAVERS.glob("*"))
        if path.name not in NOT_GL
    ]
    for name, command in INSTALLED:
        if shutil.which(command[0]):
            found.append(Program(name, command))
    for path in sorted(TESTS.glob("[!_]*.py")):
        frame_end = FrameEnd.readback if "readback" in path.stem else FrameEnd.swap
        arguments = {
            "shapes": ("--frames", "100000"),
            "troubled": ("changes_threads",),
            "crowd": ("core",),
            "scenes": ("1",),
            "shades": ("core",),
        }.get(path.stem, ())
        found.append(Program(path.stem, (sys.executable, str(path), *arguments), frame_end))
    for version in ("2.0", "2.1", "3.0"):
        older = (("MESA_GL_VERSION_OVERRIDE", version),)
        found += [
            Program(f"{name} GL {version}", (sys.executable, str(TESTS / f"{name}.py")), environment=older)
            for name in ("fixed_function", "client_arrays")
        ]
    for version in ("2.0", "3.0", "3.1"):
        older = (("MESA_GLES_VERSION_OVERRIDE", version),)
        found.append(
            Program(f"gles ES {version}", (sys.executable, str(TESTS / "gles.py"), version[0]), environment=older)
        )
    return found


def nudge(program: Program, stop: threading.Event) -> None:
    """es2tri draws when a key is pressed."""
    while program.name == "es2tri" and not stop.wait(0.2):
        with contextlib.suppress(FileNotFoundError):  # without it, its frames are those that it draws by itself
            subprocess.run(
                ["xdotool", "search", "--name", "ES 2.x tri", "key", "Left"], capture_output=True, check=False
            )


def row(program: Program, number: int, folder: Path) -> str:
    path = folder / "frame.wend"
    try:
        started = time.monotonic()
        stop = threading.Event()
        with Target(program.command, environment={**os.environ, **dict(program.environment)}) as target:
            threading.Thread(target=nudge, args=(program, stop), daemon=True).start()
            try:
                frame = target.capture(Trigger(frame=number, frame_end=program.frame_end), 40.0)
            finally:
                stop.set()
        save(frame, path)
        taken = time.monotonic() - started
        with Replay(path) as replay:
            result = replay.run(verify.asked())
    except WendascopeError as error:
        missing = re.search(r"No module named '\w+'", getattr(error, "output", ""))
        return f"{program.name:<24} {number:>4}  {missing[0] if missing else str(error)[:110]}"
    same = "all" if result.identical else f"{result.pixels_different} differ by {result.max_difference}"
    caveats = "; ".join(result.caveats) or "none"
    return (
        f"{program.name:<24} {number:>4}  {frame.context!s:<26} {frame.call_count:>6} {len(frame.steps):>6}"
        f" {taken:>7.2f} {frame.metadata.held_seconds:>6.2f} {path.stat().st_size / 1024:>8.0f}  {same:<26} {caveats}"
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("words", nargs="*")
    parser.add_argument("--at", type=int, default=0)
    parser.add_argument("--second-driver", action="store_true")
    arguments = parser.parse_args()
    words, frames = arguments.words, (arguments.at,) if arguments.at else FRAMES
    if arguments.second_driver:
        os.environ |= SECOND_DRIVER
    print(
        f"{'program':<24} {'at':>4}  {'API':<26} {'calls':>6} {'steps':>6} {'s':>7} {'held':>6} {'KB':>8} "
        f" {'pixels identical':<26} caveats"
    )
    with tempfile.TemporaryDirectory() as folder:
        for program in programs():
            if not words or any(word in program.name for word in words):
                for number in frames:
                    print(row(program, number, Path(folder)), flush=True)


if __name__ == "__main__":
    main()
