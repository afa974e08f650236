"""Judges the calls of a frame: what sets again what is set already, and what is replaced before anything used it."""

from __future__ import annotations

import functools
from collections import defaultdict
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import FLAG_SWITCH
from wendascope.backends.opengl.state.state_table import CAPABILITIES, OF_VERTEX_ARRAYS, PATTERNS
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.frame.call_use import KINDS, NO_STATE, NOBODY, OVERWRITTEN, REPEATS, STEP, USED, CallUse
from wendascope.frame.numbers import Ints, Mask
from wendascope.frame.steps import KINDS as STEP_KINDS
from wendascope.registry import GL, Role, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_OTHER = KINDS.index("other")
_KIND_OF = {
    "program": 0,
    "pipeline": 0,
    "texture": 1,
    "sampler": 1,
    "image": 1,
    "active_texture": 1,
    "buffer": 2,
    "vertex_array": 2,
    **dict.fromkeys(OF_VERTEX_ARRAYS, 2),
    "attribute_value": 2,
    "uniform": 3,
    "indexed_buffer": 4,
    "block_binding": 4,
    "storage_binding": 4,
    "draw_buffers": 6,
    "framebuffer": 6,
    "renderbuffer": 6,
    "drawable": 6,
    "viewport": 7,
    "scissor": 7,
    "scissor_test_enabled": 7,
    "depth_range": 7,
    "pixel_store": 8,
    "hint": 8,
    "transform_feedback": 8,
}
_FIXED = 5
_BY_CALLS = {
    "program",
    "pipeline",
    "texture",
    "sampler",
    "image",
    "active_texture",
    "buffer",
    "vertex_array",
    "indexed_buffer",
    "framebuffer",
    "renderbuffer",
    "drawable",
    "pixel_store",
    "hint",
    "transform_feedback",
    "draw_buffers",
    *OF_VERTEX_ARRAYS,
}
"""Patterns that calls which are neither steps nor setters may depend on, uploads above all."""
_CLEARED_BY = {"clear_color", "clear_depth", "clear_stencil"}
_ROUNDS = 5


def call_use(frame: OpenGLFrame, alive: Mask | None = None, allowed: Mapping[int, Mask] | None = None) -> CallUse:
    """Judge every call. `alive`, shape (steps,), says which steps there are, where some are left out.

    `allowed` are the calls that may be called repeats or overwritten, by use: what is found then can be left out all
    together, and what is not in it stays. Without it, all may be.
    """
    return _Judge(frame, alive, allowed).judge()


