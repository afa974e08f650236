"""Draws steps in another order, with the state that each of them had.

State calls between the steps are copied where a step needs a value that is not the current one; calls that depend on
what is bound (a uniform on the program) are preceded by that binding. What cannot be moved safely is refused by name.
"""

from __future__ import annotations

from collections import defaultdict

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.moved_uploads import UPLOADS, MovedUploads
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.buffer_contents import BufferContents
from wendascope.backends.opengl.objects.subroutines import chooses_subroutines
from wendascope.backends.opengl.objects.uniform_values import initial_value, set_uniform
from wendascope.backends.opengl.state.draw_buffers import repeated_draw_buffers
from wendascope.backends.opengl.state.state_table import OF_VERTEX_ARRAYS, PATTERNS, Setter, decoded
from wendascope.backends.opengl.state.texture_parameters import parameter_calls
from wendascope.backends.opengl.state.tracker import UNKNOWN
from wendascope.errors import TrialError
from wendascope.registry import GL, Role

State = tuple[str, int, int]
"""A key of the state tracker: pattern and its two indices."""

_OF_PROGRAMS = ("uniform", "block_binding", "storage_binding")
_SELECTORS = ("program", "vertex_array", "active_texture", "buffer")
"""What other calls depend on; kept by value."""


Planned = tuple[int, CallBatch | None]
"""A step, and the calls in place of its own, which leave the state as they find it; None for its own."""


def reordered(
    frame: OpenGLFrame, run: list[int], order: list[Planned], contents: BufferContents
) -> tuple[tuple[int, int], CallBatch]:
    """((first, end) of the calls that are replaced, the calls in their place).

    `run` are steps one after the other; `order` some or all of them as they are to come. Raises TrialError.
    """
    return _Reorder(frame, run, order, contents).build()


