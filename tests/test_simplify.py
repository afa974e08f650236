"""Simpler meshes: shape kept within an error, drawn in place of what was captured."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.advice.findings import Finding
from wendascope.backends.opengl.changes.remedies.clean_mesh import cleaned
from wendascope.backends.opengl.changes.remedies.simplify_mesh import _joined, simplified
from wendascope.errors import TrialError
from wendascope.frame.file import load
from wendascope.frame.remedy import Remedy
from wendascope.replay.client import Replay
from wendascope.trials.proofs.runs import outcome_of, try_remedies
from wendascope.trials.remedies import change_of
from wendascope.trials.survey.examine import stored_examination

DEMO = Path(__file__).parent.parent / "src/wendascope/demo/data/depot.wend"


def sphere(rows: int, columns: int) -> tuple[npt.NDArray[np.uint32], npt.NDArray[np.float32]]:
    """(indices, positions) of a sphere of radius 1."""
    up, around = np.meshgrid(np.linspace(0, np.pi, rows + 1), np.linspace(0, 2 * np.pi, columns + 1), indexing="ij")
    places = np.stack([np.sin(up) * np.cos(around), np.cos(up), np.sin(up) * np.sin(around)], axis=-1)
    at = np.arange(rows * (columns + 1)).reshape(rows, columns + 1)[:, :-1].reshape(-1)
    a, b, c, d = at, at + 1, at + columns + 1, at + columns + 2
    return np.stack([a, c, b, b, c, d], axis=1).reshape(-1).astype(np.uint32), places.reshape(-1, 3).astype(np.float32)


@settings(max_examples=30, deadline=None)
@given(st.integers(8, 24), st.integers(8, 24), st.floats(0.01, 0.2))
def test_the_shape_stays_within_the_error(rows: int, columns: int, error: float) -> None:
    indices, positions = sphere(rows, columns)
    try:
        made = simplified(indices, positions, 4, error)
    except TrialError:
        return
    assert len(made) % 3 == 0 and 0 < len(made) <= 0.8 * len(indices) and set(made) <= set(indices)
    middles = positions[made].reshape(-1, 3, 3).mean(axis=1)
    # of a sphere of radius 1, whose extent is 2; faces of the captured mesh lie within it as well
    before = 1 - np.linalg.norm(positions[indices].reshape(-1, 3, 3).mean(axis=1), axis=1).min()
    assert 1 - np.linalg.norm(middles, axis=1).min() <= before + 3 * 2 * error


def test_triangles_that_share_no_corner_are_joined_by_place() -> None:
    """As programs draw them without indices: every triangle has corners of its own."""
    indices, positions = sphere(16, 16)
    apart = positions[indices]
    made = _joined(np.arange(len(indices), dtype=np.uint32), apart, 40, 0.05)
    assert 0 < len(made) < 0.5 * len(indices) and set(made.tolist()) <= set(range(len(apart)))
    assert np.abs(np.linalg.norm(apart[made], axis=1) - 1).max() < 1e-5, "corners of the mesh itself"


def test_what_cannot_be_simplified_says_so() -> None:
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], np.float32)
    with pytest.raises(TrialError, match="4 of 4 triangles are left"):
        simplified(np.array([0, 1, 2, 0, 2, 3, 0, 3, 1, 1, 3, 2], np.uint32), corners, 1, 1e-6)


def _too_fine() -> list[Finding]:
    _, findings = stored_examination(DEMO)
    return [f for f in findings if f.rule == "too-fine" and f.remedy is not None and f.remedy.kind == "simplify-mesh"]


@pytest.mark.driver
def test_the_stones_of_the_demo_can_be_drawn_with_fewer_triangles() -> None:
    found = max(_too_fine(), key=lambda f: f.evidence["triangles"])
    enough = int(found.title.rpartition("; ")[2].split()[0].replace(",", ""))
    remedy = Remedy("simplify-mesh", found.steps, values={"triangles": enough, "error": 0.05})
    frame = load(DEMO)
    change = change_of(frame, [remedy])
    change.edit()
    assert change.new_bytes > 0 and change.steps_after == len(frame.steps)
    with Replay(DEMO) as replay:
        outcome = replay.run(outcome_of.asked([remedy]))
        assert not outcome.left_behind and outcome.max_difference < 200
        run = replay.run(try_remedies.asked([remedy], [], 0.5))
    assert run.times.pairs >= 1, "a picture that may change a little is measured all the same"
    vertices = next(row for row in run.counts if "vert" in row.what)
    assert vertices.after < vertices.before


@pytest.mark.parametrize("painted", [False, True])
def test_a_mesh_that_is_left_out_is_not_simplified(painted: bool) -> None:
    """A plan leaves out a view that nobody sees, and simplifies a mesh that is drawn in it as well."""
    found = max(_too_fine(), key=lambda f: f.evidence["triangles"])
    frame, steps = load(DEMO), found.steps[:1]
    simpler = Remedy("simplify-mesh", steps, values={"triangles": 100, "error": 0.5})
    alone = change_of(frame, [simpler]).edit()
    both = change_of(frame, [Remedy("drop-steps", steps), simpler], painted=painted).edit()
    call = int(frame.steps.call[steps[0]])
    assert [i.before for i in alone.insertions] == [call] and not both.insertions
    assert both.drop is not None and both.drop[call]


@pytest.mark.driver
def test_meshes_that_are_not_there_are_refused() -> None:
    frame = load(DEMO)
    clear = next(s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "clear")
    with pytest.raises(TrialError):
        change_of(frame, [Remedy("simplify-mesh", [clear], values={"triangles": 2})]).edit()


def test_cleaned_keeps_each_whole_triangle_once_in_its_order() -> None:
    corners = np.array([0, 1, 2, 3, 3, 4, 2, 0, 1, 5, 6, 7, 7, 5, 6, 1, 2, 3], np.uint32)
    assert cleaned(corners).tolist() == [0, 3, 5], "no area in 1, the first again in 2, the fourth again in 4"
    assert cleaned(np.zeros(0, np.uint32)).tolist() == []
    assert cleaned(corners, once=False).tolist() == [0, 2, 3, 4, 5], "what is blended stays as often as it was"
