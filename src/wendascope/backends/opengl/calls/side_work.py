"""Work beside drawing in an OpenGL frame, by what its calls are for."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.frame.side_work import SideKind, SideWork
from wendascope.registry import Role
from wendascope.registry.numbers import PointerMode

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_BY_ROLE = (
    (SideKind.TEXTURE_ALLOCATION, Role.REDEFINES_TEXTURE),
    (SideKind.COMPILATION, Role.COMPILES),
    (SideKind.MIPMAPS, Role.MIPMAPS),
    (SideKind.READBACK, Role.READS_BACK | Role.READS_PIXELS),
)


def side_work(frame: OpenGLFrame) -> list[SideWork]:
    """What there is of each kind; kinds of which there is none are left out."""
    calls, lane = frame.calls, frame.cpu_lane
    handed = handed_over(calls)
    masks = {kind: calls.having(role) for kind, role in _BY_ROLE}
    copies = calls.having(Role.MIPMAPS | Role.COPY)
    masks[SideKind.TEXTURE_UPLOAD] = calls.having(Role.WRITES_TEXTURE) & (handed > 0) & ~copies
    masks[SideKind.BUFFER_UPLOAD] = calls.having(Role.WRITES_BUFFER) & (handed > 0)
    masks[SideKind.BUFFER_UPLOAD][calls.calls_of("wendaWriteBuffer")] = True  # through a mapping
    masks[SideKind.WAIT] = np.asarray(lane.waits)
    found = []
    for kind in SideKind:
        mask = masks[kind]
        if mask.any():
            uploads = kind in (SideKind.TEXTURE_UPLOAD, SideKind.BUFFER_UPLOAD)
            size = int(handed[mask].sum()) if uploads else 0
            found.append(SideWork(kind, int(mask.sum()), size, float(lane.duration[mask].sum())))
    return found


def handed_over(calls: CallStream) -> npt.NDArray[np.int64]:
    """Bytes of the program's memory that each call hands over, shape (calls,)."""
    found = np.zeros(len(calls), np.int64)
    for command, rows in calls.by_command():
        for parameter in command.parameters:
            if parameter.kind == "pointer":
                held = calls.column(rows, parameter.slot) >> np.uint64(60) == np.uint64(PointerMode.BLOB)
                found[rows] += np.where(held, calls.column(rows, parameter.slot + 1), 0).astype(np.int64)
    return found
