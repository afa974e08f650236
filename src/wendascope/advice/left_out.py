"""Lights and parts of views: what each costs, and what becomes of the finished picture without it."""

from __future__ import annotations

from enum import Enum

import msgspec

from wendascope.analysis.sequence.late_views import FAR
from wendascope.frame.remedy import Remedy
from wendascope.texts import listed, plural, share


class Kind(Enum):
    """What was left out. The values are what it is called."""

    SHADOW = "shadow"
    LIGHT_DRAW = "light drawn by itself"
    ELEMENT = "light of the shaders"
    FIXED = "fixed-function light"
    VIEW = "view beside the main one"
    PART = "part of a view"


_LEAST_SHOWN = 0.001
LIGHTS = (Kind.SHADOW, Kind.LIGHT_DRAW, Kind.ELEMENT, Kind.FIXED)


class LeftOut(msgspec.Struct):
    """One thing that a frame was replayed without."""

    kind: Kind
    name: str
    steps: list[int]
    """What draws it, or draws with it."""
    remedy: Remedy
    """What leaves it out."""
    ms: float | None = None
    """What it takes, from the times of its steps or, of a light in shaders, from their modelled cost; None where
    neither is known.
    """
    tried: bool = False
    pixels: int = 0
    """Of the finished picture that come out otherwise without it."""
    pixels_far: int = 0
    """Of them those that differ by more than `FAR`."""
    max_difference: int = 0
    """Of 255."""
    where: tuple[int, int, int, int] | None = None
    """(x0, y0, x1, y1) that holds all pixels that differ, y from the bottom."""
    refused: str = ""
    """Why it could not be tried."""
    view: str = ""
    """Of a part: what the view is called."""
    certain: bool = True
    """Whether there is such a thing in the frame; else only its effect would tell, as of an array of which nobody knows
    how many elements are in use.
    """
    frames_tried: int = 0
    """Other frames of its sequence that were replayed without it, where this one does not need it."""
    needed_in: list[int] = []
    """Those of them, by number, whose picture changes without it."""
    left_behind: list[str] = []
    """What holds other contents after the frame without it, though the picture is the same."""

    @property
    def needless(self) -> bool:
        """Whether nothing of the picture needs it."""
        changes = self.pixels or self.needed_in or self.left_behind
        return self.certain and self.tried and not self.refused and not changes

    @property
    def same_as(self) -> tuple[str, str, str]:
        """What has the same in another frame of its sequence is the same light, or the same part of a view."""
        return self.kind.value, self.view, self.name

    def effect(self, whole: int) -> str:
        """What it does to a picture of so many pixels, in words."""
        if self.refused:
            return f"cannot be tried: {self.refused}"
        if not self.tried:
            return "not tried yet"
        if self.needed_in:
            frames = "frame" if len(self.needed_in) == 1 else "frames"
            return f"none here, but {frames} {listed(self.needed_in)} of the sequence would change"
        if not self.pixels and self.left_behind:
            return f"none in this picture, but {listed(self.left_behind)} would hold something else afterwards"
        if not self.pixels:
            also = f", nor in {plural(self.frames_tried, 'other frame')}" if self.frames_tried else ""
            return f"none: no pixel differs without it{also}"
        part = self.pixels / max(whole, 1)
        percent = share(part, 1) if part >= _LEAST_SHOWN else f"less than {share(_LEAST_SHOWN, 1)}"
        text = f"{self.pixels:,} pixels, {percent}, by up to {self.max_difference} of 255"
        return text if self.pixels_far else f"{text}: hardly visible, none by more than {FAR}"


class LeftOuts(msgspec.Struct):
    """All of a frame, as a file keeps them."""

    items: list[LeftOut]
