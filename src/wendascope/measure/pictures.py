"""Pictures of a frame: finished, or as it stands after a step."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.backends.edit import Edit
from wendascope.frame.frame import Picture
from wendascope.measure.lenses import Place, lens_named
from wendascope.measure.records import Verification
from wendascope.replay.jobs import remote
from wendascope.task import Task


@remote
def verify(session: Session, job: Task) -> Verification:
    """Replay the unedited frame and compare it with the reference picture, every byte."""
    job.progress("replaying the frame", 0.2)
    frame = session.frame
    session.run(session.prepare())
    caveats = frame.caveats + session.caveats
    if frame.reference is None:
        return Verification(0, False, 0, 0, [*caveats, "the capture has no reference picture"])
    picture = session.final_picture()
    different, largest = compare_pictures(picture, frame.reference, frame.alpha_matters)
    pixels = frame.reference.width * frame.reference.height
    depth = None
    if frame.finished_depth is not None:
        depth = int(np.count_nonzero(frame.finished_depth != session.read_window_depth()))
    return Verification(pixels, different == 0 and not depth, different, largest, caveats, depth)


def compare_pictures(a: Picture, b: Picture, alpha: bool = True) -> tuple[int, int]:
    """(pixels that differ in any channel, largest difference of a channel); all pixels when sizes differ."""
    if a.pixels.shape != b.pixels.shape:
        return max(a.width * a.height, b.width * b.height), 255
    channels = 4 if alpha else 3
    difference = np.abs(a.pixels[..., :channels].astype(np.int16) - b.pixels[..., :channels])
    return int(np.count_nonzero(difference.any(axis=2))), int(difference.max(initial=0))


class Unlike(NamedTuple):
    """How two pictures differ."""

    pixels: int
    far: int
    """Of them those that differ by more than was asked for."""
    largest: int
    """Difference of a channel, of 255."""
    visible: int
    """Of them those whose colours lie more than a just noticeable difference apart (see `noticeable`)."""
    where: tuple[int, int, int, int] | None
    """(x0, y0, x1, y1) that holds all of them, y from the bottom; None where there are none, or sizes differ."""


def unlike(a: Picture, b: Picture, alpha: bool, far: int) -> Unlike:
    """Where two pictures differ, and in how many pixels by more than `far` of 255; everywhere when sizes differ."""
    if a.pixels.shape != b.pixels.shape:
        pixels = max(a.width * a.height, b.width * b.height)
        return Unlike(pixels, pixels, 255, pixels, None)
    channels = 4 if alpha else 3
    difference = np.abs(a.pixels[..., :channels].astype(np.int16) - b.pixels[..., :channels]).max(axis=2)
    rows, columns = np.nonzero(difference)
    where = None
    if len(rows):
        where = int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1
    seen = noticeable(a.pixels[rows, columns, :3], b.pixels[rows, columns, :3])
    return Unlike(len(rows), int((difference > far).sum()), int(difference.max(initial=0)), int(seen.sum()), where)


_NOTICEABLE = 2.3
"""Just noticeable difference in CIE 1976 L*a*b* (Mahy, Van Eycken and Oosterlinck, "Evaluation of uniform color spaces
developed after the adoption of CIELAB and CIELUV", Color Research and Application 19, 1994)."""
_TO_XYZ = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
"""Of linear sRGB (IEC 61966-2-1)."""
_WHITE = np.array([0.9505, 1.0, 1.089])


def noticeable(a: npt.NDArray[np.uint8], b: npt.NDArray[np.uint8]) -> npt.NDArray[np.bool_]:
    """Which colours, shape (n, 3) of sRGB, lie more than a just noticeable difference apart: shape (n,)."""
    return np.asarray(np.linalg.norm(_lab(a) - _lab(b), axis=1) > _NOTICEABLE)


def _lab(colours: npt.NDArray[np.uint8]) -> npt.NDArray[np.float64]:
    """CIE 1976 L*a*b* of sRGB colours, shape (n, 3)."""
    value = colours / 255.0
    linear = np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)
    xyz = linear @ _TO_XYZ.T / _WHITE
    f = np.where(xyz > (6 / 29) ** 3, np.cbrt(xyz), xyz / (3 * (6 / 29) ** 2) + 4 / 29)
    return np.stack([116 * f[:, 1] - 16, 500 * (f[:, 0] - f[:, 1]), 200 * (f[:, 1] - f[:, 2])], axis=1)


@remote
def picture_at(session: Session, job: Task, step: int | None = None, lens: str = "colour") -> dict[str, Any]:
    """The target of a step as it stands after it, through a lens; without a step, after the whole frame.

    Returns what the lens measured, with the target's `name`, `width` and `height`.
    """
    frame = session.frame
    chosen = lens_named(lens)
    if step is None:
        if chosen.replays:
            session.run(session.prepare())
        target = frame.finished_target
        name = "finished picture"
    else:
        target = frame.passes.targets[int(frame.passes.of_step[step])]
        if chosen.replays:
            session.run(session.prepare(Edit(keep_until=int(frame.steps.call[step]) + 1)))
        name = target.name
    return {
        "name": name,
        "width": target.width,
        "height": target.height,
        **chosen.measure(session, job, Place(target, step)),
    }
