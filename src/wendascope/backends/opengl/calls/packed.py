"""The packed call: the one format in which GL calls are recorded, sent, stored, edited and replayed.

A stream is an array of 64-bit words. Each call is a header of four words (id | flags << 16 |
size in words << 32; thread | error << 32; begin ns; end ns), then its argument slots, then a slot for
the result if it has one. A pointer takes two slots: mode << 60 | offset, and length in bytes.
`docs/tap-protocol.md` is the specification.
"""

from __future__ import annotations

import functools
import struct
from array import array
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from wendascope.backends.edit import Calls
from wendascope.errors import DamagedFileError
from wendascope.registry import Command, Parameter, Role, tables
from wendascope.registry.numbers import HEADER_WORDS, OFFSET_MASK, CallFlag, PointerMode
from wendascope.registry.rules import BUFFERS, READ_ONLY

RAW, BLOB, OUT, STRINGS = (int(mode) for mode in PointerMode)
FLAG_LOST, FLAG_CLIENT_MEMORY, FLAG_CHECK_ERROR, FLAG_EARLIER, FLAG_SWITCH = (int(flag) for flag in CallFlag)
_MASK64 = (1 << 64) - 1

Words = npt.NDArray[np.uint64]


@dataclass(frozen=True)
class Raw:
    """A pointer passed as it is: an offset into a bound buffer, or NULL."""

    value: int


