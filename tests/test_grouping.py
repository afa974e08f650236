"""Steps in groups: what each is for, which mesh, textures and program it has, and what those are called."""

from __future__ import annotations

import numpy as np
import pytest

from tests.raster import RasterFrame, Step, quad
from wendascope.demo.data import demo_files
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.frame.grouping import BY
from wendascope.frame.purposes import Purpose, purposes_of


def frame_of(*scene: Step) -> RasterFrame:
    return RasterFrame(list(scene))


@pytest.fixture(scope="module")
def depot() -> Frame:
    return load(demo_files()[0])


def _named(frame: Frame, by: str) -> dict[str, int]:
    """Name of each group -> how many steps it has; groups of one name together."""
    groups = frame.grouping.by(by)
    found: dict[str, int] = {}
    for group, steps in groups.parts(np.arange(len(frame.steps))):
        found[groups.name(group)] = found.get(groups.name(group), 0) + len(steps)
    return found


def _purposes(frame: Frame) -> list[Purpose]:
    return [list(Purpose)[number] for number in purposes_of(frame).tolist()]


def test_purposes_follow_from_state_and_order() -> None:
    place = (4, 4, 20, 20, 0.5)
    frame = frame_of(
        quad(*place, tests=False),
        quad(*place),
        quad(*place),
        quad(*place, writes=False),
        quad(*place, blend=True),
        quad(*place, tests=False),
        quad(*place, tests=False, blend=True),
    )
    assert _purposes(frame) == [
        Purpose.BACKGROUND,
        Purpose.OPAQUE,
        Purpose.OPAQUE,
        Purpose.BACKGROUND,
        Purpose.BLENDED,
        Purpose.OVERLAY,
        Purpose.OVERLAY,
    ]
    flat = frame_of(quad(*place, tests=False), quad(*place, tests=False, blend=True))
    assert _purposes(flat) == [Purpose.OPAQUE, Purpose.BLENDED], (
        "without any depth there is neither background nor overlay"
    )


@pytest.mark.parametrize("by", [b for b in BY if b != "debug group"])
def test_every_step_is_in_one_group_and_parts_keep_the_order(by: str) -> None:
    frame: RasterFrame = frame_of(*(quad(k, k, k + 9, k + 9, 0.5, texture=k % 3) for k in range(12)))
    groups = frame.grouping.by(by)
    for chosen in (np.arange(12), np.array([1, 4, 5, 11]), np.array([], np.int64)):
        parts = groups.parts(chosen)
        assert sorted(step for _, steps in parts for step in steps.tolist()) == chosen.tolist()
        assert all((np.diff(steps) > 0).all() for _, steps in parts)
        assert [int(steps[0]) for _, steps in parts] == sorted(int(steps[0]) for _, steps in parts)


def test_textures_and_materials_divide_alike() -> None:
    frame = frame_of(*(quad(0, 0, 9, 9, 0.5, texture=k % 3 and 10 + k % 3) for k in range(9)))
    assert sorted(_named(frame, "textures").values()) == [3, 3, 3]
    assert sorted(_named(frame, "material").values()) == [3, 3, 3]
    assert sorted(_named(frame, "program").values()) == [3, 6]
    assert "no texture" in _named(frame, "textures")


def test_the_groups_of_the_demo_have_names(depot: Frame) -> None:
    purposes = _named(depot, "purpose")
    assert purposes["no colour"] == 323 and purposes["full-screen"] == 4 and sum(purposes.values()) == 1073
    meshes = _named(depot, "mesh")
    assert meshes["quad, 4 vertices"] == 83 and meshes["box, 36 vertices"] > 320
    assert _named(depot, "role")["main view"] == int(depot.passes.end[3] - depot.passes.first[3])
    assert _named(depot, "debug group")["rain"] == 3


def test_one_mesh_is_one_whatever_reads_it(depot: Frame) -> None:
    """The depot's boxes are drawn in shadow and in view, by programs that read other attributes."""
    mesh = depot.grouping.by("mesh").of_step
    shadow, view = (slice(int(depot.passes.first[i]), int(depot.passes.end[i])) for i in (0, 3))
    draws = np.asarray(depot.steps.kind) == 0
    of_shadow = set(mesh[shadow][draws[shadow]].tolist())
    of_view = set(mesh[view][draws[view]].tolist())
    assert len(of_shadow & of_view) >= 0.9 * len(of_shadow)
    assert len(set(depot.uses.geometry[shadow].tolist()) & set(depot.uses.geometry[view].tolist())) < len(of_shadow)
