"""Frames that several contexts draw: their calls become one stream of one context.

Contexts that share objects still have state and containers of their own. Here every context but the first gets names
of its own for its containers, and where the calls go over to another context, calls of ours set what differs between
the states of the two. So everything that reads, changes or replays a frame knows one context only, and the work of
the GPU is what it was. `wendaContext` marks each change and is a barrier for everything that follows state.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import (
    FLAG_SWITCH,
    CallBatch,
    CallStream,
    in_order,
    merge_streams,
    stream_of,
)
from wendascope.backends.opengl.objects.records import Objects
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.set_state import set_buffers, set_targets, set_textures, set_values
from wendascope.backends.opengl.state.state_table import OF_OBJECTS, PATTERNS
from wendascope.backends.opengl.state.tracker import InitialState, Key, StateHistory
from wendascope.frame.blobs import Name
from wendascope.frame.context import ContextInfo
from wendascope.registry import GL, Role, is_offered, tables
from wendascope.registry.numbers import HEADER_WORDS

CONTAINERS = ("framebuffer", "vertex array", "program pipeline", "transform feedback", "query")
"""Classes of objects that contexts do not share."""
_SWITCHED = tuple(name for name in PATTERNS if name not in (*OF_OBJECTS, "drawable"))
"""State that a change of context changes; that of objects stays with them."""
_MOST_NAMES = 0x50000000
"""Renamed containers stay below the names of programs that the frame links again."""


class OtherContext(msgspec.Struct):
    """A context whose calls the frame holds besides those of its own."""

    number: Name
    """The program's, as the tap counts its contexts."""
    first_name: Name
    """Its container `n` is `first_name + n` in the frame; its vertex array 0 is `first_name`."""
    thread: Name
    """That it was current on."""
    description: str = ""


def owners(calls: CallStream, others: Sequence[OtherContext]) -> npt.NDArray[np.int64]:
    """Whose each call is, shape (n,): 0 for the frame's own context, else a row of `others` counted from 1."""
    rows = {other.number: row for row, other in enumerate(others, 1)}
    numbers, which = np.unique(_contexts_of(calls, -1), return_inverse=True)
    return np.array([rows.get(number, 0) for number in numbers.tolist()], np.int64)[which]


def _contexts_of(calls: CallStream, main: int) -> npt.NDArray[np.int64]:
    """The number of the context that made each call, shape (n,); `main` before the first change."""
    marks = calls.calls_of("wendaContext")
    numbers = np.concatenate([[main], calls.column(marks, 0).astype(np.int64)])
    return np.asarray(numbers[np.searchsorted(marks, np.arange(len(calls)), side="right")])


@dataclass
class ContextReading:
    """What another context has of its own, as its first call finds it."""

    context: ContextInfo
    state: InitialState
    objects: Objects
    """Those that contexts do not share, in its own names."""
    arrays: CallStream
    """Calls that set the arrays of fixed attributes, which belong to its vertex arrays."""
    fixed: CallStream
    """Calls that set its fixed-function state."""
    caveats: list[str]


@dataclass
class _Member:
    """A context while calls are settled."""

    record: OtherContext
    initial: InitialState
    context: ContextInfo | None = None
    """None where it was not read."""
    arrays: CallStream | None = None
    pieces: list[CallStream] = field(default_factory=list)
    """All its calls so far, renamed."""

    def rename(self, class_name: str, name: int) -> int:
        first = self.record.first_name
        return first + name if first and (name or class_name == "vertex array") else name


