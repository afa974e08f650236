"""Passes: runs of steps into the same target."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Literal, Protocol

import numpy as np

from wendascope.frame.numbers import Ints

DRAW_COUNT = re.compile(r", [\d,]+ draws?\b")
"""What names that are worked out tell of how much a pass draws."""


PassKey = tuple[str, int]
"""What a pass is, and how many that are the same come before it in its frame. So passes of different frames are
matched: by what the program says and does, never by names that we or users give.
"""


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
    @property
    def is_colour(self) -> bool:
        """Whether it is a colour, and not depth or stencil."""
        ...


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
    def signature(self) -> str:
        """What tells it from other targets in every frame of a program, which may use its images in turn."""
        if not self.framebuffer:
            return self.name
        images = (
            f"{'colour' if a.is_colour else 'depth'} {a.point} of {a.kind}, level {a.level}, layer"
            f" {'all' if a.layered else a.layer}, face {a.face}"
            for a in self.attachments
        )
        return "; ".join([f"{self.width}x{self.height}", *sorted(images)])

    @property
    def size(self) -> str:
        return f"{self.width}²" if self.width == self.height else f"{self.width}x{self.height}"


@dataclass
class PassTable:
    """One row a pass; step i belongs to pass `of_step[i]`."""

    given: list[str]
    """What the program's debug groups call each pass; empty where they do not."""
    targets: list[Target]
    first: Ints  # first step of each pass
    end: Ints  # one past its last
    of_step: Ints
    group_depth: int
    """How many outer debug groups the pass names already tell."""
    derive: Callable[[], list[str]] | None = None
    """Names of passes without a given one, by what they do; asked for once, when the first name is."""
    contexts: Ints | None = None
    """Whose each pass is, counted from 0; None where all are of the frame's own context."""

    def __len__(self) -> int:
        return len(self.given)

    @cached_property
    def names(self) -> list[str]:
        """Each its own."""
        derived = self.derive() if self.derive is not None and not all(self.given) else self.given
        owners = np.zeros(len(self), np.int64) if self.contexts is None else self.contexts
        return _distinct(
            [
                (name or other) + (f", context {owner + 1}" if owner else "")
                for name, other, owner in zip(self.given, derived, owners.tolist(), strict=True)
            ]
        )

    def ask_names_again(self) -> None:
        """What the passes do is known otherwise now."""
        for known in ("names", "short_names"):
            if known in vars(self):
                delattr(self, known)

    @cached_property
    def keys(self) -> list[PassKey]:
        """What each is known by in other frames of its sequence; no two are the same."""
        owners = np.zeros(len(self), np.int64) if self.contexts is None else self.contexts
        before: Counter[str] = Counter()
        keys: list[PassKey] = []
        for given, target, owner in zip(self.given, self.targets, owners.tolist(), strict=True):
            what = f"named {given}" if given else target.signature
            what += f", context {owner + 1}" if owner else ""
            keys.append((what, before[what]))
            before[what] += 1
        return keys

    @cached_property
    def short_names(self) -> list[str]:
        """The names without how much each pass draws, for sentences and lists."""
        return [DRAW_COUNT.sub("", name) for name in self.names]


def _distinct(names: list[str]) -> list[str]:
    seen: dict[str, int] = {}
    result = []
    for name in names:
        seen[name] = seen.get(name, 0) + 1
        result.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return result
