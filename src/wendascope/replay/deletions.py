"""What deleting an object does to the bindings of the context.

Deletes are not replayed: every run needs the objects again. GL also takes a deleted object out of the current
context's bindings, and that is done here, by calls put in the delete's place.
"""

from __future__ import annotations

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.packed import Batch
from wendascope.registry import GL
from wendascope.replay.edit import Insertion

_DELETES = {
    "glDeleteTextures": "texture",
    "glDeleteSamplers": "sampler",
    "glDeleteBuffers": "buffer",
    "glDeleteVertexArrays": "vertex array",
    "glDeleteFramebuffers": "framebuffer",
    "glDeleteRenderbuffers": "renderbuffer",
}


def unbinding_calls(frame: Frame) -> list[Insertion]:
    """For every delete in the frame whose objects are bound, the calls that unbind them."""
    insertions = []
    for command, class_name in _DELETES.items():
        for call in frame.calls.calls_of(command).tolist():
            pointer = next(p.name for p in frame.calls.command(call).parameters if p.kind == "pointer")
            data = frame.calls.argument(call, pointer)
            batch = Batch()
            for name in np.frombuffer(data or b"", np.uint32).tolist():
                if name:
                    _unbind(frame, call, class_name, name, batch)
            if batch.starts:
                insertions.append(Insertion(call, batch))
    return insertions


def _unbind(frame: Frame, call: int, class_name: str, name: int, batch: Batch) -> None:
    history = frame.history

    def bound(pattern: str) -> list[tuple[int, int]]:
        return [key for key in history.keys(pattern) if (history.value(pattern, call, *key) or (0,))[0] == name]

    match class_name:
        case "texture":
            units = [(unit, target) for unit, target in bound("texture") if target]
            for unit, target in units:
                batch.call("glActiveTexture", unit)
                batch.call("glBindTexture", target, 0)
            if units:
                batch.call("glActiveTexture", (history.value("active_texture", call) or (GL.TEXTURE0,))[0])
        case "sampler":
            for unit, _ in bound("sampler"):
                batch.call("glBindSampler", unit, 0)
        case "buffer":
            generic = {target for target, _ in bound("buffer")}
            for target, index in bound("indexed_buffer"):
                batch.call("glBindBufferBase", target, index, 0)
                # that also took the target's general binding; put it back unless it goes anyway
                kept = (history.value("buffer", call, target) or (0,))[0]
                batch.call("glBindBuffer", target, 0 if kept == name else kept)
            for target in generic - {GL.ELEMENT_ARRAY_BUFFER}:
                batch.call("glBindBuffer", target, 0)
            current = (history.value("vertex_array", call) or (0,))[0]
            if (history.value("element_buffer", call, current) or (0,))[0] == name:
                batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, 0)
        case "vertex array":
            if bound("vertex_array"):
                batch.call("glBindVertexArray", 0)
        case "framebuffer":
            for target, _ in bound("framebuffer"):
                batch.call("glBindFramebuffer", target, 0)
        case "renderbuffer":
            if bound("renderbuffer"):
                batch.call("glBindRenderbuffer", GL.RENDERBUFFER, 0)
