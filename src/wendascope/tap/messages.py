"""What a capture session and those who drive it say to each other: one JSON object a line, told apart by `kind`.

`docs/session-protocol.md` lists them.
"""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from wendascope.errors import TargetError
from wendascope.json_text import json_text

State = Literal["starting", "running", "waiting", "held", "taking", "ended"]
LONGEST_LINE = 1 << 20
_NOT_UNDERSTOOD = (msgspec.DecodeError, UnicodeDecodeError, RecursionError)


class Take(msgspec.Struct, tag="take", tag_field="kind", omit_defaults=True):
    """Take frames: at once, or as the trigger says."""

    frame: Annotated[int, msgspec.Meta(ge=0, le=1 << 62)] = 0
    after_seconds: Annotated[float, msgspec.Meta(ge=0, le=1e6)] = 0.0
    slower_than_ms: Annotated[float, msgspec.Meta(ge=0, le=1e9)] = 0.0
    frames: Annotated[int, msgspec.Meta(ge=1, le=1000)] = 1
    unused: bool = True
    depth: bool = False
    following: bool = True
    every: Annotated[int, msgspec.Meta(ge=1, le=100_000)] = 1
    """Of several frames, how many the program goes on from one to the next."""


class Do(msgspec.Struct, tag="do", tag_field="kind"):
    """Everything without arguments. `leave` ends the capture session and lets the program run on; `mark` keeps what
    lives in graphics memory as a file.
    """

    what: Literal["cancel", "hold", "step", "go", "stop", "leave", "mark"]


Request = Take | Do


class Taken(msgspec.Struct, tag="taken", tag_field="kind"):
    """A frame was taken and its file is complete."""

    file: str
    frame: int
    calls: int
    steps: int
    passes: int
    bytes: int
    held_seconds: float
    capture_seconds: float
    unused_bytes: int
    """Contents in the file that the frame does not touch, before compression."""
    target_ms: float | None
    caveats: list[str]


class Marked(msgspec.Struct, tag="marked", tag_field="kind"):
    """What lived in graphics memory was written to a file."""

    file: str
    number: int
    """Marks of the session are counted from 1."""
    frame: int
    bytes: int
    objects: int


class Hello(msgspec.Struct, tag="hello", tag_field="kind"):
    program: list[str]
    name: str
    folder: str
    state: State
    process: int
    taken: list[Taken]
    output: list[str]
    marked: list[Marked] = []


class Beat(msgspec.Struct, array_like=True):
    """One frame of the target. Memory is that of all objects that live at its end."""

    frame: int
    cpu_ns: int
    swap_ns: int
    calls: int
    draws: int
    vertices: int
    texture_bytes: int = 0
    renderbuffer_bytes: int = 0
    buffer_bytes: int = 0
    objects: int = 0


class Beats(msgspec.Struct, tag="beats", tag_field="kind"):
    """Frames of the target, each as a `Beat`."""

    rows: list[Beat]


class StateIs(msgspec.Struct, tag="state", tag_field="kind"):
    state: State
    text: str = ""
    """What is waited for or being done, for people."""
    part: float = 0.0


class Output(msgspec.Struct, tag="output", tag_field="kind"):
    lines: list[str]


class Problem(msgspec.Struct, tag="problem", tag_field="kind"):
    """Something asked for was not done."""

    text: str


class Ended(msgspec.Struct, tag="ended", tag_field="kind"):
    """The program ended, or was ended. The last message."""

    text: str
    asked: bool
    output: list[str]


Event = Hello | Beats | StateIs | Output | Problem | Taken | Marked | Ended


def pack(message: Request | Event) -> bytes:
    """A message as a line of JSON."""
    try:
        return msgspec.json.encode(message) + b"\n"
    except UnicodeEncodeError:  # a name of bytes that are no text
        return json_text(message, -1).encode() + b"\n"


def event(line: bytes) -> Event:
    """Raises TargetError for what is no event."""
    try:
        return msgspec.json.decode(line, type=Event)
    except _NOT_UNDERSTOOD as error:
        raise TargetError(f"the capture session sent a message that is not understood ({error})") from error


def request(line: bytes) -> Request:
    """Raises TargetError for what is no request."""
    try:
        return msgspec.json.decode(line, type=Request)
    except _NOT_UNDERSTOOD as error:
        raise TargetError(f"a request is not understood ({error})") from error


class Lines:
    """Puts lines together from what a socket gives."""

    def __init__(self) -> None:
        self._rest = b""

    def feed(self, data: bytes) -> list[bytes]:
        """Whole lines, without their ends. Raises TargetError when a line grows without end."""
        *lines, self._rest = (self._rest + data).split(b"\n")
        if len(self._rest) > LONGEST_LINE:
            raise TargetError("a message is too long")
        return [line for line in lines if line]
