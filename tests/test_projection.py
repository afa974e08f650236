"""Depths as distances: what a matrix gives away, and which matrix a position is made of."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import DATA
from wendascope.analysis.geometry.projection import names_behind_position, perspective_in, perspective_of
from wendascope.frame.file import load
from wendascope.measure.pictures import picture_at
from wendascope.replay.client import Replay


def _projection(near: float, far: float, from_zero: bool, reversed_: bool) -> np.ndarray:
    """Rows as one writes them; as OpenGL's own specification defines a frustum, and its variants."""
    a, b = (far, near) if reversed_ else (near, far)
    z, w = (b / (a - b), a * b / (a - b)) if from_zero else ((a + b) / (a - b), 2 * a * b / (a - b))
    return np.array([[1.5, 0, 0.1, 0], [0, 2.0, 0, 0], [0, 0, z, w], [0, 0, -1, 0]])


def _view(angle: float, lift: float, away: float) -> np.ndarray:
    c, s = np.cos(angle), np.sin(angle)
    turned = np.array([[c, 0, s, 0], [0, 1, 0, 0], [-s, 0, c, 0], [0, 0, 0, 1]])
    moved = np.eye(4)
    moved[:3, 3] = 3.0, lift, away
    return turned @ moved


@given(
    st.floats(0.05, 2), st.floats(20, 2000), st.booleans(), st.booleans(), st.floats(0, 6.3), st.floats(-9, 9),
    st.floats(0.2, 8),
)  # fmt: skip
def test_distances_come_back_from_any_product_with_a_perspective(
    near: float, far: float, from_zero: bool, reversed_: bool, angle: float, lift: float, scale: float
) -> None:
    view = _view(angle, lift, -4)
    model = np.diag([scale, scale * 2, scale, 1.0])
    matrix = _projection(near, far, from_zero, reversed_) @ view @ model
    found = perspective_in("m", matrix.T.astype(np.float32))  # column by column
    assert found is not None
    points = np.random.default_rng(1).uniform(-10, 10, (200, 4))
    points[:, 3] = 1
    clip, eye = points @ matrix.T, points @ (view @ model).T
    distance = -eye[:, 2]
    seen = (distance > 2 * near) & (distance < min(far, 40 * near))  # further away float32 has few depths left
    depth = clip[:, 2] / clip[:, 3]
    held = depth if from_zero else depth / 2 + 0.5
    back = found.distance(held.astype(np.float32), 0.0, 1.0, from_zero)
    assert back[seen] == pytest.approx(distance[seen], rel=0.02)


def test_what_has_no_perspective_is_not_taken_for_one() -> None:
    parallel = np.diag([0.1, 0.1, -0.02, 1.0])
    parallel[2, 3] = -1.0
    for matrix in (parallel, parallel @ _view(0.4, 1, -2), np.eye(4), np.zeros((4, 4)), np.full((4, 4), np.nan)):
        assert perspective_in("m", matrix.T.astype(np.float32)) is None
    skewed = _projection(0.1, 100, False, False)
    skewed[2, 0] = 0.5  # depth that does not go along the view
    assert perspective_in("m", skewed.T.astype(np.float32)) is None


def test_a_range_of_the_viewport_is_taken_back() -> None:
    found = perspective_in("m", _projection(0.5, 50, False, False).T.astype(np.float32))
    assert found is not None
    depth = np.array([0.0, 1.0], np.float32)
    assert found.distance(depth) == pytest.approx([0.5, 50], rel=1e-3)
    assert found.distance(0.2 + 0.6 * depth, 0.2, 0.8) == pytest.approx([0.5, 50], rel=1e-3)
    assert not np.isfinite(found.distance(np.array([5.0], np.float32))).any()


def test_a_position_is_made_of_what_leads_to_it() -> None:
    source = """
    uniform mat4 camera; uniform mat4 light; uniform mat4 bones[4];  // gl_Position = light;
    #define WORLD(p) (bones[0] * p)
    out vec4 in_shadow;
    vec4 placed(vec4 p) {
        return camera * p;
    }
    void main() {
        vec4 world = WORLD(vec4(0.0));
        in_shadow = light * world;
        gl_Position = placed(world);
        gl_Position.z += 0.1;
    }
    """
    assert {"camera", "bones"} <= names_behind_position(source) and "light" not in names_behind_position(source)
    assert names_behind_position("void main() {}") == frozenset()


def test_the_demo_is_seen_by_its_camera() -> None:
    frame = load(DATA / "depot.wend")
    last = {name: int(frame.passes.end[i]) - 1 for i, name in enumerate(frame.passes.names)}
    camera, grade = (next(s for n, s in last.items() if n.startswith(word)) for word in ("camera", "grade"))
    found = perspective_of(frame, camera)
    assert found is not None and found.matrix == "view_projection"
    assert perspective_of(frame, grade) is None, "its triangle fills the screen without a matrix, though it has one"


@pytest.mark.driver
def test_the_depth_lens_tells_distances() -> None:
    path = DATA / "depot.wend"
    frame = load(path)
    step = int(frame.passes.end[1]) - 1
    with Replay(path) as replay:
        found = replay.run(picture_at.asked(step=step, lens="depth"))
    drawn = found["depth"] < 1
    assert found["by"] == "view_projection"
    assert 0.3 < found["distance"][drawn].min() < 10 < found["distance"][drawn].max() < 90.5
    assert (np.argsort(found["depth"][drawn][:50]) == np.argsort(found["distance"][drawn][:50])).all()
