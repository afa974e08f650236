"""Passes: runs of steps into the same target."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Protocol

from wendascope.frame.numbers import Ints


class Attachment(Protocol):
    """An image that a pass draws into."""

    @property
    def point(self) -> int:
        """Where it is attached, by the API's number."""
        ...

    @property
    def kind(self) -> Literal["texture", "renderbuffer"]: ...
    @property
    def name(self) -> int: ...
    @property
    def level(self) -> int: ...
    @property
    def face(self) -> int: ...
    @property
    def layer(self) -> int: ...
    @property
    def layered(self) -> bool: ...


@dataclass(frozen=True)
class Target:
    """What a pass draws into. `attachments` is empty for the window."""

    framebuffer: int
    attachments: tuple[Attachment, ...]
    width: int
    height: int
    window: int = 0
    """Which window framebuffer 0 is: 0 for the captured one, else a drawable of the program."""

    @property
    def name(self) -> str:
        if self.framebuffer:
            return f"framebuffer {self.framebuffer}"
        return "another window" if self.window else "window"

    @property
    def size(self) -> str:
        return f"{self.width}²" if self.width == self.height else f"{self.width}x{self.height}"


@dataclass
class PassTable:
    """One row a pass; step i belongs to pass `of_step[i]`."""

    names: list[str]
    targets: list[Target]
    first: Ints  # first step of each pass
    end: Ints  # one past its last
    of_step: Ints
    group_depth: int
    """How many outer debug groups the pass names already tell."""

    def __len__(self) -> int:
        return len(self.names)
