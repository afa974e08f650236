"""What an edited frame comes to, compared with the original: on screen, and in everything that it leaves behind.

Nothing is judged by one picture alone. What the frame overwrites anyway starts from two patterns, so that a reader
of what a remedy leaves out shows itself; steps that are said to be unseen are once left out and once drawn in other
colours. Where contents that are left behind differ, the calls of the frame after decide whether anything reads
them.
"""

from __future__ import annotations

import functools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.sequence.late_views import FAR
from wendascope.backends.contents import (
    OTHER_WINDOW,
    PATTERNS,
    READ_PIXELS,
    WINDOW,
    Contents,
    Store,
    StoredImages,
    differing,
)
from wendascope.backends.doors import Changes, Session
from wendascope.backends.edit import Calls, Edit
from wendascope.backends.slots import Slot
from wendascope.errors import ReplayError, TrialError
from wendascope.frame.frame import Picture
from wendascope.frame.remedy import Remedy
from wendascope.measure.pictures import compare_pictures, unlike
from wendascope.measure.records import is_rounding
from wendascope.replay.jobs import remote
from wendascope.task import Task
from wendascope.trials.remedies import change_of

_MORE_RUNS = 3
"""Runs of the original once an edited frame differs from it."""
_MOST_TESTS = 40
"""Runs spent on finding out which contents nothing reads; what is not tested by then counts as read."""


def differ(pixels: int, largest: int) -> str:
    """How many pixels differ and by how much, where that is known, in words."""
    return (
        f"{pixels:,} pixel{'s differ' if pixels != 1 else ' differs'}{f' by up to {largest} of 255' if largest else ''}"
    )


class Outcome(msgspec.Struct):
    """How an edited frame differs from the original."""

    pixels_different: int = 0
    """On screen, under the first pattern that shows any."""
    max_difference: int = 0
    pixels_far: int = 0
    """Of them those that differ by more than `FAR`."""
    pixels_visible: int = 0
    """Of them those whose colours lie more than a just noticeable difference apart (`measure.pictures.noticeable`)."""
    where: tuple[int, int, int, int] | None = None
    """(x0, y0, x1, y1) that holds all pixels that differ, y from the bottom."""
    by_pattern: bool = False
    """Whether the picture came out as captured with what earlier frames had left, and not with patterns in its
    place.
    """
    later_pixels: int = 0
    """Pixels that differ in the frame after."""
    left_behind: list[str] = []
    """What holds other contents afterwards, and is not written anew by the frame after without being read."""
    rewritten: list[str] = []
    """What holds other contents afterwards, which the frame after writes anew without reading them."""
    following: bool = False
    """Whether the calls of the frame after were there to ask."""

    @property
    def same(self) -> bool:
        return not self.pixels_different and not self.later_pixels and not self.left_behind


class Ground(msgspec.Struct):
    """Whether the original itself can be trusted."""

    unlike_capture: int = 0
    """Pixels in which its replay differs from the captured picture."""
    unlike_by: int = 255
    """How far at most, of 255."""
    pixels: int = 0
    """Of the whole picture."""
    other_driver: bool = False
    """Whether the capture was made with another driver: then the replay itself is what changes are held against."""
    unsteady: list[str] = []
    """What came out differently in a second run of the same calls."""

    @property
    def trouble(self) -> str:
        """Why nothing can be shown on this frame; empty where it can."""
        if self.unsteady:
            return f"the replay differs from run to run in {_listed(self.unsteady)}"
        if (
            self.unlike_capture
            and not self.other_driver
            and not is_rounding(self.unlike_capture, self.unlike_by, self.pixels)
        ):
            return f"the replay of this frame is not the captured picture ({differ(self.unlike_capture, 0)})"
        return ""


@dataclass
class Variation:
    """One way to run an edited frame: its edit, and the objects it brings in."""

    edit: Edit = field(default_factory=Edit)
    brought_in: object = None
    kept: frozenset[Store] = frozenset()
    """What starts with the result of the frame before, whatever else starts from a pattern."""
    earlier: dict[Store, int] = field(default_factory=dict)
    """What starts with what it held so many frames ago (see `bring_earlier`)."""
    prime: Edit | None = None
    """What is run once, ahead of it: it leaves in the objects of the variation what they hold from then on."""


@dataclass
class _State:
    picture: npt.NDArray[np.uint8]
    contents: Contents
    later: npt.NDArray[np.uint8] | None = None


