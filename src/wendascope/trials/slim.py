"""Copies of a frame that hold less, proved to be what they claim: replayed before they get their name."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection
from pathlib import Path

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Session
from wendascope.errors import TrialError, UsageError
from wendascope.files import whole_file
from wendascope.frame.apis import module_of
from wendascope.frame.file import check_new, load, save
from wendascope.frame.frame import Frame, Picture
from wendascope.measure.pictures import verify
from wendascope.replay.client import Replay
from wendascope.replay.jobs import remote
from wendascope.task import Task

WITHOUT = ("sources", "texels")
"""What a copy can be without, besides what is not used."""
_LEFT = {
    "sources": "names of uniforms, attributes, varyings, blocks and structures stay, as programs ask for them by name",
    "texels": (
        "how often each colour occurs in a texture stays, and so does what the calls of the frame upload; meshes and"
        " uniforms are not touched"
    ),
}
_MEASURABLE = {
    "sources": "Times, costs and all findings stay: the shaders do the same, line by line.",
    "texels": (
        "Times, overdraw, batching, state and shaders can be measured. Fragments that a texture discards lie elsewhere;"
        " what is said of the contents of textures and of visible differences is not of your program."
    ),
}


class Slimmed(msgspec.Struct):
    """What became of a frame."""

    file: str
    bytes_before: int
    bytes_after: int
    identical: bool
    """Whether the replay gives the picture that the program showed; where texels were replaced, that of the copy."""
    measurable: list[str]
    """What can still be measured, in sentences."""
    left: list[str]
    """What the copy still tells."""


@remote
def finished_picture(session: Session, job: Task) -> npt.NDArray[np.uint8]:
    """The picture after the whole frame, shape (h, w, 4), bottom row first."""
    session.run(session.prepare())
    return session.final_picture().pixels


def slim(path: Path, out: Path, without: Collection[str] = (), task: Task | None = None) -> Slimmed:
    """Write a copy of one frame without the contents of unused objects, without results, and without what is named of
    `WITHOUT`. Raises UsageError, FileError, and TrialError where the copy would not be the same frame.
    """
    task = task or Task()
    if unknown := set(without) - set(WITHOUT):
        raise UsageError(f"a copy is not made without {', '.join(sorted(unknown))}; choose of {', '.join(WITHOUT)}")
    frame = load(path)
    slimming = module_of(frame.context.api, "slimming")
    if slimming is None:
        raise UsageError(f"frames of {frame.context.api} cannot be slimmed")
    check_new(out)
    made = slimming.without_unused(frame)
    if "sources" in without:
        made = slimming.without_sources(made)
        made.caveats.append("a copy for others: shaders do what the program's do, under other names")
    with whole_file(out) as scratch:
        identical = _written(made, scratch, task, "the copy does not give the picture of the frame")
        if "texels" in without:
            # from the system's own chance: nobody can put the texels back in their order
            made = slimming.without_texels(made, np.random.default_rng())
            made.caveats.append("a copy for others: texels are in an order of chance, the picture is not the program's")
            made = _with_its_picture(made, scratch, task)
            identical = _written(made, scratch, task, "the copy does not give the same picture twice")
    return Slimmed(
        str(out),
        path.stat().st_size,
        out.stat().st_size,
        identical,
        [_MEASURABLE[name] for name in WITHOUT if name in without]
        or ["All of this frame can be measured: only what it does not use is gone."],
        [_LEFT[name] for name in WITHOUT if name in without],
    )


def _written(frame: Frame, path: Path, task: Task, otherwise: str) -> bool:
    """Write a frame and replay it. Raises TrialError when it differs in more than its original did."""
    save(frame, path)
    with Replay(path) as replay:
        found = replay.run(verify.asked(), task)
    if not found.identical:
        raise TrialError(f"{otherwise} ({found.pixels_different:,} of {found.pixels:,} pixels differ)")
    return True


def _with_its_picture(frame: Frame, path: Path, task: Task) -> Frame:
    """The frame with the picture of its own replay as the one to compare with: that of the program shows textures."""
    save(frame, path)
    with Replay(path) as replay:
        pixels = replay.run(finished_picture.asked(), task)
    return dataclasses.replace(frame, reference=Picture(pixels))  # type: ignore[type-var]
