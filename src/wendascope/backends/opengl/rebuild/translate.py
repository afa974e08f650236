"""From captured calls to calls for this context: names, uniform locations and block indices replaced,
calls that must not run here left out."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import BLOB, OUT, CallStream, Words
from wendascope.backends.opengl.calls.runnable import may_run, may_set_up
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.rebuild.names import NameMap, translate
from wendascope.backends.opengl.state.tracker import StateHistory
from wendascope.backends.opengl.tables.written import NAMED_BY_TARGET
from wendascope.registry import GL, Command, Role, tables
from wendascope.registry.numbers import HEADER_WORDS, OFFSET_MASK

_TRANSLATED = {
    "buffer", "texture", "sampler", "renderbuffer", "framebuffer", "vertex array", "program", "shader", "query",
    "program pipeline", "transform feedback", "drawable",
}  # fmt: skip

_INVERTED = (
    GL.QUERY_WAIT_INVERTED,
    GL.QUERY_NO_WAIT_INVERTED,
    GL.QUERY_BY_REGION_WAIT_INVERTED,
    GL.QUERY_BY_REGION_NO_WAIT_INVERTED,
)


def left_out(command: Command) -> bool:
    """Whether a captured call is not replayed."""
    return command.has(Role.NOT_REPLAYED) or not may_run(command)


def _mask(calls: CallStream, out: Callable[[Command], bool]) -> npt.NDArray[np.bool_]:
    commands = tables().commands
    ids = np.unique(calls.ids)
    dropped = np.array([out(commands[i]) for i in ids.tolist()], bool)
    return dropped[np.searchsorted(ids, calls.ids)] if len(ids) else np.zeros(0, bool)


def drop_mask(frame: OpenGLFrame) -> npt.NDArray[np.bool_]:
    """True for every call of a frame that is not replayed, shape (n,)."""
    dropped = _mask(frame.calls, left_out)
    for first, last, drawn in _decided_conditions(frame):
        dropped[[first, last]] = True
        if not drawn:
            inside = (frame.steps.call > first) & (frame.steps.call < last)
            dropped[frame.steps.call[inside]] = True
    return dropped


def _decided_conditions(frame: OpenGLFrame) -> Iterator[tuple[int, int, bool]]:
    """Conditional rendering on a query of an earlier frame, whose result is known: (begin, end, whether it draws)."""
    calls = frame.calls
    begins = calls.calls_of("glBeginConditionalRender", "glBeginConditionalRenderNV")
    ends = calls.calls_of("glEndConditionalRender", "glEndConditionalRenderNV")
    asked: dict[int, int] = {}
    for call in calls.calls_of("glBeginQuery", "glBeginQueryIndexed", "glBeginQueryARB").tolist():
        asked.setdefault(int(calls.argument(call, "id")), call)
    for begin in begins.tolist():
        query = int(calls.argument(begin, "id"))
        after = ends[ends > begin]
        known = frame.objects.query_results.get(query)
        if known is None or asked.get(query, len(calls)) < begin or len(after) == 0:
            continue
        inverted = int(calls.argument(begin, "mode")) in _INVERTED
        yield begin, int(after[0]), (known == 0) if inverted else (known != 0)


def setup_drop_mask(setup: CallStream) -> npt.NDArray[np.bool_]:
    """The same for the calls that make the state before the frame."""
    return _mask(setup, lambda command: not may_set_up(command))


def list_drop_mask(lists: CallStream) -> npt.NDArray[np.bool_]:
    """The same for the calls between glNewList and glEndList: those that GL runs at once are no part of a list."""
    return _mask(lists, lambda command: left_out(command) or command.has(Role.NOT_IN_LISTS))


_MOST_READBACKS = 1 << 28
"""Bytes of output memory that readbacks have places of their own in; what comes beyond them shares one."""


class Readbacks:
    """Where the readbacks of a frame go in the output memory of its runs."""

    def __init__(self, base: int) -> None:
        self._base = self._next = base
        self._shared = 0
        self.places: dict[int, tuple[int, int]] = {}
        """Call of the stream -> (offset, bytes) of what it reads; those that share a place are not among them."""

    def add(self, call: int, size: int) -> int:
        """A place for what a call reads; its offset."""
        size = (size + 7) // 8 * 8
        if self._next + size > self._base + _MOST_READBACKS:
            self._shared = max(self._shared, size)
            return self._base + _MOST_READBACKS
        self.places[call] = self._next, size
        self._next += size
        return self.places[call][0]

    @property
    def bytes(self) -> int:
        """Output memory that they need."""
        return _MOST_READBACKS + self._shared if self._shared else self._next - self._base


class Translator:
    """Translates streams of one frame."""

    def __init__(self, frame: OpenGLFrame, names: NameMap, single_buffered: bool) -> None:
        self._frame = frame
        self._names = names
        self._single = single_buffered

    def translate(
        self,
        words: Words,
        arena: npt.NDArray[np.uint8],
        offsets: npt.NDArray[np.int64],
        origin: npt.NDArray[np.int64],
        out_base: int,
    ) -> tuple[CallStream, Readbacks]:
        """Copies with everything replaced, and where readbacks go in the output memory, from `out_base` on.

        `words`, `arena` and `origin` are those of an edited frame; the stream returned owns its memory.
        """
        stream = CallStream(words.copy(), arena.copy(), offsets)
        history = StateHistory(stream, self._frame.state)
        programs = history.column("program", np.arange(len(stream)))
        window_draw = history.column("framebuffer", np.arange(len(stream)), GL.DRAW_FRAMEBUFFER) == 0
        window_read = history.column("framebuffer", np.arange(len(stream)), GL.READ_FRAMEBUFFER) == 0
        # an inserted call means names as the captured call before it does
        meant = np.maximum.accumulate(origin) if len(origin) else origin
        readbacks = Readbacks(out_base)
        commands = tables().commands
        for command_id in np.unique(stream.ids).tolist():
            command = commands[command_id]
            rows = np.flatnonzero(stream.ids == command_id)
            at = stream.offsets[rows] + HEADER_WORDS
            # locations and indices first: they are found by the captured program
            self._locations(stream, command, rows, at, programs)
            if self._single:
                self._window_buffers(
                    stream, command, at, window_read[rows] if command.name == "glReadBuffer" else window_draw[rows]
                )
            self._readbacks(stream, command, rows, at, readbacks)
            self._object_names(stream, command, at, meant[rows])
        return stream, readbacks

    def _object_names(
        self, stream: CallStream, command: Command, at: npt.NDArray[np.int64], calls: npt.NDArray[np.int64]
    ) -> None:
        for name, target in NAMED_BY_TARGET.get(command.canonical, ()):
            slots = at + command.parameter(name).slot
            stores = stream.words[at + command.parameter(target).slot] == GL.RENDERBUFFER
            for kind, mine in (("renderbuffer", stores), ("texture", ~stores)):
                stream.words[slots[mine]] = self._names.translate(kind, stream.words[slots[mine]], calls[mine])
        for parameter in command.parameters:
            class_name = parameter.object_class
            if class_name not in _TRANSLATED:
                continue
            slots = at + parameter.slot
            if parameter.kind != "pointer":
                stream.words[slots] = self._names.translate(class_name, stream.words[slots], calls)
            elif parameter.ctype.replace(" ", "") == "constGLuint*":
                for row, names in stream.name_arrays(slots):
                    names[:] = self._names.translate(class_name, names, int(calls[row])).astype(np.uint32)

    def _locations(
        self,
        stream: CallStream,
        command: Command,
        rows: npt.NDArray[np.int64],
        at: npt.NDArray[np.int64],
        programs: npt.NDArray[np.int64],
    ) -> None:
        by_name = {p.name: p for p in command.parameters}
        if command.has(Role.SETS_UNIFORM) and "location" in by_name:
            slot, mapping = by_name["location"].slot, self._names.locations
        elif command.canonical == "glUniformBlockBinding":
            slot, mapping = by_name["uniformBlockIndex"].slot, self._names.blocks
        else:
            return
        owner = stream.words[at + by_name["program"].slot].astype(np.int64) if "program" in by_name else programs[rows]
        for program in np.unique(owner).tolist():
            known = mapping.get(program)
            if known:
                mine = at[owner == program] + slot
                stream.words[mine] = translate(known, stream.words[mine] & np.uint64(0xFFFFFFFF))

    def _window_buffers(
        self, stream: CallStream, command: Command, at: npt.NDArray[np.int64], window: npt.NDArray[np.bool_]
    ) -> None:
        """A pbuffer may have a front buffer only; what the program did to the back buffer goes there."""
        back = (GL.BACK, GL.BACK_LEFT)
        if command.name in ("glDrawBuffer", "glReadBuffer"):
            slots = at[window]
            values = stream.words[slots]
            stream.words[slots] = np.where(np.isin(values, back), np.uint64(GL.FRONT), values)
        elif command.canonical == "glDrawBuffers":
            for slot in at[window] + command.parameter("bufs").slot:
                word, length = int(stream.words[slot]), int(stream.words[slot + 1])
                if word >> 60 == BLOB:
                    offset = word & OFFSET_MASK
                    values = stream.arena[offset : offset + length // 4 * 4].view(np.uint32)
                    values[np.isin(values, back)] = GL.FRONT_LEFT

    def _readbacks(
        self,
        stream: CallStream,
        command: Command,
        rows: npt.NDArray[np.int64],
        at: npt.NDArray[np.int64],
        readbacks: Readbacks,
    ) -> None:
        """Give each readback to client memory a place to write to."""
        for parameter in command.parameters:
            if parameter.kind != "pointer" or parameter.role not in ("pack", "out"):
                continue
            slots = at + parameter.slot
            empty = (stream.words[slots] >> np.uint64(60) == OUT) & (stream.words[slots + 1] == 0)
            names = {p.name: p.slot for p in command.parameters}
            for row, place, slot in zip(rows[empty].tolist(), at[empty].tolist(), slots[empty].tolist(), strict=True):
                size = 256
                if {"width", "height"} <= set(names):
                    width, height = (int(stream.words[place + names[n]]) for n in ("width", "height"))
                    size = min(max(width * height, 0), 1 << 26) * 16 + (1 << 16)
                start = readbacks.add(row, size)
                stream.words[slot] = np.uint64(OUT << 60 | start)
                stream.words[slot + 1] = np.uint64(size)
