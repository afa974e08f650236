"""Proofs: how long they take, whether load changes what they say, and whether they claim what is not there."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from benchmarks.replaying import DEMO, Row
from tests import SECOND_DRIVER
from wendascope.backends.opengl.frame import opengl_frame
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.measure.clocks import Clock
from wendascope.measure.samples import use_clock
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.trials.proofs.proof import Proof, measured_proof
from wendascope.trials.proofs.prove_all import AllProofs, prove_all
from wendascope.trials.proofs.runs import driver_name, time_remedies
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey.examine import stored_examination

_BUSY, _RUNS = 2, 20
_YARD = DEMO.parent / "signal-box.wend"


@contextlib.contextmanager
def loaded(on: bool) -> Iterator[None]:
    """Two busy loops beside it."""
    loops = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(_BUSY if on else 0)]
    try:
        yield
    finally:
        for loop in loops:
            loop.kill()
            loop.wait()


def _prove(path: Path) -> tuple[AllProofs, float]:
    frame = load(path)
    _, findings = stored_examination(path)
    with Replay(path) as replay:
        started = time.monotonic()
        reached = prove_all(
            path, frame, [f for f in findings if f.remedy is not None], replay, again=True, budget=3600.0, unsure=True
        )
        return reached, time.monotonic() - started


def all_proofs() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(shutil.copy(DEMO, Path(folder) / "depot.wend"))
        found: list[dict[str, Proof]] = []
        for busy in (False, True):
            with loaded(busy):
                reached, seconds = _prove(path)
            found.append({p.finding: p for p in reached.proofs})
            how = "two busy loops beside" if busy else "idle"
            bar = "none" if busy else "<= 90 s"
            together = f", together {reached.combined.told_verdict}" if reached.combined else ""
            yield (
                f"{len(reached.proofs)} proofs of the demo and the combined one, {how}",
                f"{seconds:.0f} s{together}",
                bar,
            )
        same = sum(a.verdict == found[1][k].verdict for k, a in found[0].items())
        yield "the same verdict idle and under load", f"{same} of {len(found[0])}", ">= 95 %"
        for identity, idle in found[0].items():
            if idle.verdict != found[1][identity].verdict:
                yield f"  {identity}", f"{idle.told_verdict}; loaded: {found[1][identity].told_verdict}", ""
        against = sum({a.verdict, found[1][k].verdict} == {Verdict.SAVES, Verdict.COSTS} for k, a in found[0].items())
        yield "opposite verdicts idle and under load", f"{against}", "0"


def _unchanged() -> tuple[Frame, Remedy]:
    """The demo, and a remedy that changes nothing: the steps of a pass in the order they have."""
    frame = load(DEMO)
    index = frame.passes.names.index("camera")
    run = list(range(int(frame.passes.first[index]) + 1, int(frame.passes.end[index])))
    return frame, Remedy("reorder-steps", run, run)


def no_change() -> Iterator[Row]:
    """A remedy that changes nothing, which may not be claimed to."""
    frame, unchanged = _unchanged()
    for busy in (False, True):
        with Replay(DEMO) as replay, loaded(busy):
            measured_proof(frame, "warm", [unchanged], replay)
            proofs, times = [], []
            for _ in range(_RUNS):
                started = time.monotonic()
                proofs.append(measured_proof(frame, "same", [unchanged], replay))
                times.append(time.monotonic() - started)
        claimed = sum(p.verdict in (Verdict.SAVES, Verdict.COSTS) for p in proofs)
        how = "two busy loops beside" if busy else "idle"
        yield f"{_RUNS} proofs of no change, {how}", f"{claimed} claimed, {np.median(times):.1f} s each", "0, <= 2 s"


def timer_queries() -> Iterator[Row]:
    """The same on a second driver, OpenGL over Vulkan, whose timer queries are right and taken as the clock."""
    frame, unchanged = _unchanged()
    before = {name: os.environ.get(name) for name in SECOND_DRIVER}
    os.environ |= SECOND_DRIVER
    try:
        with Replay(DEMO) as replay:
            renderer = replay.run(driver_name.asked())
            replay.run(use_clock.asked(Clock.QUERY.value))
            proofs = [measured_proof(frame, "same", [unchanged], replay) for _ in range(2 * _RUNS)]
    finally:
        for name, value in before.items():
            os.environ.pop(name) if value is None else os.environ.update({name: value})
    claimed = sum(p.verdict in (Verdict.SAVES, Verdict.COSTS) for p in proofs)
    yield f"{2 * _RUNS} proofs of no change by timer queries, {renderer.split(' (')[0]}", f"{claimed} claimed", "0"


def known_saving() -> Iterator[Row]:
    """The loop of the grading pass with half its iterations, the colours left alone by how it ends: a known saving."""
    frame = opengl_frame(load(DEMO))
    program = next(p for p in frame.objects.programs if any("rounds" in s.source for s in p.shaders))
    source = next(s.source for s in program.shaders if s.type == GL.FRAGMENT_SHADER)
    # the loop runs as ever, its second half on a copy that nobody reads; halved, the copy goes
    twice = re.sub(r"\bi < rounds\b", "i < rounds / 2", source)
    steps = [s for s in range(len(frame.steps)) if int(frame.steps.program[s]) == program.name]
    edited = [Remedy("edit-shader", steps, program=program.name, sources=[EditedSource(GL.FRAGMENT_SHADER, twice)])]
    for busy in (False, True):
        found, sizes = 0, []
        with Replay(DEMO) as replay, loaded(busy):
            for _ in range(_RUNS):
                run = replay.run(time_remedies.asked(edited, [frame.passes.names.index("grade")], 6.0))
                found += run.work.decision == "gain"
                if run.work.saved is not None:
                    sizes.append(run.work.saved.median / run.work.frame_ms.median)
        how = "two busy loops beside" if busy else "idle"
        yield (
            f"half the iterations of one loop, {100 * float(np.median(sizes)):.1f} % of the frame, {how}",
            f"found in {found} of {_RUNS}",
            ">= 19",
        )


def submission_bound() -> Iterator[Row]:
    """The yard: what all proofs together promise, and what the program does with the same flaws switched off."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(shutil.copy(_YARD, Path(folder) / "yard.wend"))
        reached, seconds = _prove(path)
    combined = reached.combined
    assert combined is not None and combined.submit_ms_before and combined.submit_ms_after and combined.frame_ms_after
    yield f"{len(reached.proofs)} proofs of the yard and the combined one", f"{seconds:.0f} s", "none"
    yield "  picture of the combined frame", combined.picture, "identical"
    before, after = combined.submit_ms_before.median, combined.submit_ms_after.median
    yield (
        "  CPU of submission, on this driver",
        f"{before:.1f} -> {after:.1f} ms, {before / after:.1f} times less",
        ">= 5",
    )
    if combined.api_ms_before and combined.api_saved_ms:
        api = combined.api_ms_before - combined.api_saved_ms.median
        yield (
            "  CPU of submission, the API's part",
            f"{combined.api_ms_before:.2f} -> {api:.2f} ms, {combined.api_ms_before / max(api, 1e-3):.1f} times less",
            ">= 5",
        )
    command = [
        sys.executable,
        "-m",
        "wendascope.demo",
        "--off-screen",
        "--view",
        "signal-box",
        "--frames",
        "60",
        "--times",
    ]
    environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
    times = []
    for options in ([], ["--better", "instancing,state"]):
        told = subprocess.run([*command, *options], capture_output=True, text=True, check=True, env=environment).stdout
        times.append(float(told.split()[0]))
    assert combined.overlapping_ms is not None
    yield (
        "  frame promised, and frame of the program without those flaws",
        f"{combined.overlapping_ms[1]:.1f} and {times[1]:.1f} ms (with them {times[0]:.1f})",
        "within 20 %",
    )


BENCHMARKS = {
    "proofs": all_proofs,
    "no-change": no_change,
    "timer-queries": timer_queries,
    "known": known_saving,
    "yard": submission_bound,
}
