"""What calls that are not tracked state mean for those that are: which do no harm, and after which nothing is known."""

from __future__ import annotations

import functools
import re

import numpy as np
import numpy.typing as npt

from wendascope.frame.packed import CallStream
from wendascope.registry import tables

HARMLESS = re.compile(
    r"gl(Get|Is[A-Z]|PushDebugGroup|PopDebugGroup|PushGroupMarker|PopGroupMarker|InsertEventMarker|StringMarker|ObjectLabel|ObjectPtrLabel|DebugMessage"
    r"|Flush|Finish|Gen[A-Z](?!.*Mipmap)|FenceSync|ClientWaitSync|WaitSync|DeleteSync)"
)
"""Questions, names, markers and waits: they read no binding that a picture depends on, and change none."""
WITH_DRAW = re.compile(r"wenda(ClientArray|Indirect|WatchBuffer)")
"""Calls of the tap that belong to the draw after them."""
_STATE_UNKNOWN_AFTER = re.compile(
    r"gl(Bind(Textures|Samplers|ImageTextures|Buffers|VertexBuffer)|ScissorArray|ViewportArray|DepthRangeArray|VertexArray[A-Z]"
    r"|(Enable|Disable)VertexArrayAttrib|VertexBindingDivisor|VertexAttrib(Binding|\w*Format)|Push(Client)?Attrib|Pop(Client)?Attrib|CallLists?$"
    r"|Delete[A-Z]|LinkProgram|ProgramBinary|UseProgramStages|ActiveShaderProgram|NewList|EndList|Begin$|End$|TextureParameter|BindMultiTexture)|wendaDrawable"
)
"""They change tracked state in ways that the tracker does not follow, or the objects that it names."""


@functools.cache
def _matching(pattern: re.Pattern[str]) -> npt.NDArray[np.bool_]:
    return np.array([pattern.match(c.name) is not None for c in tables().commands], bool)


def calls_matching(calls: CallStream, pattern: re.Pattern[str]) -> npt.NDArray[np.bool_]:
    """Which calls are to commands whose names match, shape (n,)."""
    return np.asarray(_matching(pattern)[calls.ids])


def barriers(calls: CallStream) -> npt.NDArray[np.int64]:
    """Calls after which the tracked state may be other than the tracker knows, in order."""
    return np.flatnonzero(calls_matching(calls, _STATE_UNKNOWN_AFTER))
