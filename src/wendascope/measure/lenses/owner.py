"""The owner lenses: whose fragment is the ground that is seen at each pixel, by step and by program."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.colours import PASS_COLOURS
from wendascope.frame.layers import owner_map
from wendascope.measure.lenses._registry import Found, Image, LegendEntry, Place, lens
from wendascope.measure.overdraw import layers_of, passes_shown
from wendascope.task import Task
from wendascope.texts import share as per_cent

_NOBODY = (58, 58, 56)
_MOST_ENTRIES = 8


def _colours(count: int) -> npt.NDArray[np.float64]:
    """One colour an owner: the ten hues in turn, each round a little darker; lines between owners tell the rest."""
    base = np.array([[int(c[i : i + 2], 16) for i in (1, 3, 5)] for c in PASS_COLOURS], np.float64)
    rows = np.arange(count)
    return base[rows % len(base)] * (1.0 - 0.16 * ((rows // len(base)) % 4))[:, None]


def _paint(found: Found) -> Image:
    owner = found["owner"][::-1]
    table = np.vstack([_colours(len(found["names"])), np.array(_NOBODY)[None]]).astype(np.uint8)
    image = table[owner]  # -1 is the last
    edge = np.zeros(owner.shape, bool)
    edge[:, 1:] |= owner[:, 1:] != owner[:, :-1]
    edge[1:] |= owner[1:] != owner[:-1]
    image[edge] = (image[edge] * 0.55).astype(np.uint8)
    return np.ascontiguousarray(image)


def _probe(found: Found, x: int, y: int) -> str:
    number = int(found["owner"][y, x])
    if number < 0:
        return "nothing opaque was drawn here"
    share = float((found["owner"] == number).mean())
    return f"{found['names'][number]}, seen on {per_cent(share, 1)} of the picture"


def _alike(found: Found, x: int, y: int) -> npt.NDArray[np.bool_] | None:
    number = int(found["owner"][y, x])
    return None if number < 0 else np.asarray(found["owner"] == number)


def _step_at(found: Found, x: int, y: int) -> int | None:
    number = int(found["owner"][y, x])
    return None if number < 0 else int(found["steps"][number])


def _legend(found: Found) -> list[LegendEntry]:
    """The largest owners."""
    counts = np.bincount(found["owner"].ravel() + 1, minlength=len(found["names"]) + 1)
    colours = _colours(len(found["names"])).astype(int)
    order = np.argsort(-counts[1:], kind="stable")[:_MOST_ENTRIES]
    total = max(found["owner"].size, 1)
    return [
        LegendEntry("#{:02X}{:02X}{:02X}".format(*colours[i]), found["names"][i], float(counts[i + 1] / total))
        for i in order.tolist()
        if counts[i + 1]
    ]


def _owners(session: Session, job: Task, place: Place) -> npt.NDArray[np.int32]:
    passes = layers_of(session, job, passes_shown(session, place.step))
    if not passes:
        return np.full((1, 1), -1, np.int32)
    return owner_map(passes, place.step)[:, :: passes[0].samples]  # of several samples, the first


def _program_at(found: Found, x: int, y: int) -> int | None:
    number = int(found["owner"][y, x])
    return None if number < 0 else int(found["programs"][number])


def _of_program(found: Found, program: int) -> npt.NDArray[np.bool_]:
    return np.isin(found["owner"], [number for number, name in enumerate(found["programs"]) if name == program])


def _found(
    owner: npt.NDArray[Any],
    keys: npt.NDArray[Any],
    names: dict[int, str],
    steps: dict[int, int],
    programs: npt.NDArray[Any],
) -> Found:
    """Owners as numbers from 0, in order of their keys (a step or a program)."""
    present = np.unique(keys[owner >= 0])
    numbers = np.where(owner >= 0, np.searchsorted(present, keys), -1).astype(np.int32)
    found = present.tolist()
    return {
        "owner": numbers,
        "names": [names[k] for k in found],
        "steps": [steps[k] for k in found],
        "programs": [int(programs[steps[k]]) for k in found],
    }


_MORE: dict[str, Any] = {
    "replays": False,
    "legend": _legend,
    "alike": _alike,
    "step_at": _step_at,
    "program_at": _program_at,
    "of_program": _of_program,
}


@lens("owner", "Visible draw", 6, _paint, _probe, **_MORE)
def measure_owner(session: Session, job: Task, place: Place) -> Found:
    """The visible step of each pixel."""
    owner = _owners(session, job, place)
    steps = np.unique(owner[owner >= 0]).tolist()
    return _found(owner, owner, {s: f"step {s:,}" for s in steps}, {s: s for s in steps}, session.frame.steps.program)


@lens("owner-program", "Visible program", 7, _paint, _probe, **_MORE)
def measure_owner_program(session: Session, job: Task, place: Place) -> Found:
    """The program of the visible step of each pixel."""
    owner = _owners(session, job, place)
    programs = session.frame.steps.program
    keys = np.where(owner >= 0, programs[np.maximum(owner, 0)], -1)
    labels = {name: program.label for name, program in session.frame.programs.items()}
    present = np.unique(keys[owner >= 0]).tolist()
    names = {k: labels.get(k) or (f"program {k}" if k else "fixed function") for k in present}
    return _found(owner, keys, names, {k: int(owner[(keys == k) & (owner >= 0)].max()) for k in present}, programs)
