"""What changed between two frames: draws, programs, targets and textures that were changed on purpose are found."""

from __future__ import annotations

import copy
import dataclasses
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import DATA, load_opengl
from wendascope.backends.opengl.calls.packed import in_order
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.frame.file import load, save
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.checks.changes import Cause, _as_small, bisect_frames, changes_between

YARD = DATA / "signal-box.wend"


def _drawn_again(frame: OpenGLFrame, steps: list[int]) -> OpenGLFrame:
    again = np.asarray(frame.steps.call)[steps]
    order = np.sort(np.concatenate([np.arange(len(frame.calls)), again]), kind="stable")
    return dataclasses.replace(frame, calls=in_order(frame.calls, order))


def _with_variant(frame: OpenGLFrame, program: int) -> OpenGLFrame:
    """One fragment shader does more in vain."""
    objects = copy.deepcopy(frame.objects)
    record = next(p for p in objects.programs if p.name == program)
    shader = next(s for s in record.shaders if "gl_FragColor" in s.source or "out vec4" in s.source)
    at = shader.source.rindex("}")
    more = "\nfloat waste = 0.0;\nfor (int i = 0; i < 64; i++) waste += sin(float(i) + gl_FragCoord.x);\n"
    more += "if (waste > 1e9) discard;\n"
    shader.source = shader.source[:at] + more + shader.source[at:]
    return dataclasses.replace(frame, objects=objects)


def _largest(frame: OpenGLFrame) -> tuple[int, list[int]]:
    """(program, its draws) of the program with most of them."""
    draws = [s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw"]
    programs = np.asarray(frame.steps.program)[draws]
    program = int(np.bincount(programs).argmax())
    return program, [s for s in draws if frame.steps.program[s] == program]


def test_a_frame_has_no_changes_against_itself() -> None:
    assert changes_between(load(YARD), load(YARD)) == []


def test_draws_that_came_and_went_are_found_with_their_steps() -> None:
    before = load_opengl(YARD)
    program, draws = _largest(before)
    after = _drawn_again(before, draws[3:8])
    found = changes_between(before, after)
    assert [change.cause for change in found] == [Cause.MORE] and found[0].program == program
    assert len(found[0].steps) == 5 and found[0].remedies[0].kind == "drop-steps"
    assert all(after.steps.program[step] == program for step in found[0].steps)
    gone = changes_between(after, before)
    assert [change.cause for change in gone] == [Cause.FEWER] and len(gone[0].steps) == 5 and not gone[0].remedies


def test_a_variant_of_a_shader_is_known_as_one_and_its_draws_as_the_same() -> None:
    before = load_opengl(YARD)
    program, draws = _largest(before)
    found = changes_between(before, _with_variant(before, program))
    assert {change.cause for change in found} == {Cause.VARIANT}
    assert sorted(step for change in found for step in change.steps) == draws
    remedy = found[0].remedies[0]
    assert remedy.kind == "edit-shader" and "waste" not in remedy.sources[0].text and "lines otherwise" in found[0].what


@pytest.mark.driver
def test_what_a_change_takes_is_measured_by_taking_it_back(tmp_path: Path) -> None:
    before = load_opengl(YARD)
    program, _ = _largest(before)
    path = tmp_path / "after.wend"
    save(_with_variant(before, program), path)
    found = bisect_frames(YARD, path, repeats=6, seconds=20.0)
    assert found.changes and found.changes[0].cause is Cause.VARIANT and found.changes[0].ms is not None
    took = sum(change.ms.median for change in found.changes if change.ms is not None)
    assert (took > 0 and "could be taken back" in found.sentence) or "no change" in found.sentence
    done = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", "bisect-frame", str(YARD), str(path), "--repeats", "6", "--json"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert json.loads(done.stdout)["changes"][0]["cause"] == "other variant of a shader"


def _captured(path: Path, *options: str) -> Path:
    with Target([sys.executable, "-m", "wendascope.demo", "--off-screen", *options]) as target:
        save(target.capture(Trigger(frame=5), 60.0), path)
    return path


@pytest.mark.driver
def test_textures_and_targets_are_taken_back_to_what_they_were(tmp_path: Path) -> None:
    """The programs draw them otherwise; taken back, the later frame has the size and the levels of the earlier."""
    small = "--view", "store", "--size", "320x180"
    before = _captured(tmp_path / "before.wend", *small, "--better", "poster,mip-levels")
    after = _captured(tmp_path / "after.wend", *small)
    found = {change.cause: change for change in bisect_frames(before, after, repeats=6, seconds=1.0).changes}
    assert set(found) == {Cause.LEVELS, Cause.TEXTURE}
    assert found[Cause.LEVELS].remedies[0].kind == "mip-levels"
    assert found[Cause.TEXTURE].remedies[0].values == {"levels": 5.0}
    assert all(change.ms is not None and not change.untried for change in found.values())

    before = _captured(tmp_path / "mirror-before.wend", "--size", "480x270", "--better", "mirror")
    after = _captured(tmp_path / "mirror-after.wend", "--size", "480x270")
    result = bisect_frames(before, after, repeats=6, seconds=2.0)
    assert [change.cause for change in result.changes] == [Cause.TARGET]
    change = result.changes[0]
    assert change.remedies[0].divide == 2 and change.ms is not None and change.ms.median > 0


def test_a_size_that_does_not_divide_is_told_and_not_taken_back() -> None:
    frame = load(YARD)
    old, now = frame.passes.targets[0], frame.passes.targets[0]
    for width, height in ((now.width // 2 + 1, now.height // 2), (now.width, now.height), (0, 0)):
        was = dataclasses.replace(old, width=width, height=height)
        assert _as_small(frame, 0, was, now) == []
    was = dataclasses.replace(old, width=now.width // 2, height=now.height // 2)
    assert _as_small(frame, 0, was, now)[0].divide == 2
