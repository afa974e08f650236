"""Two eyes: found where only x differs, and not where a view is anything else."""

from __future__ import annotations

import numpy as np
import pytest

from tests.synthetic import MODEL, frame_of, objects
from wendascope.advice.findings import Case
from wendascope.advice.findings.two_eyes import eyes
from wendascope.analysis.draws.two_eyes import two_eyes
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import UniformRecord
from wendascope.demo.data import demo_files
from wendascope.frame.blobs import BlobStore
from wendascope.frame.file import load
from wendascope.registry import GL

COUNT, MODE = 12, 40


def _seen(change: np.ndarray, second: int = COUNT, mode: int = 0) -> OpenGLFrame:
    """A dozen draws in the left half of the window, and some of them again in the right, with changed matrices. `mode`
    is how a uniform of one number differs between the halves.
    """
    blobs, batch = BlobStore(), CallBatch()
    made = objects(blobs, 2, COUNT, 2)
    for program in made.programs:
        program.uniforms.append(UniformRecord("mode", GL.INT, 1, [MODE]))
    for eye, count in enumerate((COUNT, second)):
        batch.call("glViewport", 32 * eye, 0, 32, 64)
        for mesh in range(1, count + 1):
            batch.call("glUseProgram", 1 + mesh % 2)
            batch.call("glBindVertexArray", mesh)
            matrix = np.eye(4, dtype=np.float32) * mesh + eye * change
            batch.call("glUniformMatrix4fv", MODEL, 1, 0, matrix.astype(np.float32).tobytes())
            batch.call("glUniform1i", MODE, eye * mode)
            batch.call("glDrawElements", GL.TRIANGLES, 36, GL.UNSIGNED_SHORT, Raw(0))
    return frame_of(batch, made, blobs)


def _moved(row: int) -> np.ndarray:
    change = np.zeros((4, 4), np.float32)
    change[3, row] = 0.06  # by columns: the last one is where to
    return change


def test_the_same_draws_shifted_sideways_are_two_eyes() -> None:
    (found,) = two_eyes(_seen(_moved(0)))
    assert len(found.first) == len(found.second) == COUNT and found.alone == 0
    (finding,) = eyes(Case(_seen(_moved(0)), Drawn([], [], []), None))
    assert finding.remedy is None and finding.refused and "12 draws occur twice" in finding.title


def test_halves_that_are_shaded_otherwise_are_no_eyes() -> None:
    assert len(two_eyes(_seen(_moved(0), mode=0))) == 1
    assert two_eyes(_seen(_moved(0), mode=1)) == [], "before and after, side by side"


@pytest.mark.parametrize("row", [1, 3], ids=["from above", "from farther off"])
def test_other_views_are_not(row: int) -> None:
    assert two_eyes(_seen(_moved(row))) == []


def test_the_same_view_again_and_another_scene_are_not() -> None:
    assert two_eyes(_seen(np.zeros((4, 4), np.float32))) == [], "a second layer of the same"
    assert two_eyes(_seen(_moved(0), COUNT // 2)) == [], "half of it has no counterpart"


def test_the_demo_has_one_eye() -> None:
    assert all(two_eyes(load(path)) == [] for path in demo_files()[:3]), "its mirror and its camera are no eyes"