class _Reorder:
    def __init__(self, frame: OpenGLFrame, run: list[int], order: list[Planned], contents: BufferContents) -> None:
        self._frame, self._order = frame, order
        steps = frame.steps
        self.first = int(steps.call[run[0] - 1]) + 1 if run[0] else 0
        self.end = int(steps.call[run[-1]]) + 1
        self._batch = CallBatch()
        self._sets: dict[int, list[State]] = defaultdict(list)
        for call, pattern, i, j in frame.history.changes(self.first, self.end):
            self._sets[call].append((pattern, i, j))
        # the element buffer is part of the vertex array, where the tracker has it by a key of its own
        self._keys = sorted(
            {key for keys in self._sets.values() for key in keys} - {("buffer", GL.ELEMENT_ARRAY_BUFFER, 0)}
        )
        calls = np.array([*(int(steps.call[s]) for s, _ in order), self.end, self.first], np.int64)
        self._wanted = {key: self._setters(key, calls) for key in self._keys}
        self._current = {key: column[-1] for key, column in self._wanted.items()}
        self._selected = {key: self._value(key, self.first) for key in self._keys if key[0] in _SELECTORS}
        self._needs: dict[int, list[tuple[State, int]]] = {}
        self._uploads = MovedUploads(frame, contents, self.first, self.end)
        self._check(run)

    def _check(self, run: list[int]) -> None:
        """Everything between the steps is state that the tracker knows, or does no harm."""
        frame, steps = self._frame, self._frame.steps
        sets_parameter, changes_parameter = parameter_calls(frame)
        repeated = repeated_draw_buffers(frame)
        inside = {int(steps.call[s]) for s in run}
        choosing = {p.name for p in frame.objects.programs if chooses_subroutines(p)}
        if choosing & set(np.asarray(steps.program)[run].tolist()):
            raise TrialError("a program has subroutines, which would have to be chosen again at each change")
        for step in run:
            if steps.kind_name(step) != "draw" or steps.begin[step] != steps.call[step]:
                raise TrialError("only single draws can change places")
        for call in range(self.first, self.end):
            command = frame.calls.command(call)
            if call in inside or call in self._sets or command.has(Role.HARMLESS | Role.WITH_DRAW):
                continue
            if command.name in UPLOADS or repeated[call] or (sets_parameter[call] and not changes_parameter[call]):
                continue
            raise TrialError(f"{command.name} is called between the steps; what it does cannot be moved with them")

    def _setters(self, key: State, calls: npt.NDArray[np.int64]) -> list[int]:
        """What set a value for each of some calls; `UNKNOWN` where it does not matter to them."""
        history, (name, i, j) = self._frame.history, key
        found = history.setters(name, calls, i, j)
        owner = "vertex_array" if name in OF_VERTEX_ARRAYS else "program" if name in _OF_PROGRAMS else ""
        if owner:  # draws do not see uniforms of other programs and attributes of other arrays
            current = history.column(owner, calls)
            seen = (current == i) | (current == 0)
            seen[-2:] = True
            if name == "uniform":
                found = np.where(found == UNKNOWN, -1, found)  # its value is from before the frame
            found = np.where(seen, found, UNKNOWN)
        return [int(v) for v in found]

    def _value(self, key: State, call: int) -> int:
        return self._frame.history.number(key[0], call, key[1], key[2])

    def build(self) -> tuple[tuple[int, int], CallBatch]:
        calls, steps = self._frame.calls, self._frame.steps
        for row, (step, planned) in enumerate(self._order):
            call = int(steps.call[step])
            self._upload(call, step)
            self._bring(row, call)
            if planned is not None:
                self._batch.append(planned)
                continue
            before = call - 1
            while before >= self.first and calls.command(before).has(Role.WITH_DRAW):
                before -= 1
            for moved in range(before + 1, call + 1):
                self._batch.copy(calls, moved)
        self._upload(self.end, None)
        self._bring(len(self._order), self.end)
        return (self.first, self.end), self._batch

    def _upload(self, call: int, step: int | None) -> None:
        bound = self._uploads.bring(self._batch, call, step)
        if bound:
            self._selected["buffer", GL.ARRAY_BUFFER, 0] = bound

    def _bring(self, row: int, call: int) -> None:
        """State becomes what captured call `call` found, which has a row in the table of what is wanted."""
        for _ in range(4 * len(self._keys) + 4):
            differing = []
            for key, column in self._wanted.items():
                wanted = column[row]
                if wanted not in (UNKNOWN, self._current[key]) and key[0] not in _SELECTORS:
                    differing.append((wanted, key))
            if not differing:
                break
            setter, key = min(differing)
            if setter >= 0:
                self._copy(setter)
            else:
                self._set_initial(key)
        for key in list(self._selected):
            self._select(key, self._value(key, call))

    def _copy(self, call: int) -> None:
        """Run a captured state call again, with what it depends on."""
        if call not in self._needs:
            self._needs[call] = [(key, self._value(key, call)) for key in self._dependencies(call)]
        for key, value in self._needs[call]:
            self._select(key, value)
        self._batch.copy(self._frame.calls, call)
        changed = self._sets.get(call)
        if changed is None:
            # from before the run: of the keys that matter here, those it set
            known = _keys_of(self._frame, call)
            changed = self._sets[call] = [key for key in self._keys if key in known]
        for key in changed:
            if key[0] in _SELECTORS:
                self._selected[key] = self._value(key, call + 1)
            elif key in self._current:
                self._current[key] = call

    def _dependencies(self, call: int) -> list[State]:
        found: list[State] = []
        canonical = self._frame.calls.command(call).canonical
        for pattern in PATTERNS.values():
            setter = pattern.setters.get(canonical)
            if setter is not None:
                found += [key for key in _sources(setter) if key not in found]
        return found

    def _select(self, key: State, value: int) -> None:
        if key not in self._selected:
            self._selected[key] = self._value(key, self.first)
        if self._selected[key] == value:
            return
        self._selected[key] = value
        match key[0]:
            case "program":
                self._batch.call("glUseProgram", value)
            case "vertex_array":
                self._batch.call("glBindVertexArray", value)
            case "active_texture":
                self._batch.call("glActiveTexture", value or GL.TEXTURE0)
            case "buffer":
                self._batch.call("glBindBuffer", key[1], value)

    def _set_initial(self, key: State) -> None:
        """A value from before the frame, which no captured call set."""
        name, i, j = key
        raw = self._frame.history.value(name, 0, i, j)
        pattern = PATTERNS[name]
        if name == "capability" or (name.endswith("_enabled") and name != "attribute_enabled"):
            cap = (
                i
                if name == "capability"
                else {"blend_enabled": GL.BLEND, "scissor_test_enabled": GL.SCISSOR_TEST}[name]
            )
            on = bool(raw and raw[0])
            if name == "capability":
                self._batch.call("glEnable" if on else "glDisable", cap)
            else:
                self._batch.call("glEnablei" if on else "glDisablei", cap, i)
        elif name == "texture" and raw is not None:
            self._select(("active_texture", 0, 0), i)
            self._batch.call("glBindTexture", j, raw[0])
        elif name == "uniform" and self._set_initial_uniform(i, j):
            pass
        elif pattern.write and raw is not None:
            values = [decoded(kind, v) for kind, v in zip(pattern.kinds, raw, strict=False)]
            self._batch.call(pattern.write, *([i] if pattern.indices else []), *values)
        else:
            raise TrialError(f"{name.replace('_', ' ')} from before the frame cannot be set again")
        self._current[key] = -1

    def _set_initial_uniform(self, program: int, location: int) -> bool:
        """Whether a uniform could get the value that the program had for it before the frame."""
        record = self._frame.objects.program(program)
        for uniform in record.uniforms if record is not None else []:
            data = initial_value(uniform, location)
            if data:
                self._select(("program", 0, 0), program)
                at = location & 0xFFFFFFFF
                set_uniform(self._batch, uniform.type, at - ((1 << 32) if at >> 31 else 0), data)
                return True
        return False


def _keys_of(frame: OpenGLFrame, call: int) -> set[State]:
    return {(pattern, i, j) for _, pattern, i, j in frame.history.changes(call, call + 1)}


def _sources(setter: Setter) -> list[State]:
    found = []
    for source in (*setter.index, *setter.values):
        if isinstance(source, str) and source.startswith("@"):
            pattern, _, key = source[1:].partition(":")
            found.append((pattern, getattr(GL, key) if key else 0, 0))
    return found