class Out:
    """Memory that a call of a batch fills; readable once the batch has run."""

    __slots__ = ("data", "offset", "size")

    def __init__(self, offset: int, size: int) -> None:
        self.offset = offset
        self.size = size
        self.data: bytes = b""

    def ints(self) -> list[int]:
        return list(struct.unpack(f"<{self.size // 4}i", self.data[: self.size // 4 * 4]))

    def uints(self) -> list[int]:
        return list(struct.unpack(f"<{self.size // 4}I", self.data[: self.size // 4 * 4]))

    def floats(self) -> list[float]:
        return list(struct.unpack(f"<{self.size // 4}f", self.data[: self.size // 4 * 4]))

    def int64(self) -> int:
        return int(struct.unpack_from("<q", self.data)[0])

    def text(self) -> str:
        return self.data.split(b"\0", 1)[0].decode("utf-8", "replace")


class Result:
    """The result and error of one call of a batch; readable once the batch has run."""

    __slots__ = ("at", "error", "value", "words")

    def __init__(self, at: int, words: int) -> None:
        self.at = at
        self.words = words
        self.value = 0
        self.error = 0

    @property
    def first_argument(self) -> int:
        """Word of the batch at which its arguments begin."""
        return self.at + HEADER_WORDS


_PLAIN, _POINTER, _FLOAT, _DOUBLE_KIND = range(4)
_CHECK = FLAG_CHECK_ERROR << 16
_WORD, _SINGLE, _LONG, _DOUBLE = (struct.Struct(f"<{code}") for code in "IfQd")


class _Plan(NamedTuple):
    """How a command is packed, worked out once: a snapshot of many objects packs a hundred thousand calls."""

    head: int
    total: int
    kinds: tuple[int, ...]
    returns: bool


_plans: dict[str, _Plan] = {}


def _plan(name: str) -> _Plan:
    command = tables().by_name[name]
    total = HEADER_WORDS + command.slots
    kinds = tuple(
        {"pointer": _POINTER, "float": _FLOAT, "double": _DOUBLE_KIND}.get(p.kind, _PLAIN) for p in command.parameters
    )
    return _plans.setdefault(name, _Plan(command.id | total << 32, total, kinds, command.returns != "void"))


class CallBatch(Calls):
    """Calls gathered to be run in one go by an `Executor`.

    `offers`, if given, says which commands the context has; calls of others are left out.
    """

    def __init__(self, offers: Callable[[str], bool] | None = None) -> None:
        self._offers = offers
        self.words = array("Q")
        self.arena = bytearray()
        self.out_size = 0
        self.starts: list[int] = []
        """Word at which each call begins."""
        self.pointers: list[int] = []
        """Word of every pointer argument."""
        self.outs: list[Out] = []
        self.results: list[Result] = []

    def out(self, size: int) -> Out:
        """Reserve `size` bytes of output."""
        out = Out(self.out_size, size)
        self.out_size += (size + 15) & ~7
        self.outs.append(out)
        return out

    def call(self, name: str, *arguments: Any, check: bool = False) -> Result:
        """Append a call. `check` stores the GL error that it raised in the result.

        Pointers are given as bytes or arrays (copied), lists of bytes (strings), `Out`, `Raw` or None.
        """
        if self._offers is not None and not self._offers(name):
            return Result(0, 0)
        plan = _plans.get(name) or _plan(name)
        words = self.words
        at = len(words)
        self.starts.append(at)
        row = [plan.head | _CHECK if check else plan.head, 0, 0, 0]
        for kind, argument in zip(plan.kinds, arguments, strict=True):
            if kind == _PLAIN:
                row.append(int(argument) & _MASK64)
            elif kind == _POINTER:
                self.pointers.append(at + len(row))
                row += self._pointer(argument)
            elif kind == _FLOAT:
                row.append(_WORD.unpack(_SINGLE.pack(argument))[0])
            else:
                row.append(_LONG.unpack(_DOUBLE.pack(argument))[0])
        result = Result(at, plan.total)
        if plan.returns:
            row.append(0)
        if plan.returns or check:
            self.results.append(result)
        words.extend(row)
        return result

    def ask(self, name: str, *plain: int, size: int = 4) -> Out:
        """Append a query that returns nothing and writes `size` bytes to its last argument; the others are integers.
        The same as `call`, in less time: there are queries by the hundred thousand.
        """
        out = self.out(size)
        if self._offers is not None and not self._offers(name):
            return out
        plan = _plans.get(name) or _plan(name)
        at = len(self.words)
        self.starts.append(at)
        self.pointers.append(at + HEADER_WORDS + len(plain))
        self.words.extend((plan.head, 0, 0, 0, *plain, OUT << 60 | out.offset, size))
        return out

    def copy(self, calls: CallStream, call: int) -> None:
        """Append a captured call as it is, with its data."""
        first = int(calls.offsets[call])
        command = calls.command(call)
        at = len(self.words)
        self.starts.append(at)
        self.words.extend(calls.words[first : first + HEADER_WORDS + command.slots].tolist())
        for parameter in command.parameters:
            if parameter.kind != "pointer":
                continue
            slot = at + HEADER_WORDS + parameter.slot
            self.pointers.append(slot)
            mode, offset = self.words[slot] >> 60, self.words[slot] & OFFSET_MASK
            if mode in (BLOB, STRINGS):
                self.words[slot], _ = self._append(mode, calls.arena[offset : offset + self.words[slot + 1]].tobytes())

    def append(self, other: Calls) -> None:
        """Append the calls of another batch, which reads nothing back."""
        assert isinstance(other, CallBatch)
        at, by = len(self.words), len(self.arena)
        self.starts += [at + start for start in other.starts]
        self.words.extend(other.words)
        self.arena += other.arena
        for word in other.pointers:
            self.pointers.append(at + word)
            if self.words[at + word] >> 60 in (BLOB, STRINGS):
                self.words[at + word] += by

    def _pointer(self, argument: Any) -> tuple[int, int]:
        if argument is None:
            return 0, 0
        if isinstance(argument, Raw):
            return RAW << 60, argument.value
        if isinstance(argument, Out):
            return OUT << 60 | argument.offset, argument.size
        if isinstance(argument, list):
            lengths = struct.pack(f"<{len(argument)}I", *map(len, argument))
            return self._append(STRINGS, lengths + b"".join(text + b"\0" for text in argument))
        return self._append(BLOB, bytes(argument))

    def _append(self, mode: int, data: bytes) -> tuple[int, int]:
        offset = len(self.arena)
        self.arena += data
        self.arena += bytes((-len(data) - 1) % 8 + 1)
        return mode << 60 | offset, len(data)

    def finish(self, words: Words, out: memoryview | bytes) -> None:
        """Hand out results: `words` as the executor left them, `out` the filled output memory."""
        for result in self.results:
            result.value = int(words[result.at + result.words - 1])
            result.error = int(words[result.at + 1]) >> 32
        for item in self.outs:
            item.data = bytes(out[item.offset : item.offset + item.size])


class Executor(Protocol):
    """Something that executes GL calls: the target at the end of a frame, or a replay context."""

    def run(self, batch: CallBatch) -> None:
        """Run the batch and fill in its results. Raises ReplayError or TargetError."""


_MOST_OFFSET = np.uint64(1 << 40)
"""No buffer is larger; what lies beyond is an address."""


@functools.cache
def _unfit_modes(role: str | None) -> tuple[int, ...]:
    """Ways of passing a pointer of that role that the tap never records."""
    if role == "array":
        return BLOB, OUT, STRINGS  # vertices in client memory come by wendaClientArray
    if role == "strings":
        return BLOB, OUT
    if role in READ_ONLY or role == "names":
        return OUT, STRINGS
    return BLOB, STRINGS


@functools.cache
def _slot_counts() -> npt.NDArray[np.int64]:
    return np.array([c.slots for c in tables().commands], np.int64)


@functools.cache
def _having(role: Role) -> npt.NDArray[np.bool_]:
    return np.array(tables().having(role), bool)


class CallStream:
    """A validated stream of packed calls with its blob arena.

    `offsets`, `ids`, `flags` have one entry a call; slots are read through `argument`, a column at a time.
    """

    def __init__(self, words: Words, arena: npt.NDArray[np.uint8], offsets: npt.NDArray[np.int64]) -> None:
        self.words = words
        self.arena = arena
        self.offsets = offsets
        heads = words[offsets] if len(offsets) else np.zeros(0, np.uint64)
        self.ids = (heads & np.uint64(0xFFFF)).astype(np.int64)
        self.flags = ((heads >> np.uint64(16)) & np.uint64(0xFFFF)).astype(np.int64)

    def __len__(self) -> int:
        return len(self.offsets)

    @classmethod
    def parse(cls, words: Words, arena: npt.NDArray[np.uint8]) -> CallStream:
        """Walk the headers and check every size and blob. Raises DamagedFileError."""
        stream = cls.walk(words, arena)
        stream.validate()
        return stream

    @classmethod
    def walk(cls, words: Words, arena: npt.NDArray[np.uint8]) -> CallStream:
        """Walk the headers; the arguments are still to be checked (`validate`). Raises DamagedFileError."""
        sizes = (words >> np.uint64(32)).tolist()
        offsets, at, end = [], 0, len(words)
        while at < end:
            offsets.append(at)
            size = sizes[at]
            if size < HEADER_WORDS:
                raise DamagedFileError(f"the call stream is damaged at word {at}")
            at += size
        if at != end:
            raise DamagedFileError("the call stream ends inside a call")
        return cls(words, arena, np.array(offsets, np.int64))

    def addresses_as_offsets(self) -> int:
        """Turn addresses that stand where an offset into a bound buffer is meant into one beyond every buffer: such a
        call fails, and does so again. Returns how many there were. Raises DamagedFileError.
        """
        self._check_layout()
        wrong = [
            at[(self.words[at] >> np.uint64(60) == RAW) & (self.words[at + 1] > _MOST_OFFSET)] + 1
            for _, parameter, at in self._pointers()
            if parameter.role in BUFFERS
        ]
        rows = np.concatenate([np.zeros(0, np.int64), *wrong])
        if len(rows):
            self.words = self.words.copy()
            self.words[rows] = _MOST_OFFSET
        return len(rows)

    def validate(self) -> None:
        """Check ids, sizes and pointers of every call against the registry. Raises DamagedFileError.

        A bare number is allowed only where it can be an offset into a buffer; that one is bound is checked when the
        call is run.
        """
        self._check_layout()
        arena_size = np.uint64(len(self.arena))
        for command, parameter, at in self._pointers():
            where, length = self.words[at], self.words[at + 1]
            mode, offset = where >> np.uint64(60), where & np.uint64(OFFSET_MASK)
            stored = (mode == BLOB) | (mode == STRINGS)
            bad = stored & ((offset > arena_size) | (length > arena_size - np.minimum(offset, arena_size)))
            if bool(bad.any()) or bool((mode > STRINGS).any()):
                raise DamagedFileError(f"{command.name} points outside the file's data")
            if bool(np.isin(mode, _unfit_modes(parameter.role)).any()):
                raise DamagedFileError(f"{command.name} passes {parameter.name} in a way that no captured call does")
            if bool(((mode == RAW) & (length > (_MOST_OFFSET if parameter.role in BUFFERS else 0))).any()):
                raise DamagedFileError(f"{command.name} passes an address of another process as {parameter.name}")

    def _check_layout(self) -> None:
        """Check ids and sizes of every call: then each argument lies where it should. Raises DamagedFileError."""
        if len(self.ids) == 0:
            return
        if int(self.ids.max()) >= len(tables().commands):
            raise DamagedFileError("the call stream names a command that does not exist")
        ends = np.append(self.offsets[1:], len(self.words))
        sizes = (self.words[self.offsets] >> np.uint64(32)).astype(np.int64)
        if not (
            np.array_equal(ends - self.offsets, sizes)
            and np.array_equal(sizes, _slot_counts()[self.ids] + HEADER_WORDS)
        ):
            raise DamagedFileError("a call has the wrong number of arguments")

    def _pointers(self) -> Iterator[tuple[Command, Parameter, npt.NDArray[np.int64]]]:
        """Every pointer that commands of the stream take, with where in `words` each of their calls has it."""
        for command_id in np.unique(self.ids).tolist():
            command = tables().commands[command_id]
            for parameter in command.parameters:
                if parameter.kind == "pointer":
                    yield command, parameter, self.offsets[self.ids == command_id] + HEADER_WORDS + parameter.slot

    def command(self, call: int) -> Command:
        return tables().commands[int(self.ids[call])]

    def calls_of(self, *names: str) -> npt.NDArray[np.int64]:
        """Indices of all calls to the named commands, in order."""
        by_name = tables().by_name
        wanted = [by_name[name].id for name in names if name in by_name]
        return np.flatnonzero(np.isin(self.ids, wanted))

    def by_command(self) -> Iterator[tuple[Command, npt.NDArray[np.int64]]]:
        """Every command that occurs, with the indices of its calls in order."""
        for number, rows in self._by_id.items():
            yield tables().commands[number], rows

    def calls_to(self, command: int) -> npt.NDArray[np.int64]:
        """Indices of all calls to the command of an id, in order."""
        return self._by_id.get(command, np.zeros(0, np.int64))

    @functools.cached_property
    def _by_id(self) -> dict[int, npt.NDArray[np.int64]]:
        if len(self) == 0:
            return {}
        order = np.argsort(self.ids.astype(np.uint16), kind="stable")
        ids, starts = np.unique(self.ids[order], return_index=True)
        return dict(zip(ids.tolist(), np.split(order, starts[1:]), strict=True))

    def having(self, role: Role) -> npt.NDArray[np.bool_]:
        """Which calls are to commands with one of some roles, shape (n,)."""
        return np.asarray(_having(role)[self.ids])

    def column(self, calls: npt.NDArray[np.int64], slot: int) -> Words:
        """Slot `slot` of each of `calls` (which must all have it), shape (n,), raw bits."""
        return self.words[self.offsets[calls] + HEADER_WORDS + slot]

    def elements_at(
        self, calls: npt.NDArray[np.int64], slot: int, element: int | npt.NDArray[np.int64], size: int
    ) -> npt.NDArray[np.uint64]:
        """The bits of one element of the array that a pointer argument of each of `calls` gives, shape (n,); 0 where it
        gives fewer. `element` may be one for each call; `size` are the bytes of an element, 4 or 8.
        """
        words, lengths = self.column(calls, slot), self.column(calls, slot + 1).astype(np.int64)
        starts = np.broadcast_to(size * np.asarray(element, np.int64), (len(calls),))
        held = ((words >> np.uint64(60)) == np.uint64(BLOB)) & (lengths >= starts + size)
        at = (words[held] & np.uint64(OFFSET_MASK)).astype(np.int64) + starts[held]
        found = np.zeros(len(calls), np.uint64)
        found[held] = self.arena[at[:, None] + np.arange(size)].view(f"<u{size}").reshape(-1)
        return found

    def name_arrays(self, at: npt.NDArray[np.int64]) -> Iterator[tuple[int, npt.NDArray[np.uint32]]]:
        """(row of `at`, names) of every array that is stored where words `at` point to, as views of the arena."""
        for row, (word, length) in enumerate(zip(self.words[at].tolist(), self.words[at + 1].tolist(), strict=True)):
            if word >> 60 == BLOB:
                offset = word & OFFSET_MASK
                yield row, self.arena[offset : offset + length // 4 * 4].view(np.uint32)

    def argument(self, call: int, name: str) -> Any:
        """One argument as Python sees it: int, float, bytes for stored data, `Raw` for offsets, None."""
        parameter = self.command(call).parameter(name)
        at = int(self.offsets[call]) + HEADER_WORDS + parameter.slot
        word = int(self.words[at])
        if parameter.kind == "float":
            return struct.unpack("<f", struct.pack("<I", word & 0xFFFFFFFF))[0]
        if parameter.kind == "double":
            return struct.unpack("<d", struct.pack("<Q", word))[0]
        if parameter.kind == "int":
            return word - (1 << 64) if word >> 63 else word
        if parameter.kind != "pointer":
            return word
        mode, length = word >> 60, int(self.words[at + 1])
        if mode in (BLOB, STRINGS):
            offset = word & OFFSET_MASK
            data = self.arena[offset : offset + length].tobytes()
            return data if mode == BLOB else split_strings(data)
        if mode == OUT:
            return None
        return Raw(length) if length else None

    def result(self, call: int) -> int:
        """Raw result slot of a call. Raises ValueError for commands that return nothing."""
        command = self.command(call)
        if command.returns == "void":
            raise ValueError(f"{command.name} returns nothing")
        return int(self.words[int(self.offsets[call]) + HEADER_WORDS + command.slots - 1])

    @property
    def threads(self) -> npt.NDArray[np.int64]:
        """The thread of each call, shape (n,)."""
        return (self.words[self.offsets + 1] & np.uint64(0xFFFFFFFF)).astype(np.int64)

    @property
    def begin_ns(self) -> Words:
        return self.words[self.offsets + 2]

    @property
    def end_ns(self) -> Words:
        return self.words[self.offsets + 3]


def stream_of(batch: CallBatch) -> CallStream:
    """The calls of a batch that reads nothing back."""
    words, arena = np.frombuffer(batch.words, np.uint64).copy(), np.frombuffer(bytes(batch.arena) + b"\0", np.uint8)
    return CallStream(words, arena, np.array(batch.starts, np.int64))


def in_order(calls: CallStream, order: npt.NDArray[np.int64]) -> CallStream:
    """The same calls, or some of them, in another order; `order` holds their indices."""
    ends = np.append(calls.offsets[1:], len(calls.words))
    sizes = (ends - calls.offsets)[order]
    starts = np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64) if len(order) else np.zeros(0, np.int64)
    taken = np.repeat(calls.offsets[order] - starts, sizes) + np.arange(int(sizes.sum()))
    return CallStream(calls.words[taken], calls.arena, starts)


def split_strings(data: bytes) -> list[bytes]:
    """Undo the packing of an array of strings. Damaged data gives fewer strings, never an error."""
    # The count is not stored: it is the smallest n for which 4n plus n lengths plus n NULs is the size.
    total = 0
    for count in range(len(data) // 4 + 1):
        if 4 * count + total + count == len(data):
            break
        if 4 * count + 4 > len(data):
            return []
        total += struct.unpack_from("<I", data, 4 * count)[0]
    strings, at = [], 4 * count
    for i in range(count):
        size = struct.unpack_from("<I", data, 4 * i)[0]
        strings.append(data[at : at + size])
        at += size + 1
    return strings


def merge_streams(streams: list[CallStream]) -> CallStream:
    """One stream of all calls in order, with one arena."""
    words, arenas, offsets = [], [], []
    word_at = arena_at = 0
    for stream in streams:
        mine = stream.words.copy()
        for command_id in np.unique(stream.ids).tolist():
            at = stream.offsets[stream.ids == command_id] + HEADER_WORDS
            for parameter in tables().commands[command_id].parameters:
                if parameter.kind == "pointer":
                    slots = at + parameter.slot
                    mode = mine[slots] >> np.uint64(60)
                    mine[slots] += np.where((mode == BLOB) | (mode == STRINGS), np.uint64(arena_at), np.uint64(0))
        padded = (len(stream.arena) + 7) // 8 * 8
        words.append(mine)
        arenas += [stream.arena, np.zeros(padded - len(stream.arena), np.uint8)]
        offsets.append(stream.offsets + word_at)
        word_at += len(mine)
        arena_at += padded
    if not streams:
        return CallStream(np.zeros(0, np.uint64), np.zeros(0, np.uint8), np.zeros(0, np.int64))
    return CallStream(np.concatenate(words), np.concatenate(arenas), np.concatenate(offsets))