class Outcomes:
    """Judges edits of one session's frame. Keeps what the original came to."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._unmeant = session.meaningless_stores()
        self._returned = session.returned_stores()
        self._undefined = session.undefined_stores()
        self._original = self._run(session, Variation(), (), PATTERNS[0])
        self._original_after: _State | None = None
        self._channels = 4 if session.frame.alpha_matters else 3
        self.ground = self._ground()
        self._looked_again = False
        self._stores: list[Store] | None = None

    # ---- the original ---------------------------------------------------------------------------------

    def _ground(self) -> Ground:
        unsteady = self._unlike_before(self._original)
        reference = self._session.frame.reference
        if reference is None:
            return Ground(unsteady=unsteady)
        different, largest = compare_pictures(Picture(self._original.picture), reference, self._channels == 4)
        pixels = reference.width * reference.height
        return Ground(different, largest, pixels, self._session.elsewhere_captured, unsteady)

    def _unlike_before(self, before: _State) -> list[str]:
        """What another run of the original has otherwise than the one before it. Both started alike: what is neither
        restored nor drawn over, such as depth that nobody reads, keeps what the run before them left.
        """
        again = self._run(self._session, Variation(), (), PATTERNS[0])
        found = [str(s) for s in differing(before.contents, again.contents)]
        if found and all(store.kind == "query" for store in differing(before.contents, again.contents)):
            # counts of how the driver works are not of the picture
            self._unmeant |= set(differing(before.contents, again.contents))
            found = []
        return ["the picture", *found] if self._unlike(before.picture, again.picture) else found

    @property
    def overwritten(self) -> list[Store]:
        """What the frame writes without anything depending on what was there before: found by trying."""
        if self._stores is None:
            self._tests = 0
            self._stores = self._unread(self._session.written_stores())
        return self._stores

    def _unread(self, stores: list[Store]) -> list[Store]:
        """Those whose patterns change nothing. What keeps a part of its own pattern goes first, all of it at once;
        where others change, or the picture, halves tell whose pattern was read.
        """
        if not stores or self._tests >= _MOST_TESTS:
            return []
        for pattern in PATTERNS:
            self._tests += 1
            found = self._run(self._session, Variation(), stores, pattern)
            changed = differing(found.contents, self._original.contents)
            kept = [store for store in stores if store not in changed]
            if changed and len(kept) < len(stores):
                return self._unread(kept)
            if changed or self._unlike(found.picture, self._original.picture):
                break
        else:
            return stores
        if len(stores) == 1:
            return []
        middle = len(stores) // 2
        return self._unread(stores[:middle]) + self._unread(stores[middle:])

    def came_out(self) -> bool:
        """Whether what was just run of the original has come out as the whole of it does."""
        original = {key: data for key, data in self._original.contents.items() if key[0].kind != READ_PIXELS}
        return not self._unlike(self._session.final_picture().pixels, self._original.picture) and not differing(
            self._contents(self._session), original
        )

    # ---- edits ------------------------------------------------------------------------------------------

    def judge(self, variations: list[Variation]) -> Outcome:
        """Run the variations (at least one) of an edit, each from its own pattern. Raises TrialError where the driver
        refuses one.
        """
        outcome = Outcome(following=self._session.frame.knows_following)
        stores = self.overwritten
        left: set[Store] = set()
        for variation, pattern in zip(variations, PATTERNS, strict=False):
            state = self._run(self._session, variation, stores, pattern)
            self._compare(outcome, state)
            if outcome.pixels_different:
                break  # that much is certain
            left |= {s for s in self._differing(state, self._original) if s.kind != OTHER_WINDOW}
        if left and not outcome.pixels_different:
            left = self._each_time(variations, left)
        if outcome.pixels_different or left:
            self._look_again()
            left -= self._unmeant
        if outcome.pixels_different:
            plain = self._run(self._session, variations[0], (), PATTERNS[0])
            outcome.by_pattern = not self._unlike(plain.picture, self._original.picture)
        elif any(self._is_returned(store) for store in left):
            outcome.left_behind = [str(s) for s in sorted(left)]
        elif left and outcome.following:
            self._look_after(outcome, variations, left)
        elif left:
            outcome.left_behind = [str(s) for s in sorted(left)]
        return outcome

    def _each_time(self, variations: list[Variation], left: set[Store]) -> set[Store]:
        """Of stores that differ those that do so once more, where they are counts alone: some drivers add to a query
        that is begun again before its result was read, now and then.
        """
        if any(store.kind != "query" for store in left):
            return left
        again: set[Store] = set()
        for variation, pattern in zip(variations, PATTERNS, strict=False):
            again |= self._differing(self._run(self._session, variation, self.overwritten, pattern), self._original)
        return left & again

    def _is_returned(self, store: Store) -> bool:
        return store.kind == READ_PIXELS or store in self._returned

    def _look_again(self) -> None:
        """Run the original some times more, once something differs from it: what comes out otherwise now and then
        looks like a change. Done once.
        """
        if self._looked_again:
            return
        self._looked_again = True
        before = self._run(self._session, Variation(), (), PATTERNS[0])
        for _ in range(_MORE_RUNS):
            if self.ground.unsteady:
                return
            self.ground.unsteady = self._unlike_before(before)

    def _compare(self, outcome: Outcome, state: _State) -> None:
        found = unlike(Picture(state.picture), Picture(self._original.picture), self._channels == 4, FAR)
        if found.pixels > outcome.pixels_different:
            outcome.pixels_different, outcome.pixels_far, outcome.max_difference = found[:3]
            outcome.pixels_visible, outcome.where = found.visible, found.where
        for key, data in self._original.contents.items():
            other = state.contents.get(key, b"")
            if key[0].kind == OTHER_WINDOW and other != data:
                pixels = [np.frombuffer(d, np.uint8).reshape(-1, 4)[:, :3].astype(np.int16) for d in (data, other)]
                apart = (
                    np.abs(pixels[0] - pixels[1])
                    if pixels[0].shape == pixels[1].shape
                    else np.full(pixels[0].shape, 255)
                )
                outcome.pixels_different += int(apart.any(axis=1).sum())
                outcome.pixels_far += int((apart > FAR).any(axis=1).sum())
                outcome.pixels_visible += int((apart > FAR).any(axis=1).sum())
                outcome.max_difference = max(outcome.max_difference, int(apart.max(initial=0)))

    def _differing(self, state: _State, original: _State) -> set[Store]:
        return set(differing(state.contents, original.contents)) - self._unmeant

    def _look_after(self, outcome: Outcome, variations: list[Variation], left: set[Store]) -> None:
        """Go on with the calls of the frame after, and see whether what was left otherwise makes a difference to it."""
        with self._session.following() as longer:
            if self._original_after is None:
                self._original_after = self._run(longer, Variation(), (), PATTERNS[0])
            after = self._original_after
            still: set[Store] = set()
            for variation, pattern in zip(variations, PATTERNS, strict=False):
                state = self._run(longer, variation, self.overwritten, pattern)
                assert state.later is not None and after.later is not None
                outcome.later_pixels = max(outcome.later_pixels, self._difference(state.later, after.later)[0])
                still |= self._differing(state, after)
        outcome.left_behind = [str(s) for s in sorted(still)]
        outcome.rewritten = [str(s) for s in sorted(left - still)]

    def _run(self, session: Session, variation: Variation, stores: Sequence[Store], pattern: int) -> _State:
        own = self._session.frame.call_count
        ready(session, variation)
        edit = _for_session(session, variation.edit)
        if variation.kept:
            session.run(session.prepare())  # leaves the result in what is not restored
        prepared = session.prepare(edit)
        stores = [store for store in stores if store not in variation.kept]
        between = None
        if undefined := [store for store in self._undefined if store not in stores and store not in variation.kept]:
            between = session.fill(undefined, PATTERNS[0])  # what no run puts back starts alike in each
        if stores:
            between = _joined(between, session.fill(stores, pattern))
        for calls in _earlier_calls(self._session, session, variation.earlier):
            between = _joined(between, calls)
        later = None
        if session is self._session:
            session.run(prepared, between)
            picture = session.final_picture().pixels
        else:
            session.restore(between)
            session.drain()
            end = prepared.place(own)
            session.run_part(prepared, 0, end)
            picture = session.picture_in_between()
            session.run_part(prepared, end, len(prepared))
            later = session.final_picture().pixels
        return _State(picture, self._contents(session) | session.read_back(prepared), later)

    def _contents(self, session: Session) -> Contents:
        # the window is shown, and its other buffers are undefined once it was
        return {key: data for key, data in session.contents().items() if key[0].kind not in WINDOW}

    # ---- pictures ---------------------------------------------------------------------------------------

    def _difference(self, a: npt.NDArray[np.uint8], b: npt.NDArray[np.uint8]) -> tuple[int, int]:
        return compare_pictures(Picture(a), Picture(b), self._channels == 4)

    def _unlike(self, a: npt.NDArray[np.uint8], b: npt.NDArray[np.uint8]) -> bool:
        return self._difference(a, b)[0] > 0


_OUTCOMES: Slot[Outcomes] = Slot("outcomes")


def outcomes(session: Session) -> Outcomes:
    """The judge of a session's frame, made when first asked for."""
    return session.slots.get(_OUTCOMES, lambda: Outcomes(session))


