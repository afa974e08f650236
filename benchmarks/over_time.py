"""Sequences: what the flaws of the demo's platform cost by proof and by the program without them, and what a sequence
of frames takes.
"""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from wendascope.advice.findings import Finding
from wendascope.analysis.sequence.over_time import frame_in_time, over_time
from wendascope.backends.opengl.frame import OpenGLFrame, opengl_frame
from wendascope.frame.file import save, save_sequence
from wendascope.frame.frame import Frame
from wendascope.frame.places import frame_path
from wendascope.replay.client import Replay
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.proofs.compare import compare_files
from wendascope.trials.proofs.proof import prove
from wendascope.trials.survey.examine import examine_file

FIRST, COUNT = 30, 8
PLANTED = {
    "timetable": "unchanged-pass",
    "panorama": "moved-layer",
    "monitor": "update-less-often",
    "casters": "static-part",
    "spare-lamp": "light-without-effect",
}
"""Flaw -> the rule that finds it."""
_SECONDS, _REPEATS = 8.0, 80


def _take(frame: int, count: int, *options: str) -> list[OpenGLFrame]:
    """So many frames of the platform in a row."""
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--view", "platform", *options]
    found = []
    with Target(command, environment={**os.environ, "PYTHONUNBUFFERED": "1"}) as target:
        trigger = Trigger(frame=frame)
        for number in range(count):
            then = Trigger(frame=frame + number + 1) if number < count - 1 else None
            found.append(opengl_frame(target.capture(trigger, 120.0, then=then)))
            trigger = then or trigger
    return found


def planted() -> Iterator[tuple[str, str, str]]:
    """Every flaw of the platform: what its proof saves, beside what the program without it takes less."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "platform.wend"
        frames = _take(FIRST, COUNT)
        save_sequence(frames, path)
        hitch = over_time([frame_in_time(frame, number) for number, frame in enumerate(frames, 1)])
        yield "the slow frame", hitch.sentence[:80], "the fifth, by its upload"
        last = frame_path(path, COUNT)
        examined = examine_file(last)
        with Replay(last) as replay:
            for flaw, rule in PLANTED.items():
                found = next((f for f in examined.findings if _finds(examined.frame, f, flaw, rule)), None)
                if found is None:
                    yield flaw, "not found", "found"
                    continue
                proof = prove(last, examined.frame, [found], replay, _SECONDS)
                without = Path(folder) / f"{flaw}.wend"
                save(_take(FIRST + COUNT - 1, 1, "--better", flaw)[0], without)
                less = compare_files(last, without, _REPEATS).frame.difference
                true = -less.median
                saved = proof.saved_ms.median if proof.saved_ms else 0.0
                yield (
                    f"{flaw}: {proof.verdict}",
                    f"{saved:.2f} ms, truly {true:.2f} ({-less.high:.2f} to {-less.low:.2f}), {saved / true - 1:+.0%}; "
                    f"est. {found.estimate_ms or 0:.2f}",
                    "within 20 %",
                )


def _finds(frame: Frame, finding: Finding, flaw: str, rule: str) -> bool:
    """Whether a finding is that of a flaw."""
    drawn_in = {"casters": "shadow", "spare-lamp": None}.get(flaw, flaw)
    name = frame.passes.names[int(frame.passes.of_step[finding.steps[0]])]
    return finding.rule == rule and drawn_in in (None, name)


def sizes() -> Iterator[tuple[str, str, str]]:
    """What eight frames take in place of one: the file, and how long the program is held for each."""
    with tempfile.TemporaryDirectory() as folder:
        one, many = Path(folder) / "one.wend", Path(folder) / "many.wend"
        single, frames = _take(FIRST, 1)[0], _take(FIRST, COUNT)
        save(single, one)
        save_sequence(frames, many)
        ratio = many.stat().st_size / one.stat().st_size
        yield "file of 8 frames over that of one", f"{ratio:.2f} ({many.stat().st_size / 1e6:.2f} MB)", "<= 2"
        pictures = sum(f.reference.pixels.nbytes for f in frames if f.reference) / 1e6
        yield "  of them reference pictures, before compression", f"{pictures:.1f} MB", "none"
        held = [frame.metadata.held_seconds for frame in frames]
        first, later = held[0], float(np.median(held[1:]))
        alone = single.metadata.held_seconds
        yield "held for each later frame over a frame alone", f"{later / alone:.2f} ({later:.2f} s)", "<= 2"
        yield "  held for the first one over a frame alone", f"{first / alone:.2f}", "<= 2"


BENCHMARKS = {"over-time": planted, "sequence": sizes}
