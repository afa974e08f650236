"""Views that show what they showed some frames ago: tried on every frame of a sequence, and made ready for proofs."""

from __future__ import annotations

import itertools
import time
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec
import numpy as np

from wendascope import records
from wendascope.analysis.sequence.late_views import FAR, RATES, Late, LateView, LateViews, layers_of
from wendascope.analysis.sequence.over_time import OtherFrames, unchanged_passes
from wendascope.analysis.sequence.shifted_image import offset_between
from wendascope.backends.contents import StoredImages
from wendascope.backends.doors import Session
from wendascope.backends.edit import Edit
from wendascope.errors import TrialError
from wendascope.frame.file import frame_count, load
from wendascope.frame.frame import Frame
from wendascope.frame.passes import PassKey
from wendascope.frame.places import frame_path, place_of
from wendascope.frame.remedy import Remedy
from wendascope.measure.pictures import unlike
from wendascope.replay.client import Replay
from wendascope.replay.jobs import remote
from wendascope.task import QUIET, Task
from wendascope.trials.proofs.outcomes import bring_earlier
from wendascope.trials.remedies import change_of
from wendascope.trials.survey.over_frames import sequence_results, sequence_steps, unused_objects

Keys = tuple[PassKey, ...]
"""What draws one view."""
_MOST_AGO = max(RATES) - 1
_MOST_VIEWS = 6
"""Of a frame that are tried: those with most vertices."""
_MOST_SECONDS = 240.0
"""After which no further frame is tried; frames tried by then tell."""


class _Tried(msgspec.Struct):
    """One view of one frame."""

    own: StoredImages | None
    """What it comes to here; None where that cannot be read."""
    late: list[Late]
    refused: str
    moved: tuple[int, int] | None = None
    """By how many columns and rows its image is that of the frame before."""


@remote
def images_after(session: Session, job: Task, passes: list[int]) -> StoredImages:
    """What the images of some passes hold after the last of them. Raises TrialError."""
    job.progress("replaying an earlier frame", 0.2)
    frame = session.frame
    last = max(int(frame.passes.end[index]) for index in passes) - 1
    session.run(session.prepare(Edit(keep_until=int(frame.steps.call[last]) + 1)))
    return session.images_now([frame.passes.targets[index] for index in passes])


@remote
def try_late(session: Session, job: Task, frame_number: int, passes: list[int], earlier: list[StoredImages]) -> _Tried:
    """The pictures of a frame without some passes, whose images hold what they held 1, 2, ... frames ago. The frame
    without them and with its own result has to be the frame itself, else nothing can be told.
    """
    frame = session.frame
    steps = [s for index in passes for s in range(int(frame.passes.first[index]), int(frame.passes.end[index]))]
    try:
        edit = change_of(frame, [Remedy("keep-result", steps)]).edit()
        own = images_after(session, job, passes)
    except TrialError as error:
        return _Tried(None, [], str(error))
    session.run(session.prepare())
    before = session.final_picture()
    prepared = session.prepare(edit)
    found: list[Late] = []
    for ago, images in enumerate([own, *earlier]):
        job.progress("views of earlier frames", (ago + 1) / (len(earlier) + 2))
        try:
            session.run(prepared, session.put_images(images))
        except TrialError as error:
            return _Tried(own, found, str(error))
        differ = unlike(before, session.final_picture(), session.frame.alpha_matters, FAR)
        if ago:
            found.append(Late(frame_number, ago, *differ[:3], differ.where))
        elif differ.pixels:
            return _Tried(None, [], "what it draws into is used for something else in the same frame")
    return _Tried(own, found, "", _moved(earlier[0], own) if earlier else None)


def _moved(before: StoredImages, after: StoredImages) -> tuple[int, int] | None:
    """By how much all colour images have moved; None where they have not, or each otherwise."""
    known = {(image.kind, image.name): image for image in before.images if image.kind == "texture"}
    offsets = set()
    for image in after.images:
        if image.kind != "texture" or not image.colour:
            continue
        old = known.get((image.kind, image.name))
        if old is None or image.size is None or len(old.contents) != 1:
            return None
        width, height = image.size
        pictures = []
        for stored, held in ((before, old), (after, image)):
            data = np.frombuffer(stored.data[held.contents[0]], np.uint8)
            if len(data) % (width * height):
                return None
            pictures.append(data.reshape(height, width, -1))
        offsets.add(offset_between(*pictures))
    return offsets.pop() if len(offsets) == 1 else None


def late_views(
    path: Path,
    task: Task = QUIET,
) -> LateViews:
    """What is kept of it in the file that a path names, else all frames are replayed with every secondary view as it
    was one, two and three frames ago, which is kept then. Views that come out the same in all frames are left out, and
    small ones where there are many. Raises FileError, ReplayError, CancelledError.
    """
    first = frame_path(path, 1)
    known = records.LATE_VIEWS.newest(first)
    if known is not None:
        return known
    count = frame_count(first)
    results = sequence_results(first, task)
    digests = [dict(zip(k, d, strict=True)) for k, d in zip(results.keys, results.digests, strict=True)]
    views: dict[Keys, LateView] = {}
    images: dict[Keys, dict[int, StoredImages]] = {}
    until = time.monotonic() + _MOST_SECONDS
    with Replay(first) as replay:
        for number in range(1, count + 1):
            if time.monotonic() > until:
                break
            replay.turn_to(number)
            _try_frame(replay, number, digests, views, images, task.one_of("frame", number, count))
    kept = LateViews(list(views.values()))
    records.LATE_VIEWS.keep(first, kept)
    return kept


