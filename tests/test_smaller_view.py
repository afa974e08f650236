"""A view drawn at half its size: the picture that comes of it, and what refuses it."""

from __future__ import annotations

import numpy as np
import pytest

from wendascope.demo.data import demo_files
from wendascope.errors import TrialError
from wendascope.frame.file import load
from wendascope.frame.remedy import Remedy
from wendascope.replay.client import Replay
from wendascope.trials.proofs.runs import picture_of
from wendascope.trials.remedies import change_of

DEPOT = demo_files()[0]


def _camera(divide: int = 2) -> Remedy:
    frame = load(DEPOT)
    index = frame.passes.names.index("camera")
    steps = range(int(frame.passes.first[index]), int(frame.passes.end[index]))
    return Remedy("smaller-view", list(steps), divide=divide)


@pytest.mark.driver
def test_the_camera_of_the_demo_at_half_its_size() -> None:
    with Replay(DEPOT) as replay:
        same = replay.run(picture_of.asked([_camera(1)]))
        half = replay.run(picture_of.asked([_camera(2)]))
    assert not same.different.any(), "scaled by one it is the same picture"
    rows, columns = np.nonzero(half.different)
    assert 0 < len(rows) < 12_000 and columns.max() < 200, "nothing changes but the monitor and its mirror image"
    before, after = (picture[half.different].astype(float) for picture in (half.before, half.after))
    assert abs(before.mean() - after.mean()) < 2, "as bright as before: nothing is shifted or left black"
    blocks = [
        p[: 720 // 16 * 16, :192, :3].reshape(45, 16, 12, 16, 3).mean(axis=(1, 3)) for p in (half.before, half.after)
    ]
    assert np.abs(blocks[0] - blocks[1]).max() < 12, "seen from far it is the same"


def test_what_cannot_be_scaled_says_why() -> None:
    frame = load(DEPOT)
    names = frame.passes.names

    def steps(*passes: str) -> list[int]:
        return [
            s
            for name in passes
            for s in range(int(frame.passes.first[names.index(name)]), int(frame.passes.end[names.index(name)]))
        ]

    for remedy, why in (
        (Remedy("smaller-view", [], divide=2), "cannot scale"),
        (Remedy("smaller-view", steps("camera", "mirror"), divide=2), "one framebuffer"),
        (Remedy("smaller-view", steps("shadow"), divide=2), "one framebuffer with one colour"),
        (Remedy("smaller-view", steps("board"), divide=2), "one framebuffer"),
    ):
        with pytest.raises(TrialError, match=why):
            change_of(frame, [remedy]).edit()
