"""Textures with the same contents become one."""

from __future__ import annotations

from wendascope.analysis.remedy import Remedy
from wendascope.errors import TrialError
from wendascope.trials.remedies._images import not_uploaded, plain_texture, replace_texture
from wendascope.trials.remedies._registry import FrameChange, remedy


@remedy("one-texture")
def one_texture(change: FrameChange, item: Remedy) -> None:
    """Let everything that names one of some textures name the first. Raises TrialError where they are not alike."""
    if len(item.textures) < 2:
        raise TrialError("it takes two textures to make one of them")
    first, *others = [plain_texture(change.frame, name) for name in item.textures]
    for name in item.textures:
        not_uploaded(change.frame, name)
    for other in others:
        if (other.target, other.images) != (first.target, first.images):
            raise TrialError(f"textures {first.name} and {other.name} do not hold the same")
        if other.parameters != first.parameters:
            raise TrialError(f"textures {first.name} and {other.name} are filtered or repeated differently")
        replace_texture(change, other, first)
