"""Index lists taken apart into separate triangles, lines and points."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

Indices = npt.NDArray[np.uint32]


INDEX_TYPES: dict[int, np.dtype[Any]] = {
    GL.UNSIGNED_BYTE: np.dtype("u1"),
    GL.UNSIGNED_SHORT: np.dtype("<u2"),
    GL.UNSIGNED_INT: np.dtype("<u4"),
}
"""What indices can be."""


def restart_index(frame: OpenGLFrame, call: int) -> int | None:
    """The index that begins a new primitive in an indexed draw; None where there is none."""
    history = frame.history
    if history.number("capability", call, GL.PRIMITIVE_RESTART_FIXED_INDEX):
        return {GL.UNSIGNED_BYTE: 0xFF, GL.UNSIGNED_SHORT: 0xFFFF}.get(
            int(frame.calls.argument(call, "type")), 0xFFFFFFFF
        )
    if history.number("capability", call, GL.PRIMITIVE_RESTART):
        return history.number("primitive_restart_index", call) & 0xFFFFFFFF
    return None


def triangles(mode: int, indices: Indices, restart: int | None) -> Indices:
    """Triangles of an index list, shape (n, 3), each with the corner last that flat values come from. Points and lines
    have none."""
    if restart is not None and (indices == restart).any():
        return np.concatenate([triangles(mode, part, None) for part in _between(indices, restart)])
    n = len(indices)
    if mode == GL.TRIANGLES:
        return indices[: n // 3 * 3].reshape(-1, 3)
    if mode == GL.TRIANGLE_STRIP and n >= 3:
        rows = np.stack([indices[:-2], indices[1:-1], indices[2:]], axis=1)
        rows[1::2] = rows[1::2, [1, 0, 2]]
        return rows
    if mode in (GL.TRIANGLE_FAN, GL.POLYGON) and n >= 3:
        return np.stack([np.full(n - 2, indices[0]), indices[1:-1], indices[2:]], axis=1)
    if mode == GL.QUADS:
        quads = indices[: n // 4 * 4].reshape(-1, 4)
        return quads[:, [0, 1, 2, 0, 2, 3]].reshape(-1, 3)
    return np.zeros((0, 3), np.uint32)


def separate(mode: int, indices: Indices, restart: int | None) -> tuple[int, Indices]:
    """(GL_POINTS, GL_LINES or GL_TRIANGLES, indices that draw the same with it). Raises ValueError for other modes."""
    if mode == GL.POINTS:
        return GL.POINTS, indices if restart is None else indices[indices != restart]
    if mode in (GL.LINES, GL.LINE_STRIP, GL.LINE_LOOP):
        return GL.LINES, _lines(mode, indices, restart)
    if mode in (GL.TRIANGLES, GL.TRIANGLE_STRIP, GL.TRIANGLE_FAN, GL.QUADS, GL.POLYGON):
        return GL.TRIANGLES, triangles(mode, indices, restart).reshape(-1)
    raise ValueError("primitives with neighbours, or patches")


def _lines(mode: int, indices: Indices, restart: int | None) -> Indices:
    if restart is not None and (indices == restart).any():
        return np.concatenate([_lines(mode, part, None) for part in _between(indices, restart)])
    n = len(indices)
    if mode == GL.LINES:
        return indices[: n // 2 * 2]
    if n < 2:
        return indices[:0]
    rows = np.stack([indices[:-1], indices[1:]], axis=1)
    if mode == GL.LINE_LOOP:
        rows = np.concatenate([rows, [[indices[-1], indices[0]]]]).astype(indices.dtype)
    return rows.reshape(-1)


def _between(indices: Indices, restart: int) -> list[Indices]:
    parts = np.split(indices, np.flatnonzero(indices == restart))
    return [part[part != restart] for part in parts]