class ContextSettler:
    """Goes over the calls of a frame and then of the frame after it.

    `number` is the context that the frame begins and ends with; `state`, `objects` and `fixed` are what was read of it,
    and `objects` gains the containers of the others.
    """

    def __init__(
        self,
        number: int,
        context: ContextInfo,
        state: InitialState,
        objects: Objects,
        fixed: CallStream | None = None,
    ) -> None:
        self._main = number
        self.context = context
        """In which the frame is replayed."""
        self._offers = Offers(context)
        self._objects = objects
        self._members = {number: _Member(OtherContext(number, 0, 0), state, context)}
        self._met: list[tuple[int, ContextReading | CallStream]] = []
        self._spacing = 0
        self._fixed = fixed
        """The fixed-function state as it is; None where it is not known."""
        self.caveats: list[str] = []

    @property
    def others(self) -> list[OtherContext]:
        return [m.record for m in self._members.values() if m.record.number != self._main]

    def known(self, number: int) -> ContextInfo | None:
        """A context that was read; None for others."""
        met = [found.context for n, found in self._met if n == number and isinstance(found, ContextReading)]
        return met[0] if met else self._members[number].context if number in self._members else None

    def meet(self, number: int, found: ContextReading | CallStream) -> None:
        """What was read right before a change to a context: all of one that was not known, else its fixed-function
        state. To be told in the order of the changes.
        """
        self._met.append((number, found))

    def settle(self, calls: CallStream) -> CallStream:
        """The calls as calls of one context."""
        marks = calls.calls_of("wendaContext")
        if len(marks) == 0 and len(self._members) == 1:
            self._members[self._main].pieces.append(calls)
            return calls
        calls = CallStream(calls.words.copy(), calls.arena.copy(), calls.offsets)
        owner = _contexts_of(calls, self._main)
        self._name_apart(calls, owner)
        before = {number: sum(map(len, member.pieces)) for number, member in self._members.items()}
        for number, member in self._members.items():
            member.pieces.append(in_order(calls, np.flatnonzero(owner == number)))
        history = _Histories(self._members)
        streams, keys = [calls], [np.arange(len(calls), dtype=np.float64)]
        since, current = 0, self._main
        for mark, number in zip(marks.tolist(), owner[marks].tolist(), strict=True):
            old, new = ((n, before[n] + int((owner[:mark] == n).sum())) for n in (current, number))
            if self._uses_fixed_function(calls, since, mark):
                self._fixed = None
            since, current = mark, number
            batch = self._switch(history, old, new)
            if len(batch) == 0:
                continue
            _claim(batch, calls, mark)
            streams.append(batch)
            keys.append(mark + (1 + np.arange(len(batch))) / (2 * len(batch) + 2))
        if self._uses_fixed_function(calls, since, len(calls)):
            self._fixed = None
        return in_order(merge_streams(streams), np.argsort(np.concatenate(keys), kind="stable"))

    # ---- names ----------------------------------------------------------------------------------------

    def _name_apart(self, calls: CallStream, owner: npt.NDArray[np.int64]) -> None:
        """Take in the contexts met, and give their containers names of their own in the calls."""
        met = {number: found for number, found in self._met if isinstance(found, ContextReading)}
        if not self._spacing:
            highest = _highest_name(calls, [self._objects, *(m.objects for m in met.values())])
            self._spacing = 10 ** len(str(2 * highest + 10))
        threads = calls.threads
        for number in dict.fromkeys(owner.tolist()):
            if number in self._members:
                continue
            first = self._spacing * len(self._members)
            if first + self._spacing > _MOST_NAMES:
                raise ValueError("the frame's contexts use too many names")
            record = OtherContext(number, first, int(threads[np.argmax(owner == number)]))
            member = self._members[number] = _Member(record, {})
            found = met.get(number)
            member.initial = _renamed_state(found.state if found else {}, member.rename)
            if found is None:
                shown = self._shown(number)
                self.caveats.append(f"the state of context {shown} was not read: its calls start from the defaults")
                continue
            record.description = str(found.context)
            member.context, member.arrays = found.context, found.arrays
            _rename_calls(found.arrays, np.ones(len(found.arrays), bool), member.rename)
            self._take_in(found, member)
        for number, member in self._members.items():
            if number != self._main:
                _rename_calls(calls, owner == number, member.rename)
                self._widen(calls, owner == number, member)

    def _shown(self, number: int) -> int:
        """What people are shown as the number of a context: the frame's own is the first."""
        return list(self._members).index(number) + 1

    def _widen(self, calls: CallStream, which: npt.NDArray[np.bool_], member: _Member) -> None:
        """All is replayed in one context: where the frame's own is a core one and lacks commands that another one's
        calls are to, a compatibility context takes its place.
        """
        lost = self._lost(calls, which)
        if lost and self.context.profile == "core" and member.context and member.context.profile == "compatibility":
            self.context = msgspec.structs.replace(self.context, profile="compatibility")
            self._offers = Offers(self.context)
            lost = self._lost(calls, which)
        if lost:
            shown = self._shown(member.record.number)
            text = (
                f"context {shown} is {member.record.description}, the frame is replayed in {self.context}, which has no"
                f" {', '.join(lost[:3])}"
            )
            self.caveats += [text] if text not in self.caveats else []

    def _lost(self, calls: CallStream, which: npt.NDArray[np.bool_]) -> list[str]:
        """Commands among some calls that the context of the replay does not offer."""
        return sorted(c.name for c, rows in calls.by_command() if which[rows].any() and not self._offers(c.name))

    def _take_in(self, found: ContextReading, member: _Member) -> None:
        mine, theirs, replace = self._objects, found.objects, msgspec.structs.replace
        rename = member.rename
        mine.framebuffers += [replace(r, name=rename("framebuffer", r.name)) for r in theirs.framebuffers]
        mine.vertex_arrays += [replace(r, name=rename("vertex array", r.name)) for r in theirs.vertex_arrays]
        mine.pipelines += [replace(r, name=rename("program pipeline", r.name)) for r in theirs.pipelines]
        mine.feedbacks += [replace(r, name=rename("transform feedback", r.name)) for r in theirs.feedbacks]
        mine.queries += [rename("query", name) for name in theirs.queries]
        mine.query_results |= {rename("query", name): result for name, result in theirs.query_results.items()}
        shown = self._shown(member.record.number)
        self.caveats += [f"context {shown}: {caveat}" for caveat in found.caveats]
        if not self._offers("glBindVertexArray"):
            self.caveats.append(f"context {shown} has no vertex arrays of its own: its attributes may be missing")

    # ---- the change -----------------------------------------------------------------------------------

    def _switch(self, history: _Histories, old: tuple[int, int], new: tuple[int, int]) -> CallStream:
        """Calls that bring the state of one context in place of another's, both as (context, its calls so far)."""
        number, _ = new
        found = self._next_reading(number)
        values = history.differences(old, new)
        batch = CallBatch(self._offers)
        set_values(batch, self._offers, values)
        same: Callable[[str, int], int] = lambda _class_name, name: name  # noqa: E731
        set_textures(batch, values, same)
        if values.get("texture") or "active_texture" in values:
            batch.call("glActiveTexture", history.active_texture(new))
        set_buffers(batch, self._offers, values, same)
        set_targets(batch, self._offers, values, same)
        parts = [stream_of(batch)]
        arrays, self._members[number].arrays = self._members[number].arrays, None
        if arrays is not None:
            parts.append(arrays)
        fixed = found.fixed if isinstance(found, ContextReading) else found
        if fixed is not None and len(fixed) and not (self._fixed is not None and _equal(fixed, self._fixed)):
            _rename_calls(fixed, np.ones(len(fixed), bool), self._members[number].rename)
            parts.append(fixed)
        if fixed is not None:
            self._fixed = fixed
        return merge_streams(parts)

    def _next_reading(self, number: int) -> ContextReading | CallStream | None:
        if self._met and self._met[0][0] == number:
            return self._met.pop(0)[1]
        return None

    def _uses_fixed_function(self, calls: CallStream, first: int, end: int) -> bool:
        if self.context.profile != "compatibility":
            return False
        return any(_of_fixed_function(number) for number in np.unique(calls.ids[first:end]).tolist())


