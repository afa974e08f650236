"""Layers, survivors, pixel stacks and triangle classes against the independent rasteriser of `scenes`."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wendascope.analysis.geometry.triangles import View, classify
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.frame.layers import layer_map, step_layers
from wendascope.measure.drawn import measure_drawn
from wendascope.measure.overdraw import geometry_of, layers_of
from wendascope.measure.pixel_stack import pixel_stack
from wendascope.replay.progress import Job

from .conftest import Capture, program
from .scenes import SIZE, Outcome, changes_itself, coverage, edge_functions, make_scene

_SEEDS = (1, 2)


@pytest.fixture(scope="module", params=_SEEDS)
def scene(request: pytest.FixtureRequest, capture: Capture):
    """(passes, what becomes of their fragments, a session that replays them)."""
    passes = make_scene(request.param)
    _, frame = capture(program("scenes", str(request.param)))
    session = OpenGLSession(frame)
    yield passes, [Outcome(item) for item in passes], session
    session.close()


def _exact(item) -> bool:
    return not any(changes_itself(step) for step in item.steps)


def test_every_fragment_is_counted_where_it_falls(scene) -> None:
    passes, outcomes, session = scene
    found = layers_of(session, Job())
    checked = 0
    for item, outcome, layers in zip(passes, outcomes, found, strict=False):
        expected = outcome.passed.sum(axis=0)
        shape = (item.layers * SIZE, SIZE * len(item.samples))
        assert layers.shape == shape and layers.layers == item.layers and layers.samples == len(item.samples)
        if not _exact(item):
            assert layers.caveats or (layer_map([layers]) == expected.reshape(shape)).all()
            continue
        if layers.touches:
            # llvmpipe covers other samples than the first a little differently from what their places say
            every = len(item.samples)
            assert (layer_map([layers])[:, ::every] == expected.reshape(shape)[:, ::every]).all(), item.target
            checked += 1
        if len(item.samples) > 1:
            continue
        first = int(session.frame.passes.first[layers.index]) + 1
        counts = step_layers(layers)
        for number, step in enumerate(item.steps):
            row = counts.get(first + number)
            assert (row.fragments if row else 0) == outcome.passed[number].sum(), (item.target, number, step)
            assert (row.survivors if row else 0) == outcome.survivors(number), (item.target, number, step)
            if row and outcome.kind(number) == "blended" and item.layers == 1 and len(item.samples) == 1:
                still = (outcome.passed[number] > 0) & ~outcome.changed[number]
                last = _last_cover(outcome, item)
                assert row.idle == outcome.passed[number][still & (last < number)].sum(), (item.target, number, step)
    assert checked >= 9


def _last_cover(outcome: Outcome, item) -> np.ndarray:
    last = np.full(outcome.passed.shape[1:], -1)
    for number in range(len(item.steps)):
        if outcome.kind(number) == "opaque":
            last[outcome.passed[number] > 0] = number
    return last


def test_counts_agree_with_the_driver_and_the_picture_stays(scene) -> None:
    passes, _, session = scene
    drawn = measure_drawn(session, Job())
    inexact = sum(len(item.steps) for item in passes if not _exact(item))
    assert drawn.mismatched <= inexact
    assert not any("picture" in caveat for caveat in drawn.caveats)


def test_pixel_stacks_tell_every_fate(scene) -> None:
    passes, outcomes, session = scene
    random = np.random.default_rng(0)
    fates: set[str] = set()
    for index, (item, outcome) in enumerate(zip(passes, outcomes, strict=True)):
        if item.layers > 1 or len(item.samples) > 1 or not _exact(item):
            continue
        last = int(session.frame.passes.end[index]) - 1
        first = int(session.frame.passes.first[index]) + 1
        crowded = sorted(outcome.stacks, key=lambda at: -len(outcome.stacks[at]))[:40]
        for at in random.choice(len(crowded), min(3, len(crowded)), replace=False).tolist():
            _, y, x, _ = place = crowded[at]
            stack = {e.step - first: e for e in pixel_stack(session, Job(), x, y, last).entries}
            stack.pop(-1, None)  # the clear
            fragments = outcome.stacks[place]
            assert set(stack) == {f.step for f in fragments}, (item.target, x, y)
            for number, entry in stack.items():
                mine = [f.fate for f in fragments if f.step == number]
                where = (item.target, x, y, number, mine, entry)
                assert (entry.fate == "scissor") == ("scissor" in mine), where
                assert entry.passed == mine.count("passed"), where
                assert entry.discarded == mine.count("discarded"), where
                assert entry.stencilled == mine.count("stencil"), where
                assert entry.behind == mine.count("depth"), where
                fates.add(entry.fate)
    assert {"visible", "covered", "behind"} <= fates


def test_positions_and_classes_of_triangles(scene) -> None:
    passes, _, session = scene
    geometry = geometry_of(session, Job())
    for index, item in enumerate(passes):
        first = int(session.frame.passes.first[index]) + 1
        for number, step in enumerate(item.steps):
            found = geometry.triangles[first + number]
            clip = geometry.positions.clip[first + number]
            expected = np.concatenate(
                [
                    step.triangles / 32 - 1,
                    np.repeat(step.depths[:, None, None] * 2 - 1, 3, 1),
                    np.ones((len(step.depths), 3, 1)),
                ],
                axis=2,
            )
            assert (clip == expected.astype(np.float32)).all()
            for k, corners in enumerate(step.triangles):
                area = (corners[1, 0] - corners[0, 0]) * (corners[2, 1] - corners[0, 1]) - (
                    corners[1, 1] - corners[0, 1]
                ) * (corners[2, 0] - corners[0, 0])
                front = (area > 0) != step.clockwise
                assert bool(found.away[k]) == (step.cull == ("FRONT" if front else "BACK"))
                assert found.samples[k] == (0 if found.away[k] else coverage(corners).sum())


_corner = st.tuples(st.integers(-40 * 256, 104 * 256), st.integers(-40 * 256, 104 * 256))


@settings(max_examples=150, deadline=None)
@given(st.tuples(_corner, _corner, _corner), st.booleans())
def test_coverage_is_that_of_the_plain_rasteriser(corners, upper_left: bool) -> None:
    """Any triangle, also one that reaches beyond the target: only samples on an edge are the driver's choice."""
    points = np.array(corners) / 256
    window = points.copy()
    if upper_left:
        window[:, 1] = SIZE - window[:, 1]
    clip = np.concatenate([points / 32 - 1, np.zeros((3, 1)), np.ones((3, 1))], axis=1)[None].astype(np.float32)
    found = classify(clip, View((0, 0, SIZE, SIZE), SIZE, SIZE, upper_left=upper_left))
    least = coverage(window).sum()

    edges = edge_functions(window, (0.5, 0.5))
    most = ((edges >= 0).all(axis=0) | (edges <= 0).all(axis=0)).sum() if found.seen[0] else 0
    assert least <= found.samples[0] <= most or not found.seen[0]
    if found.outside[0] or found.empty[0]:
        assert least == 0
    if found.samples[0]:
        inside = np.ones((SIZE, SIZE), bool)
        for corner in ((0, 0), (1, 0), (0, 1), (1, 1)):
            at = edge_functions(window, corner)
            inside &= (at >= 0).all(axis=0) | (at <= 0).all(axis=0)
        assert bool(found.partial[0]) == (not inside.any())
        x0, y0, x1, y1 = found.boxes[0].tolist()
        rows, columns = np.nonzero(coverage(window))
        if len(rows):
            assert x0 <= columns.min() and columns.max() < x1 and y0 <= rows.min() and rows.max() < y1


def test_two_triangles_that_share_an_edge_cover_each_sample_once() -> None:
    """The samples on the shared edge belong to one of the two."""
    corners = np.array([[[0, 0], [64, 0], [64, 64]], [[0, 0], [64, 64], [0, 64]]])
    clip = np.concatenate([corners / 32 - 1, np.zeros((2, 3, 1)), np.ones((2, 3, 1))], axis=2).astype(np.float32)
    found = classify(clip, View((0, 0, SIZE, SIZE), SIZE, SIZE))
    assert found.samples.sum() == SIZE * SIZE


def test_triangles_behind_the_viewer_are_outside_and_crossing_ones_are_cut() -> None:
    behind = [[-1, -1, 0, -1], [1, -1, 0, -1], [0, 1, 0, -1]]
    crossing = [[-1, -1, 0, 1], [1, -1, 0, 1], [0, 3, 0, -1]]
    found = classify(np.array([behind, crossing], np.float32), View((0, 0, SIZE, SIZE), SIZE, SIZE))
    assert found.outside.tolist() == [True, False]
    assert found.samples[1] > SIZE * SIZE / 2