_EARLIER: Slot[dict[int, StoredImages]] = Slot("images of earlier frames")


@remote
def bring_earlier(session: Session, job: Task, images: dict[int, StoredImages]) -> None:
    """Take what images held so many frames ago, for edits that let them stay as they were then."""
    known = session.slots.get(_EARLIER, dict)
    for ago, stored in images.items():
        known[ago] = known.get(ago, StoredImages()).joined(stored)


def _earlier_calls(own: Session, session: Session, wanted: Mapping[Store, int]) -> list[Calls]:
    """Calls that put images of earlier frames in place, brought into one session and put into it or a longer one.
    Raises TrialError.
    """
    known = own.slots.get(_EARLIER, dict)
    calls = []
    for ago in sorted(set(wanted.values())):
        names = {(store.kind, store.name) for store, frames in wanted.items() if frames == ago}
        stored = known.get(ago, StoredImages()).only(names)
        if stored.names != names:
            raise TrialError("no earlier frame is known whose result could stay: choose a later frame of a sequence")
        calls.append(session.put_images(stored))
    return calls


def _joined(calls: Calls | None, more: Calls) -> Calls:
    """Calls with more after them."""
    if calls is None:
        return more
    calls.append(more)
    return calls


def finished(session: Session, variation: Variation) -> Picture:
    """The finished picture of an edited frame, run by itself."""
    ready(session, variation)
    if variation.kept:
        session.run(session.prepare())
    earlier = functools.reduce(_joined, _earlier_calls(session, session, variation.earlier), None)
    session.run(session.prepare(variation.edit), earlier)
    return session.final_picture()