class _Histories:
    """The state of each context over its own calls."""

    def __init__(self, members: dict[int, _Member]) -> None:
        self._of = {n: StateHistory(merge_streams(m.pieces), m.initial) for n, m in members.items()}

    def active_texture(self, at: tuple[int, int]) -> int:
        return self._of[at[0]].number("active_texture", at[1], missing=GL.TEXTURE0)

    def differences(self, old: tuple[int, int], new: tuple[int, int]) -> dict[str, dict[Key, tuple[int, ...]]]:
        """Every value of the new context that the old one does not have."""
        before, after = self._of[old[0]], self._of[new[0]]
        found: dict[str, dict[Key, tuple[int, ...]]] = {}
        for name in _SWITCHED:
            # what a core context does not know is off in it
            known = PATTERNS[name].object_class or name == "capability"
            nothing = (0,) * len(PATTERNS[name].kinds) if known else None
            keys = {*before.keys(name), *after.keys(name)}
            rows = []
            for i, j in keys:
                wanted = after.value_in_kinds(name, new[1], i, j) or nothing
                had = before.value_in_kinds(name, old[1], i, j) or nothing
                if wanted is not None and wanted != had:
                    rows.append((after.setter(name, new[1], i, j) or 0, (i, j), wanted))
            if rows:
                found[name] = {key: value for _, key, value in sorted(rows)}
        for target, _ in found.get("indexed_buffer", {}):  # binding to an index binds to the target as well
            bound = after.value("buffer", new[1], target, 0) or (0,)
            found.setdefault("buffer", {})[target, 0] = bound
        return found


