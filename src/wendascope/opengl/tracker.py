"""The state tracker: folds initial state and calls into a history of every state key.

Works a column at a time: for each setter command, all its calls at once. Keys that depend on other
keys (a texture binding on the active unit) are resolved by forward fill of the key they depend on.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.opengl.packed import CallStream
from wendascope.opengl.state_table import FACES, PATTERNS, Pattern, Setter, Source
from wendascope.registry import GL, Command, tables

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


def _converted(raw: int, command: Command, source: Source, kind: str) -> int:
    plain = isinstance(source, str) and source[0] != "@" and "[" not in source
    given = command.parameter(str(source)).kind if plain else ""
    if kind == "f" and given == "int":
        return int(np.float32(signed32(raw)).view(np.uint32))
    if kind == "d" and given == "float":
        return int(np.float64(np.uint32(raw & 0xFFFFFFFF).view(np.float32)).view(np.uint64))
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

    def __init__(self, calls: CallStream, initial: InitialState) -> None:
        self._calls = calls
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
        """`value`, as raw values in the kinds of the pattern where the command that set them takes others; None where
        it takes them in a way that is only good for comparing.
        """
        value, setter = self.value(pattern, call, i, j), self.setter(pattern, call, i, j)
        kinds = PATTERNS[pattern].kinds
        if value is None or setter is None or setter < 0 or not set(kinds) & {"f", "d"}:
            return value
        command = self._calls.command(setter)
        sources = PATTERNS[pattern].setters[command.canonical].values
        if "v" in sources:
            return None
        return tuple(
            _converted(raw, command, source, kind) for raw, source, kind in zip(value, sources, kinds, strict=False)
        )

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
                    parts += self._changes(command.id, calls, setter, width)
        if not any(len(part[0]) for part in parts):
            return Events(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, width), np.uint64), {})
        keys = np.concatenate([p[0] for p in parts])
        calls = np.concatenate([p[1] for p in parts])
        values = np.concatenate([p[2] for p in parts])
        order = _by_key(keys, calls)
        keys, calls, values = keys[order], calls[order], values[order]
        edges = np.flatnonzero(np.diff(keys)) + 1
        bounds = [0, *edges.tolist(), len(keys)]
        starts = {int(keys[a]): (a, b) for a, b in itertools.pairwise(bounds)}
        return Events(keys, calls, values, starts)

    def _changes(
        self, command: int, calls: Ints, setter: Setter, width: int
    ) -> list[tuple[Ints, Ints, npt.NDArray[np.uint64]]]:
        if setter.when is not None:
            calls = calls[self._source(command, calls, setter.when[0]) == setter.when[1]]
        if setter.unless:
            calls = calls[~np.isin(self._source(command, calls, setter.index[0]), setter.unless)]
        values = np.zeros((len(calls), width), np.uint64)
        at = 0
        for source in setter.values:
            slot = self._slots[command].get(source) if isinstance(source, str) else None
            pointer = slot is not None and any(
                p.slot == slot and p.kind == "pointer" for p in tables().commands[command].parameters
            )
            for extra in range(2 if pointer else 1):
                if pointer:
                    assert slot is not None
                    values[:, at] = self._calls.column(calls, slot + extra)
                else:
                    values[:, at] = self._source(command, calls, source).astype(np.uint64)
                at += 1
        if setter.faces:
            return self._both_faces(command, calls, setter.faces, values)
        index = [self._source(command, calls, source) for source in setter.index]
        i = index[0] if index else np.zeros(len(calls), np.int64)
        j = index[1] if len(index) > 1 else np.zeros(len(calls), np.int64)
        if setter.spread:
            return [(_pack(np.full(len(calls), k), j), calls, values) for k in range(setter.spread)]
        return [(_pack(i, j), calls, values)]

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

    def _source(self, command: int, calls: Ints, source: Source) -> Ints:
        if isinstance(source, int):
            return np.full(len(calls), source, np.int64)
        if source.startswith("@"):
            pattern, _, key = source[1:].partition(":")
            return self.column(pattern, calls, getattr(GL, key) if key else 0)
        name, _, element = source.partition("[")
        slot = self._slots[command][name]
        if element:
            return self._calls.floats_at(calls, slot, int(element[:-1]))
        return self._calls.column(calls, slot).astype(np.int64)
