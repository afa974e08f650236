"""Indices of 16 bits in the place of those of 32."""

from __future__ import annotations

from typing import Any

import numpy as np

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.primitives import restart_index
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.tables.fetched import INDEXED
from wendascope.backends.opengl.tables.written import element_buffers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL

_LONGEST, _LARGEST = 0xFFFFFFFF, 0xFFFF


@lowers("short-indices")
def short_indices(change: FrameChange, item: Remedy) -> None:
    """Bring in a buffer of half the size for each that `names` gives, bound wherever the frame finds or binds that one,
    and let the draws read it. Raises TrialError.
    """
    frame = change.frame
    items = {i.name: i for i in frame.memory if i.object_class == "buffer"}
    made: dict[int, int] = {}
    for text in item.names:
        found = items.get(int(text)) if text.isdigit() else None
        data = frame.buffer_bytes(found.name) if found else None
        if found is None or data is None or found.written_by >= 0 or set(found.read_parts) != {"indices"}:
            raise TrialError(f"buffer {text} is not there, or holds more than indices that stay")
        short = (np.frombuffer(data, "<u4", len(data) // 4) & _LARGEST).astype("<u2").tobytes()
        made[found.name], _ = change.new.buffer(short, shared=False)
        change.added_bytes += len(short) - len(data)
        change.rename("buffer", found.name, made[found.name])
    draws = frame.steps.call[[s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw"]]
    for call, buffer in zip(draws.tolist(), element_buffers(frame, draws).tolist(), strict=True):
        if buffer in made and "Elements" in frame.calls.command(call).name:
            change.put_in_place(call, _with_short(frame, call))
    _bind(change, made)


def _bind(change: FrameChange, made: dict[int, int]) -> None:
    """In vertex arrays that hold one of them before the frame, and the old ones again after it."""
    frame = change.frame
    arrays = [v for v in frame.objects.vertex_arrays if v.element_buffer in made]
    several = Offers(frame.context)("glBindVertexArray")
    for names, call in ((made, 0), ({name: name for name in made}, len(frame.calls))):
        batch = CallBatch()
        for array in arrays:
            if several:
                batch.call("glBindVertexArray", array.name)
            batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, names[array.element_buffer])
        if arrays and several:
            batch.call("glBindVertexArray", frame.history.number("vertex_array", call))
        if not call:
            change.first.append(batch)
        else:
            change.unrenamed.append(Insertion(call, batch, undoes=True))


def _with_short(frame: OpenGLFrame, call: int) -> CallBatch:
    """A draw with the indices at half their place."""
    command = frame.calls.command(call)
    arguments: dict[str, Any] = {p.name: frame.calls.argument(call, p.name) for p in command.parameters}
    where = arguments.get("indices")
    if command.name not in INDEXED or arguments["type"] != GL.UNSIGNED_INT or not isinstance(where, Raw | None):
        raise TrialError(f"call {call} reads them in a way that is not changed here")
    fixed = frame.history.number("capability", call, GL.PRIMITIVE_RESTART_FIXED_INDEX)
    if restart_index(frame, call) == _LONGEST and not fixed:
        raise TrialError("primitives begin anew at an index that 16 bits do not hold")
    arguments |= {"type": GL.UNSIGNED_SHORT, "indices": Raw(where.value // 2 if where else 0)}
    batch = CallBatch()
    batch.call(command.name, *arguments.values())
    return batch