@functools.cache
def _of_fixed_function(number: int) -> bool:
    """Whether a command is one that only the fixed-function pipeline has."""
    command = tables().commands[number]
    if command.name.startswith("wenda") or command.has(Role.HARMLESS):
        return False
    return not is_offered(command.name, "gl", 46, True, frozenset())


def _highest_name(calls: CallStream, objects: list[Objects]) -> int:
    highest = 0
    for found in objects:
        for records in (found.framebuffers, found.vertex_arrays, found.pipelines, found.feedbacks):
            highest = max([highest, *(record.name for record in records)])
        highest = max([highest, *found.queries])
    for command, rows in calls.by_command():
        for parameter in command.parameters:
            if parameter.object_class in CONTAINERS and parameter.kind != "pointer":
                highest = max(highest, int((calls.column(rows, parameter.slot) & np.uint64(0xFFFFFFFF)).max()))
            elif parameter.object_class in CONTAINERS:
                for _, names in calls.name_arrays(calls.offsets[rows] + HEADER_WORDS + parameter.slot):
                    highest = max(highest, int(names.max(initial=0)))
    return highest


def _rename_calls(calls: CallStream, which: npt.NDArray[np.bool_], rename: Callable[[str, int], int]) -> None:
    """Rename the containers that some calls name, in place."""
    for command, rows in calls.by_command():
        mine = rows[which[rows]]
        for parameter in command.parameters:
            class_name = parameter.object_class
            if len(mine) == 0 or class_name not in CONTAINERS:
                continue
            at = calls.offsets[mine] + HEADER_WORDS + parameter.slot
            if parameter.kind == "pointer":
                for _, names in calls.name_arrays(at):
                    names[:] = [rename(class_name, name) if name else 0 for name in names.tolist()]
                continue
            calls.words[at] = [rename(class_name, name & 0xFFFFFFFF) for name in calls.words[at].tolist()]


def _renamed_state(state: InitialState, rename: Callable[[str, int], int]) -> InitialState:
    found: dict[str, dict[Key, tuple[int, ...]]] = {}
    for name, values in state.items():
        class_name = PATTERNS[name].object_class
        found[name] = {
            key: (rename(class_name, value[0]), *value[1:]) if class_name in CONTAINERS else value
            for key, value in values.items()
        }
    found.setdefault("vertex_array", {(0, 0): (rename("vertex array", 0),)})
    return found


def _claim(switch: CallStream, calls: CallStream, mark: int) -> None:
    """Mark calls as ours, made at the moment and on the thread of the change."""
    at = int(calls.offsets[mark])
    switch.words[switch.offsets] |= np.uint64(FLAG_SWITCH << 16)
    for word in (1, 2, 3):
        switch.words[switch.offsets + word] = calls.words[at + word]


def _equal(one: CallStream, other: CallStream) -> bool:
    return np.array_equal(one.words, other.words) and np.array_equal(one.arena, other.arena)
