"""Numbers that the C side and the Python side share. The C header is generated from them, so they cannot differ."""

from __future__ import annotations

import enum
from collections.abc import Iterator

PROTOCOL = 8
"""Of the messages between a target and Wendascope; see `docs/tap-protocol.md`."""
MESSAGE_VALUES = 15
HEADER_WORDS = 4
"""Of a packed call: id, flags and words; thread and error; begin and end in ns."""
OFFSET_MASK = (1 << 60) - 1
"""Of a pointer's first word: where it points to. The bits above are its `PointerMode`."""


class MessageKind(enum.IntEnum):
    """What is said between a target and Wendascope."""

    HELLO = 1
    STATISTICS = 2
    PAUSED = 3
    RAN = 4
    RECORDED = 5
    CONTEXT = 6
    MEMORY = 7
    FAILED = 8
    ARM = 16
    RUN = 17
    RECORD = 18
    RESUME = 19
    OBJECTS = 20
    STAY = 21


class FrameEnd(enum.IntEnum):
    """What ends a frame."""

    swap = 0
    readback = 1
    marker = 2


class PointerMode(enum.IntEnum):
    """How a packed call passes a pointer."""

    RAW = 0
    BLOB = 1
    OUT = 2
    STRINGS = 3


class CallFlag(enum.IntEnum):
    """What else is known of a packed call."""

    LOST = 1
    """An input of unknown length was not recorded."""
    CLIENT_MEMORY = 2
    """A vertex array in client memory."""
    CHECK_ERROR = 4
    """The executor keeps glGetError after the call."""
    EARLIER = 8
    """Belongs right after the wait before it: a write seen only now."""
    SWITCH = 16
    """Not the program's: it brings the state of the context that the calls after it are of."""


class RecordedFlag(enum.IntEnum):
    """What else is known of a recording."""

    MANY_CHANGES = 1
    """Contexts changed too often to ask each time."""
    LATE_CONTEXT = 2
    """A context made since shares objects; its calls were not recorded."""


class KeptKind(enum.IntEnum):
    """What kept calls make."""

    LIST = 0
    IMAGE = 1


_TABLES: dict[str, type[enum.IntEnum]] = {
    "MESSAGE": MessageKind,
    "FRAME_END": FrameEnd,
    "POINTER": PointerMode,
    "FLAG": CallFlag,
    "RECORDED": RecordedFlag,
    "KEPT": KeptKind,
}


def c_defines() -> Iterator[str]:
    """Lines of the generated header."""
    yield f"#define TAP_PROTOCOL {PROTOCOL}"
    yield f"#define TAP_MESSAGE_VALUES {MESSAGE_VALUES}"
    yield f"#define TAP_HEADER_WORDS {HEADER_WORDS}"
    yield f"#define TAP_OFFSET_MASK {hex(OFFSET_MASK)}ull"
    for name, table in _TABLES.items():
        kind = "ull" if table is PointerMode else "u" if table in (CallFlag, RecordedFlag) else ""
        for item in table:
            yield f"#define TAP_{name}_{item.name.upper()} {item.value}{kind}"
