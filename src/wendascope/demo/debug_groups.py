"""Names that the demo gives to parts of its frames."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from OpenGL.GL.KHR import debug


@contextlib.contextmanager
def debug_group(name: str) -> Iterator[None]:
    """All calls inside belong to a group of that name."""
    debug.glPushDebugGroup(debug.GL_DEBUG_SOURCE_APPLICATION, 0, len(name), name.encode())
    yield
    debug.glPopDebugGroup()
