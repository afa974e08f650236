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


def label(kind: int, name: int, text: str) -> int:
    """Give an object (GL_TEXTURE, GL_BUFFER, ...) a name that tools show. Returns the object's own name."""
    debug.glObjectLabel(kind, name, len(text), text.encode())
    return name