def _try_frame(
    replay: Replay,
    number: int,
    digests: Sequence[dict[PassKey, str]],
    views: dict[Keys, LateView],
    images: dict[Keys, dict[int, StoredImages]],
    task: Task,
) -> None:
    """Try the views of one frame with what they came to in the frames right before it, by their numbers in `images`."""
    frame = load(replay.path)
    chosen = _largest(frame, {k: passes for k, passes in _views(frame).items() if _changes(k, digests)})
    if not chosen:
        return
    for keys, passes in chosen.items():
        task.check()
        new = LateView(list(keys), changes=_changes(keys, digests), name=_name(frame, passes))
        view = views.setdefault(keys, new)
        mine = images.setdefault(keys, {})
        earlier: list[StoredImages] = []
        while len(earlier) < _MOST_AGO and number - 1 - len(earlier) in mine:
            earlier.append(mine[number - 1 - len(earlier)])
        found = replay.run(try_late.asked(number, passes, earlier), task)
        view.late += found.late
        view.refused = view.refused or found.refused
        if found.moved is not None:
            view.moved.append((number, *found.moved))
        mine.pop(number - _MOST_AGO, None)
        if found.own is not None:
            mine[number] = found.own


def _views(frame: Frame) -> dict[Keys, list[int]]:
    keys = frame.passes.keys
    return {tuple(keys[index] for index in passes): passes for passes in layers_of(frame)}


def _name(frame: Frame, passes: list[int]) -> str:
    first = frame.passes.short_names[passes[0]]
    return first if len(passes) == 1 else f"{first} and {len(passes) - 1} more"


def _largest(frame: Frame, views: dict[Keys, list[int]]) -> dict[Keys, list[int]]:
    """Those that most is drawn for, in their order."""

    def vertices(passes: list[int]) -> int:
        ranges = [slice(int(frame.passes.first[index]), int(frame.passes.end[index])) for index in passes]
        return sum(int(np.asarray(frame.steps.vertices)[part].sum()) for part in ranges)

    kept = sorted(views, key=lambda keys: -vertices(views[keys]))[:_MOST_VIEWS]
    return {keys: passes for keys, passes in views.items() if keys in kept}


def _changes(keys: Iterable[PassKey], digests: Sequence[dict[PassKey, str]]) -> int:
    """In how many frames any of some passes comes out otherwise than in the frame before."""
    rows = [[row.get(key, "") for key in keys] for row in digests]
    return sum(a != b or "" in b for a, b in itertools.pairwise(rows))


def views_here(frame: Frame, known: LateViews) -> list[tuple[list[int], LateView]]:
    """Those of the views that a frame has, each with its passes there."""
    here = _views(frame)
    return [(here[tuple(view.passes)], view) for view in known.views if tuple(view.passes) in here]


def bring_what_stays(
    path: Path,
    frame: Frame,
    remedies: Iterable[Remedy],
    replay: Replay,
    task: Task = QUIET,
) -> None:
    """Give a replay what remedies let stay from earlier frames: those are replayed for it. Raises TrialError,
    FileError, ReplayError, CancelledError.
    """
    keys = frame.passes.keys
    for item in remedies:
        if item.kind != "older-result":
            continue
        number = place_of(path)[1] - item.frames_ago
        if number < 1:
            raise TrialError("no earlier frame is known whose result could stay: choose a later frame of the sequence")
        wanted = {keys[index] for index in sorted({int(frame.passes.of_step[step]) for step in item.steps})}
        place = frame_path(path, number)
        there = {key: index for index, key in enumerate(load(place).passes.keys)}
        if not wanted <= there.keys():
            raise TrialError("the earlier frame has other passes")
        with Replay(place) as other:
            images = other.run(images_after.asked(sorted(there[key] for key in wanted)), task)
        replay.run(bring_earlier.asked({item.frames_ago: images}), task)


def other_frames(path: Path, frame: Frame, task: Task) -> OtherFrames | None:
    """What the rest of its sequence tells of a frame; None where there is only one. All frames are replayed when it is
    first asked for. Raises FileError, ReplayError, CancelledError.
    """
    if frame_count(path) < 2:
        return None
    results = sequence_results(path, task)
    late = views_here(frame, late_views(path, task))
    number = place_of(path)[1]
    unchanged = unchanged_passes(results.digests, results.keys, number - 1)
    steps = sequence_steps(path, task).of_frame(number)
    unused = unused_objects(path, task)
    return OtherFrames(len(results.names), number, unchanged, late, steps, unused)