class _Judge:
    def __init__(self, frame: OpenGLFrame, alive: Mask | None, allowed: Mapping[int, Mask] | None) -> None:
        self._frame = frame
        self._allowed = allowed
        calls, history = frame.calls, frame.history
        steps = frame.steps
        present = np.ones(len(steps), bool) if alive is None else alive
        self._step_rows = np.flatnonzero(present)
        self._steps = np.asarray(steps.call[present], np.int64)
        values = frame.setting_values
        parts = []
        self._spans: list[tuple[str, int, int, int, int]] = []  # pattern, i, j, first row, end row
        at = 0
        self._names = list(PATTERNS)
        for number, name in enumerate(self._names):
            events = history.events(name)
            judged = self._judged(name)
            parts.append((np.full(len(events.calls), number), events.keys, events.calls, values.numbers(name), judged))
            for key, (first, end) in events.starts.items():
                self._spans.append((name, key >> 32, key & 0xFFFFFFFF, at + first, at + end))
            at += len(events.calls)
        self._pattern = np.concatenate([p[0] for p in parts]).astype(np.int64)
        keys = np.concatenate([p[1] for p in parts])
        self._calls = np.concatenate([p[2] for p in parts])
        self._values = np.concatenate([p[3] for p in parts])
        self._can = np.concatenate([p[4] for p in parts])
        fresh = np.ones(len(keys), bool)
        fresh[1:] = (keys[1:] != keys[:-1]) | (self._pattern[1:] != self._pattern[:-1])
        self._group = np.cumsum(fresh) - 1
        self._barriers = np.flatnonzero(calls.having(Role.STATE_UNKNOWN_AFTER))
        self._epoch = np.searchsorted(self._barriers, self._calls, side="right")
        self._units = self._sampled()

    def _judged(self, name: str) -> Mask:
        """Events whose value is known well enough to call another one a repeat of it."""
        events = self._frame.history.events(name)
        judged = np.ones(len(events.calls), bool)
        if name == "capability":  # others are switched for each texture unit, or not known
            known = np.array([getattr(GL, cap) for cap in CAPABILITIES], np.int64) << 32
            judged &= np.isin(events.keys, known)
        elif name == "uniform":
            judged &= events.calls >= 0  # what was set before the frame is kept in another form
            set_in_frame = set(events.starts)
            for program in self._frame.objects.programs:
                for uniform in program.uniforms:
                    rows = {program.name << 32 | (location & 0xFFFFFFFF) for location in uniform.locations}
                    if len(rows) > 1 and len(rows & set_in_frame) > 1:
                        judged &= ~np.isin(events.keys, list(rows))  # set as a whole and in parts
        elif name in ("image", "transform_feedback", "drawable", "hint", "attribute_layout", "vertex_buffer"):
            judged[:] = False  # they carry more than the tracker compares
        return judged

    # ---- who uses what ------------------------------------------------------------------------------

    def _sampled(self) -> dict[tuple[int, int], Ints]:
        """(unit, target) -> the calls of the steps that read it."""
        found: dict[tuple[int, int], list[Ints]] = defaultdict(list)
        there = np.zeros(len(self._frame.steps), bool)
        there[self._step_rows] = True
        for use in sampler_uses(self._frame):
            present = there[use.steps]
            calls = self._frame.steps.call[use.steps[present]]
            units = use.units[present]
            for unit in set(units.tolist()):
                found[(GL.TEXTURE0 + unit, use.target)].append(calls[units == unit])
        known = {p.name for p in self._frame.objects.programs}
        programs = self._frame.steps.program[self._step_rows]
        pipelines = self._frame.history.column("pipeline", self._steps) != 0
        self._reads_anything = self._steps[~np.isin(programs, list(known)) | ((programs == 0) & pipelines)]
        return {key: np.concatenate(parts) for key, parts in found.items()}

    def _users(self, kept_setters: Mask) -> dict[str, Ints]:
        """Pattern -> calls that may depend on any key of it, in order. Steps are refined by key where that is known."""
        calls = self._frame.calls
        kinds = self._frame.steps.kind[self._step_rows]
        # copies, blits and mipmaps work on the texture that is bound, whatever programs read
        work = self._steps[~np.isin(kinds, [STEP_KINDS.index(k) for k in ("draw", "clear", "dispatch")])]
        clears = self._steps[kinds == STEP_KINDS.index("clear")]
        found = {}
        setters = np.flatnonzero(kept_setters)
        ids = calls.ids[setters]
        for name in self._present:
            mask = np.zeros(len(calls), bool)
            mask[self._barriers] = True
            if name in _CLEARED_BY:
                mask[clears] = True
            elif name == "texture":
                mask[work] = True
            elif name != "uniform":
                mask[self._steps] = True
            if name in _BY_CALLS:
                mask[self._others] = True
            mask[setters[_dependents()[name][ids]]] = True
            found[name] = np.flatnonzero(mask)
        return found

    def _of_key(self, name: str, i: int, j: int, users: dict[str, Ints]) -> Ints:
        if name not in ("texture", "uniform"):
            return users[name]
        key = (name, i, j if name == "texture" else 0)
        if key not in self._key_users:
            mask = np.zeros(len(self._frame.calls), bool)
            mask[users[name]] = True
            if name == "texture":
                mask[self._reads_anything] = True
                mask[self._units.get((i, j), np.zeros(0, np.int64))] = True
            else:
                programs = self._frame.steps.program[self._step_rows]
                mask[self._steps[(programs == i) | (programs == 0)]] = True
            self._key_users[key] = np.flatnonzero(mask)
        return self._key_users[key]

    # ---- judging ------------------------------------------------------------------------------------

    def judge(self) -> CallUse:
        count = len(self._frame.calls)
        kind = np.full(count, _OTHER, np.uint8)
        inside = self._calls >= 0
        table = np.array([_KIND_OF.get(name, _FIXED) for name in self._names], np.uint8)
        # backwards, so that the first pattern of a call names its kind
        kind[self._calls[inside][::-1]] = table[self._pattern[inside]][::-1]
        self._is_setter = np.zeros(count, bool)
        self._is_setter[self._calls[inside]] = True
        self._present = [
            self._names[k]
            for k in np.flatnonzero(np.bincount(self._pattern[inside], minlength=len(self._names))).tolist()
        ]
        other = ~self._is_setter & ~self._frame.calls.having(Role.HARMLESS | Role.WITH_DRAW)
        other[self._frame.steps.call] = False
        self._others = np.flatnonzero(other)
        because = np.full(count, NOBODY, np.int64)
        use = np.full(count, NO_STATE, np.uint8)
        use[self._is_setter & ((self._frame.calls.flags & FLAG_SWITCH) == 0)] = USED
        use[self._frame.steps.call] = STEP
        use[self._frame.steps.begin] = STEP
        there = np.ones(len(self._calls), bool)
        for _ in range(_ROUNDS):
            dropped = self._round(there, use, because)
            if len(dropped) == 0:
                break
            gone = np.zeros(count + 1, bool)  # the last for what is from before the frame, -1
            gone[dropped] = True
            there &= ~gone[self._calls]
        return CallUse(use, kind, because)

    def _round(self, there: Mask, use: npt.NDArray[np.uint8], because: Ints) -> Ints:
        """Find calls that are redundant among the events still there, write them down and return them."""
        count = len(use)
        rows = np.flatnonzero(there)
        group, calls = self._group[rows], self._calls[rows]
        same = np.zeros(len(rows), bool)
        same[1:] = (
            (group[1:] == group[:-1])
            & (self._values[rows][1:] == self._values[rows][:-1])
            & (self._epoch[rows][1:] == self._epoch[rows][:-1])
        )
        repeat = same & self._can[rows]
        repeat[1:] &= self._can[rows][:-1]
        set_before = np.concatenate([[NOBODY], calls[:-1]])
        # among what is no repeat: replaced before anything could use it
        kept = np.flatnonzero(~repeat)
        next_call = np.full(len(rows), -2, np.int64)
        follows = group[kept][1:] == group[kept][:-1]
        next_call[kept[:-1][follows]] = calls[kept][1:][follows]
        kept_setters = np.zeros(count, bool)
        kept_setters[calls[calls >= 0]] = True
        users = self._users(kept_setters)
        self._key_users: dict[tuple[str, int, int], Ints] = {}
        over = np.zeros(len(rows), bool)
        position = np.full(len(there), -1, np.int64)
        position[rows] = np.arange(len(rows))
        for name, i, j, first, end in self._spans:
            if end - first < 2:
                continue
            mine = position[first:end]
            mine = mine[mine >= 0]
            mine = mine[(next_call[mine] >= 0) & (calls[mine] >= 0)]
            if len(mine) == 0:
                continue
            who = self._of_key(name, i, j, users)
            over[mine] = np.searchsorted(who, calls[mine], side="right") == np.searchsorted(
                who, next_call[mine], side="left"
            )
        redundant = repeat | over
        inside = calls >= 0
        total, idle, again = (
            np.bincount(calls[inside & of], minlength=count) for of in (np.ones(len(rows), bool), redundant, repeat)
        )
        gone = np.flatnonzero((total > 0) & (total == idle) & (use == USED))
        found = np.where(again[gone] == total[gone], REPEATS, OVERWRITTEN)
        if self._allowed is not None:
            may = np.where(found == REPEATS, self._allowed[REPEATS][gone], self._allowed[OVERWRITTEN][gone])
            gone, found = gone[may], found[may]
        use[gone] = found
        chosen = np.flatnonzero(inside)[::-1]  # the first event of a call is written last
        why = np.where(repeat, set_before, next_call)
        mask = np.zeros(count, bool)
        mask[gone] = True
        chosen = chosen[mask[calls[chosen]]]
        because[calls[chosen]] = why[chosen]
        return gone


@functools.cache
def _dependents() -> dict[str, Mask]:
    """Pattern -> for each command, whether it sets another pattern through what this one selects."""
    found = {name: np.zeros(len(tables().commands), bool) for name in PATTERNS}
    for pattern in PATTERNS.values():
        for canonical, setter in pattern.setters.items():
            for source in (*setter.index, *setter.values):
                if isinstance(source, str) and source.startswith("@"):
                    found[source[1:].partition(":")[0]][[c.id for c in tables().commands_like(canonical)]] = True
    return found
