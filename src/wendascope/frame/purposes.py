"""What each step is for in its pass: background, opaque, cut-out, blended, overlay, by its state and shaders."""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.numbers import Ints
from wendascope.frame.roles import POST, SCENE, Role
from wendascope.frame.steps import KINDS
from wendascope.glsl.preprocessor import compiled_text
from wendascope.glsl.words import fragment_habits

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame


class Purpose(Enum):
    """What a step is for. The values are what it is called."""

    CLEAR = "clears"
    BACKGROUND = "background"
    NO_COLOUR = "no colour"
    OPAQUE = "opaque"
    CUT_OUT = "cut-out"
    BLENDED = "blended"
    OVERLAY = "overlay"
    FULL_SCREEN = "full-screen"
    COMPUTE = "compute"
    COPY = "copies"


MEANINGS = {
    Purpose.BACKGROUND: "opaque, not tested or not written into the depth that other draws of the pass write",
    Purpose.NO_COLOUR: "writes depth or stencil and no colour",
    Purpose.OPAQUE: "neither blended nor discarding fragments",
    Purpose.CUT_OUT: "the shader can discard fragments",
    Purpose.BLENDED: "mixes with the colours that are there",
    Purpose.OVERLAY: "without a depth test, after draws with one",
    Purpose.FULL_SCREEN: "a triangle or two over the whole target of a post-processing pass",
}
"""What each purpose follows from."""
_OF_KIND = {
    "clear": Purpose.CLEAR,
    "dispatch": Purpose.COMPUTE,
    "blit": Purpose.COPY,
    "copy": Purpose.COPY,
    "mipmaps": Purpose.COPY,
}
_ORDER = list(Purpose)


def purposes_of(frame: Frame) -> Ints:
    """Of every step, its place among the purposes in their order, shape (steps,)."""
    uses, passes = frame.uses, frame.passes
    found = np.full(len(frame.steps), _ORDER.index(Purpose.OPAQUE), np.int64)
    mixes, depth = np.asarray(uses.mixes_colours), uses.depth
    discards = np.isin(frame.steps.program, _discarding(frame))
    found[discards] = _ORDER.index(Purpose.CUT_OUT)
    found[mixes] = _ORDER.index(Purpose.BLENDED)
    for index, role in enumerate(frame.pass_roles):
        span = slice(int(passes.first[index]), int(passes.end[index]))
        mine = found[span]
        tests = np.asarray(depth.tests[span])
        draws = np.asarray(frame.steps.kind[span]) == KINDS.index("draw")
        if role.role in POST:
            mine[:] = _ORDER.index(Purpose.FULL_SCREEN)
        elif role.role == Role.OVERLAY:
            mine[:] = _ORDER.index(Purpose.OVERLAY)
        elif role.role in SCENE and (tests & draws).any():
            after = np.cumsum(tests & draws) > 0
            opaque = ~mixes[span] & ~discards[span]
            unwritten = tests & ~np.asarray(depth.writes[span]) & bool((depth.writes[span] & tests & draws).any())
            mine[opaque & (unwritten | ~tests)] = _ORDER.index(Purpose.BACKGROUND)
            mine[~tests & after] = _ORDER.index(Purpose.OVERLAY)
        colourless = np.asarray(uses.writes_no_colour[span])
        if role.role not in POST and not any(a.is_colour for a in passes.targets[index].attachments):
            colourless = colourless | bool(passes.targets[index].framebuffer)
        mine[colourless] = _ORDER.index(Purpose.NO_COLOUR)
    for kind, purpose in _OF_KIND.items():
        found[np.asarray(frame.steps.kind) == KINDS.index(kind)] = _ORDER.index(purpose)
    return found


def _discarding(frame: Frame) -> list[int]:
    """Programs whose shaders can discard fragments."""
    return [
        program.name
        for program in frame.programs.values()
        if any(fragment_habits(compiled_text(s.source, frame.context.dialect)).discards for s in program.shaders)
    ]
