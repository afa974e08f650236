"""Whether the modelled cost of fragment shaders ranks them as their measured time per fragment does; and edit to
picture.
"""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np

from benchmarks.replaying import DEMO, Row
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.shaders.study import study_shaders
from wendascope.backends.opengl.frame import opengl_frame
from wendascope.frame.file import load, save
from wendascope.frame.remedy import EditedSource, Remedy
from wendascope.measure.pictures import verify
from wendascope.registry import GL
from wendascope.replay.client import Replay
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.proofs.runs import edited_picture
from wendascope.trials.survey.examine import examine_file

_SCENES = (
    "terrain",
    "texture",
    "jellyfish",
    "desktop:effect=blur:windows=4",
    "shadow",
    "effect2d:kernel=1,1,1;1,1,1;1,1,1;",
    "bump",
    "function",
    "loop",
)
_LEAST_FRAGMENTS = 20_000
_FRAGMENTS_A_VERTEX = 50
"""Steps with fewer are bound by their vertices and triangles, and tell little of their fragments."""


def _measured(path: Path, name: str) -> Iterator[tuple[float, float, str]]:
    """(measured ns a fragment, modelled cost) of each program that draws many fragments of few vertices."""
    frame, survey = opengl_frame(load(path)), examine_file(path, 10, until="times").survey
    counted = survey.fragments or []
    for program in study_shaders(Sharing(frame)):
        steps = [
            s
            for s in program.steps
            if counted and counted[s] >= max(_LEAST_FRAGMENTS, _FRAGMENTS_A_VERTEX * int(frame.steps.vertices[s]))
        ]
        if steps and program.fragment_cost is not None:
            step = max(steps, key=lambda s: counted[s])
            yield survey.steps.ms[step] * 1e6 / counted[step], program.fragment_cost, f"{name} {program.label}"


def ranking() -> Iterator[Row]:
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(shutil.copy(DEMO, folder))
        rows += list(_measured(path, "demo"))
        for number, scene in enumerate(_SCENES):
            taken = Path(folder) / f"{number}.wend"
            with Target(["glmark2", "-s", "640x360", "-b", f"{scene}:duration=30.0"]) as target:
                save(target.capture(Trigger(frame=12), 60.0), taken)
            rows += list(_measured(taken, scene.partition(":")[0]))
    for measured, modelled, name in sorted(rows):
        print(f"  {measured:8.1f} ns  {modelled:8.0f}  {name}", file=sys.stderr)
    ranks = [np.argsort(np.argsort([row[k] for row in rows])).astype(float) for k in (0, 1)]
    correlation = float(np.corrcoef(np.array(ranks))[0, 1])
    yield f"modelled cost against time, rank correlation of {len(rows)} shaders", f"{correlation:.3f}", ">= 0.85"


def edit() -> Iterator[Row]:
    """From an edited source to its picture and time, the replay running: a small shader, and the one that compiles
    longest.
    """
    frame = opengl_frame(load(DEMO))
    with Replay(DEMO) as replay:
        replay.run(verify.asked())
        for name, text in ((28, "edge * 0.55"), (1, "q.z - 0.003")):
            record, times = frame.objects.program(name), []
            assert record is not None
            passes = sorted({int(p) for p in frame.passes.of_step[frame.steps.program == name]})
            for k in range(5):
                sources = [
                    EditedSource(s.type, s.source.replace(text, text + str(k + 1)))
                    for s in record.shaders
                    if s.type == GL.FRAGMENT_SHADER
                ]
                assert all(text + "1" in s.text for s in sources) or k
                remedy = msgspec.to_builtins([Remedy("edit-shader", [], program=name, sources=sources)])
                started = time.perf_counter()
                replay.run(edited_picture.asked(remedies=remedy, passes=passes))
                times.append(time.perf_counter() - started)
            yield (
                f"an edited shader of the demo (program {name}) to picture and time",
                f"{np.median(times):.2f} s ({min(times):.2f} to {max(times):.2f})",
                "<= 2 s",
            )


BENCHMARKS = {"shaders": ranking, "edit": edit}
