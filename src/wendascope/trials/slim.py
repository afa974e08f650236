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
from wendascope.frame.frame import Picture
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
        save(made, scratch)
        if not _is_same(scratch, path, task):
            raise TrialError("the copy does not give the picture of the frame")
        if "texels" in without:
            made = slimming.without_texels(made, np.random.default_rng())
            made.caveats.append("a copy for others: texels are in an order of chance, the picture is not the program's")
            save(made, scratch)
            # the picture to compare with is that of the copy: the program's shows what is in its textures
            save(dataclasses.replace(made, reference=Picture(_finished(scratch, task))), scratch)
            if not _is_same(scratch, scratch, task):
                raise TrialError("the copy does not give the same picture twice")
    return Slimmed(
        str(out),
        path.stat().st_size,
        out.stat().st_size,
        [_MEASURABLE[name] for name in WITHOUT if name in without]
        or ["All of this frame can be measured: only what it does not use is gone."],
        [_LEFT[name] for name in WITHOUT if name in without],
    )


def _is_same(copy: Path, original: Path, task: Task) -> bool:
    """Whether a copy replays to the picture that it should have: the captured one, or where the replay of the original
    differs from that as well, the same as the original's.
    """
    with Replay(copy) as replay:
        if replay.run(verify.asked(), task).identical:
            return True
    return copy != original and np.array_equal(_finished(copy, task), _finished(original, task))


def _finished(path: Path, task: Task) -> npt.NDArray[np.uint8]:
    with Replay(path) as replay:
        return replay.run(finished_picture.asked(), task)
