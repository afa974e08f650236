"""The state tracker: folds initial state and calls into a history of every state key.

Works a column at a time: for each setter command, all its calls at once. Keys that depend on other
keys (a texture binding on the active unit) are resolved by forward fill of the key they depend on.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.backends.opengl.state.popped import Pairs, popped_pairs, with_popped
from wendascope.backends.opengl.state.state_table import FACES, PATTERNS, TEXTURE_TARGETS, Pattern, Setter, Source
from wendascope.registry import GL, tables

Ints = npt.NDArray[np.int64]
Key = tuple[int, int]
InitialState = Mapping[str, Mapping[Key, tuple[int, ...]]]
"""Pattern name -> (i, j) -> raw values, as the snapshot read them."""

UNKNOWN = -2
"""In place of a call: nothing says what set a value."""
_FACE_LIKE = {
    "face": (GL.FRONT_AND_BACK, FACES),
    "framebuffer": (GL.FRAMEBUFFER, (GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER)),
}
_TARGETS = tuple(getattr(GL, name) for name in TEXTURE_TARGETS)
_ELEMENT_BYTES = {"GLdouble": 8, "GLintptr": 8, "GLsizeiptr": 8}
_MOST_AT_ONCE = 256
"""Values that one call can set of a pattern: more points to bind to, no context has."""
_FACE_PARAMETER = {"face": "face", "framebuffer": "target"}


@dataclass
class Events:
    """All changes of one pattern, sorted by key and then by call (-1: before the frame)."""

    keys: Ints  # (n,): i << 32 | j
    calls: Ints  # (n,)
    values: npt.NDArray[np.uint64]  # (n, width)
    starts: dict[int, tuple[int, int]]

    def span(self, i: int, j: int) -> tuple[int, int]:
        """Rows [first, end) of one key; (0, 0) when it has none."""
        return self.starts.get(int(_pack(i, j)), (0, 0))


def _pack(i: Ints | int, j: Ints | int) -> Ints:
    return (np.asarray(i, np.int64) << 32) | (np.asarray(j, np.int64) & 0xFFFFFFFF)


def signed32(word: int) -> int:
    """The low 32 bits as a signed number."""
    return ((word + (1 << 31)) & 0xFFFFFFFF) - (1 << 31)


def _converted(raw: npt.NDArray[np.uint64], kind: str, given: str) -> npt.NDArray[np.uint64]:
    """Raw values of one kind as those of another: commands may set floats by whole numbers, and the other way."""
    low = raw.astype(np.uint32)
    if kind == "f" and given == "int":
        return low.view(np.int32).astype(np.float32).view(np.uint32).astype(np.uint64)
    if kind == "d" and given == "float":
        return low.view(np.float32).astype(np.float64).view(np.uint64)
    if kind in "ib" and given == "float":
        with np.errstate(invalid="ignore"):
            return low.view(np.float32).astype(np.int64).view(np.uint64)
    return raw


def _by_key(keys: Ints, calls: Ints) -> Ints:
    """The order by key and then by call. Most keys are few small numbers, which are sorted by counting."""
    order = np.argsort(calls, kind="stable")  # runs that are sorted already cost little
    i, j = keys >> 32, keys & 0xFFFFFFFF
    low_i, low_j = int(i.min()), int(j.min())
    wide = int(j.max()) - low_j + 1
    if (int(i.max()) - low_i + 1) * wide < 1 << 16:
        small = ((i - low_i) * wide + (j - low_j)).astype(np.uint16)
        return np.asarray(order[np.argsort(small[order], kind="stable")])
    return np.asarray(order[np.argsort(keys[order], kind="stable")])


class StateHistory:
    """Every state key over the calls of a frame."""

    def __init__(
        self, calls: CallStream, initial: InitialState, texture_targets: Mapping[int, int] | None = None
    ) -> None:
        """`texture_targets` says what textures from before the calls were made for, by their names."""
        self._calls = calls
        self._before = texture_targets or {}
        self._initial = initial
        self._events: dict[str, Events] = {}
        self._slots: dict[int, dict[str, int]] = {}
        self._keys_set: dict[tuple[str, int], frozenset[int]] = {}

    # ---- questions ----------------------------------------------------------------------------

    def value(self, pattern: str, call: int, i: int = 0, j: int = 0) -> tuple[int, ...] | None:
        """Raw values of a key as call number `call` finds them, or None when they are not known."""
        found = self.last_event(pattern, call, i, j)
        return None if found is None else tuple(int(v) for v in self.events(pattern).values[found])

    def value_in_kinds(self, pattern: str, call: int, i: int = 0, j: int = 0) -> tuple[int, ...] | None:
        """`value`; None where a command set it in a way that is only good for comparing."""
        setter = self.setter(pattern, call, i, j)
        if setter is not None and setter >= 0:
            by = PATTERNS[pattern].setters.get(self._calls.command(setter).canonical)
            if by is not None and "v" in by.values:
                return None
        return self.value(pattern, call, i, j)

    def number(self, pattern: str, call: int, i: int = 0, j: int = 0, missing: int = 0) -> int:
        """The first number of the key's value when a call runs; `missing` where nothing set it."""
        found = self.value(pattern, call, i, j)
        return missing if found is None else found[0]

    def setter(self, pattern: str, call: int, i: int = 0, j: int = 0) -> int | None:
        """Index of the call that set the key's value; -1 for the state before the frame; None if unknown."""
        found = self.last_event(pattern, call, i, j)
        return None if found is None else int(self.events(pattern).calls[found])

    def last_event(self, pattern: str, call: int, i: int, j: int) -> int | None:
        events = self.events(pattern)
        start, end = events.span(i, j)
        found = start + int(np.searchsorted(events.calls[start:end], call, side="left")) - 1
        return found if found >= start and end > start else None

    def column(self, pattern: str, calls: Ints, i: int = 0, j: int = 0, value: int = 0, missing: int = 0) -> Ints:
        """One value of one key as each of `calls` finds it, shape (n,), as int64."""
        events = self.events(pattern)
        start, end = events.span(i, j)
        if start == end:
            return np.full(len(calls), missing, np.int64)
        found = np.searchsorted(events.calls[start:end], calls, side="left") - 1
        values = events.values[start:end, value].astype(np.int64)[np.maximum(found, 0)]
        return np.where(found >= 0, values, missing)

    def setters(self, pattern: str, calls: Ints, i: int = 0, j: int = 0) -> Ints:
        """`setter` of one key for each of `calls`, shape (n,); `UNKNOWN` where it is unknown."""
        events = self.events(pattern)
        start, end = events.span(i, j)
        if start == end:
            return np.full(len(calls), UNKNOWN, np.int64)
        found = np.searchsorted(events.calls[start:end], calls, side="left") - 1
        return np.where(found >= 0, events.calls[start:end][np.maximum(found, 0)], UNKNOWN)

    def keys(self, pattern: str) -> list[Key]:
        """Every key of a pattern that has a value at any time."""
        return [(key >> 32, signed32(key)) for key in self.events(pattern).starts]

    def keys_set(self, pattern: str, i: int) -> frozenset[int]:
        """Every j, as an unsigned number, for which calls of the frame set the key (i, j)."""
        if (pattern, i) not in self._keys_set:
            events = self.events(pattern)
            mine = (events.calls >= 0) & (events.keys >> 32 == i)
            self._keys_set[pattern, i] = frozenset(np.unique(events.keys[mine] & 0xFFFFFFFF).tolist())
        return self._keys_set[pattern, i]

    def changes(self, first: int, end: int) -> list[tuple[int, str, int, int]]:
        """(call, pattern, i, j) of every change that calls [first, end) make, in order of the calls."""
        found = []
        for name in PATTERNS:
            events = self.events(name)
            rows = np.flatnonzero((events.calls >= first) & (events.calls < end))
            for key, call in zip(events.keys[rows].tolist(), events.calls[rows].tolist(), strict=True):
                found.append((call, name, key >> 32, signed32(key)))
        return sorted(found)

    def change_calls(self, *patterns: str) -> Ints:
        """Every call of the frame that changes a key of some patterns, in order."""
        return np.unique(np.concatenate([self.events(name).calls for name in patterns]))

    # ---- folding --------------------------------------------------------------------------------

    def events(self, name: str) -> Events:
        """Every change of a pattern. A view of what the tracker keeps: not to be changed."""
        if name not in self._events:
            self._events[name] = self._fold(PATTERNS[name])
        return self._events[name]

    def _fold(self, pattern: Pattern) -> Events:
        width = len(pattern.kinds) + pattern.kinds.count("p")
        parts: list[tuple[Ints, Ints, npt.NDArray[np.uint64]]] = []
        initial = self._initial.get(pattern.name, {})
        if initial:
            keys = _pack(np.array([k[0] for k in initial]), np.array([k[1] for k in initial]))
            values = np.zeros((len(initial), width), np.uint64)
            for row, value in enumerate(initial.values()):
                values[row, : len(value)] = np.array([v & (1 << 64) - 1 for v in value[:width]], np.uint64)
            parts.append((keys, np.full(len(initial), -1, np.int64), values))
        for canonical, setter in pattern.setters.items():
            for command in tables().commands_like(canonical):
                calls = self._calls.calls_to(command.id)
                if len(calls):
                    # by the canonical names: an alias may call its parameters otherwise
                    self._slots[command.id] = {p.name: p.slot for p in tables()[canonical].parameters}
                    parts += self._changes(command.id, calls, setter, pattern.kinds)
        if not any(len(part[0]) for part in parts):
            return Events(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, width), np.uint64), {})
        keys = np.concatenate([p[0] for p in parts])
        calls = np.concatenate([p[1] for p in parts])
        values = np.concatenate([p[2] for p in parts])
        order = _by_key(keys, calls)
        keys, calls, values = with_popped(self._pairs, pattern.name, keys[order], calls[order], values[order])
        edges = np.flatnonzero(np.diff(keys)) + 1
        bounds = [0, *edges.tolist(), len(keys)]
        starts = {int(keys[a]): (a, b) for a, b in itertools.pairwise(bounds)}
        return Events(keys, calls, values, starts)

    def _changes(
        self, command: int, calls: Ints, setter: Setter, kinds: str
    ) -> list[tuple[Ints, Ints, npt.NDArray[np.uint64]]]:
        if setter.when is not None:
            calls = calls[self._source(command, calls, setter.when[0]) == setter.when[1]]
        if setter.unless:
            calls = calls[~np.isin(self._source(command, calls, setter.index[0]), setter.unless)]
        counted = np.zeros(len(calls), np.int64)
        if setter.many:
            counts = np.clip(self._source(command, calls, setter.many[1]), 0, _MOST_AT_ONCE)
            starts = np.concatenate([[0], np.cumsum(counts)])
            counted = np.arange(starts[-1]) - np.repeat(starts[:-1], counts)
            calls = np.repeat(calls, counts)
        values = self._values(command, calls, setter, kinds, counted)
        if setter.faces:
            return self._both_faces(command, calls, setter.faces, values)
        index = [
            self._source(command, calls, (setter.many or ("",))[0]) + counted
            if source == "+first"
            else self._source(command, calls, source, counted)
            for source in setter.index
        ]
        if setter.own_target:
            return self._own_targets(index[0], calls, values)
        i = index[0] if index else np.zeros(len(calls), np.int64)
        j = index[1] if len(index) > 1 else np.zeros(len(calls), np.int64)
        if setter.spread:
            return [(_pack(np.full(len(calls), k), j), calls, values) for k in range(setter.spread)]
        return [(_pack(i, j), calls, values)]

    def _values(self, command: int, calls: Ints, setter: Setter, kinds: str, counted: Ints) -> npt.NDArray[np.uint64]:
        """What each call sets, shape (n, width), in the kinds of the pattern where that can be."""
        parameters = {p.slot: p for p in tables().commands[command].parameters}
        slots = kinds.replace("p", "pp")
        values = np.zeros((len(calls), len(slots)), np.uint64)
        at = 0
        for source in setter.values:
            slot = self._slots[command].get(source) if isinstance(source, str) else None
            given = parameters[slot].kind if slot is not None else ""
            for extra in range(2 if given == "pointer" else 1):
                if given == "pointer":
                    assert slot is not None
                    values[:, at] = self._calls.column(calls, slot + extra)
                else:
                    raw = self._source(command, calls, source, counted).astype(np.uint64)
                    values[:, at] = _converted(raw, slots[at], given)
                at += 1
        return values

    def _own_targets(
        self, units: Ints, calls: Ints, values: npt.NDArray[np.uint64]
    ) -> list[tuple[Ints, Ints, npt.NDArray[np.uint64]]]:
        """Textures bound to the targets they were made for; none is bound to all. Where it is not known what one was
        made for, the target is 0.
        """
        parts = []
        names = values[:, 0].astype(np.int64)
        for name in np.unique(names).tolist():
            mine = names == name
            targets = _TARGETS if name == 0 else (self._texture_targets.get(name, 0),)
            for target in targets:
                parts.append((_pack(GL.TEXTURE0 + units[mine], target), calls[mine], values[mine]))
        return parts

    @functools.cached_property
    def _pairs(self) -> tuple[Pairs, Pairs]:
        return popped_pairs(self._calls)

    @functools.cached_property
    def _texture_targets(self) -> dict[int, int]:
        calls, found = self._calls, dict[int, int]()
        for command in ("glBindTexture", "glCreateTextures"):
            for call in calls.calls_of(command).tolist():
                target = int(calls.argument(call, "target"))
                if command == "glBindTexture":
                    found.setdefault(int(calls.argument(call, "texture")), target)
                else:
                    given = calls.argument(call, "textures")
                    names = np.frombuffer(given, np.uint32).tolist() if isinstance(given, bytes) else []
                    found |= dict.fromkeys(names, target)
        return {**found, **self._before}

    def _both_faces(
        self, command: int, calls: Ints, faces: str, values: npt.NDArray[np.uint64]
    ) -> list[tuple[Ints, Ints, npt.NDArray[np.uint64]]]:
        both, single = _FACE_LIKE["face" if faces == "*" else faces]
        if faces == "*":
            named = np.full(len(calls), both, np.int64)
        else:
            named = self._source(command, calls, _FACE_PARAMETER[faces])
        parts = []
        for face in single:
            hit = (named == face) | (named == both)
            parts.append((_pack(np.full(int(hit.sum()), face), 0), calls[hit], values[hit]))
        return parts

    def _source(self, command: int, calls: Ints, source: Source, counted: Ints | None = None) -> Ints:
        if isinstance(source, int):
            return np.full(len(calls), source, np.int64)
        if source.startswith("@"):
            pattern, _, key = source[1:].partition(":")
            return self.column(pattern, calls, getattr(GL, key) if key else 0)
        name, _, element = source.partition("[")
        slot = self._slots[command][name]
        if not element:
            return self._calls.column(calls, slot).astype(np.int64)
        ctype = next(p.ctype for p in tables().commands[command].parameters if p.slot == slot).split()[1]
        factor, star, plus = element[:-1].partition("*")
        at: int | Ints = int(factor) if not star else (counted if counted is not None else 0) * int(factor or 1)
        found = self._calls.elements_at(calls, slot, at + int(plus or 0), _ELEMENT_BYTES.get(ctype, 4))
        if ctype in ("GLint", "GLsizei"):
            return found.astype(np.uint32).view(np.int32).astype(np.int64)
        return found.view(np.int64)