def edited(session: Session, remedies: list[Remedy], painted: bool = False) -> tuple[Variation, Changes]:
    """The edited frame of remedies, with what it consists of. Raises TrialError."""
    change = change_of(session.frame, remedies, painted=painted)
    kept = frozenset(Store(*image) for image in change.kept)
    earlier = {Store(*image): frames for image, frames in change.earlier.items()}
    return Variation(change.edit(), change.brought_in, kept, earlier, change.prime), change


def ready(session: Session, variation: Variation) -> None:
    """Make the objects of an edited frame, and let them hold what they are to hold from then on. Raises TrialError
    where the driver refuses them.
    """
    if variation.brought_in is not None:
        bring_in(session, variation.brought_in)
    if variation.prime is not None:
        session.run(session.prepare(_for_session(session, variation.prime)))


def _for_session(session: Session, edit: Edit) -> Edit:
    """An edit of a frame, for the session of that frame or of one that goes on longer."""
    count = session.frame.call_count
    if edit.drop is None or len(edit.drop) == count:
        return edit
    return Edit(edit.insertions, np.concatenate([edit.drop, np.zeros(count - len(edit.drop), bool)]), edit.keep_until)


def bring_in(session: Session, objects: object) -> None:
    """Make the objects of an edited frame. Raises TrialError where the driver refuses them."""
    try:
        session.add(objects)
    except ReplayError as error:
        raise TrialError(f"what was rewritten for this is refused by the driver: {error}") from error


def variations(session: Session, remedies: list[Remedy], first: Variation, leaves_out: bool) -> list[Variation]:
    """An edited frame in as many ways as there are patterns: the last draws otherwise what the remedies leave out. One
    way is enough where they leave out nothing. Raises TrialError.
    """
    if not leaves_out:
        return [first]
    return [first, *(edited(session, remedies, painted=pattern == PATTERNS[-1])[0] for pattern in PATTERNS[1:])]


def judge_remedies(session: Session, remedies: list[Remedy]) -> Outcome:
    """How remedies, applied together, change what the frame comes to. Raises TrialError, ReplayError."""
    first, change = edited(session, remedies)
    return outcomes(session).judge(variations(session, remedies, first, change.leaves_out))


def _listed(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
