"""Vertices with the values that narrower attributes would give: what is compared is the picture."""

from __future__ import annotations

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.frame.vertex_widths import float_columns, narrower, rounded, values_of


@lowers("round-vertices")
def round_vertices(change: FrameChange, item: Remedy) -> None:
    """Write the rounded values into the buffers that `names` gives, ahead of the frame, and their own after it. Raises
    TrialError.
    """
    frame = change.frame
    items = {i.name: i for i in frame.memory if i.object_class == "buffer"}
    first, last = CallBatch(), CallBatch()
    for text in item.names:
        found = items.get(int(text)) if text.isdigit() else None
        data = frame.buffer_bytes(found.name) if found else None
        if found is None or data is None or found.written_by >= 0:
            raise TrialError(f"buffer {text} is not there, or is written by the frame")
        stride, columns = float_columns(frame, found)
        changed = bytearray(data)
        for column in columns:
            values = values_of(changed, column, stride)
            kind = narrower(column, values)
            if kind is not None:
                values[:] = rounded(kind.kind, values)
        first.call("wendaWriteBuffer", found.name, 0, len(data), bytes(changed))
        last.call("wendaWriteBuffer", found.name, 0, len(data), data)
    if not first.starts:
        raise TrialError("no buffers are named")
    change.first.append(first)
    change.unrenamed.append(Insertion(len(frame.calls), last, undoes=True))
