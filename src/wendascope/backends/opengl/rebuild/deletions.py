"""What deleting an object does to the bindings of the context.

Deletes are not replayed: every run needs the objects again. GL also takes a deleted object out of the current
context's bindings, and that is done here, by calls put in the delete's place.
"""

from __future__ import annotations

import numpy as np

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.registry import GL

_DELETES = {
    "glDeleteTextures": "texture",
    "glDeleteSamplers": "sampler",
    "glDeleteBuffers": "buffer",
    "glDeleteVertexArrays": "vertex array",
    "glDeleteFramebuffers": "framebuffer",
    "glDeleteRenderbuffers": "renderbuffer",
}


def unbinding_calls(frame: OpenGLFrame) -> list[Insertion]:
    """For every delete in the frame whose objects are bound, the calls that unbind them."""
    insertions = []
    for command, class_name in _DELETES.items():
        for call in frame.calls.calls_of(command).tolist():
            pointer = next(p.name for p in frame.calls.command(call).parameters if p.kind == "pointer")
            data = frame.calls.argument(call, pointer)
            batch = CallBatch()
            for name in np.frombuffer(data or b"", np.uint32).tolist():
                if name:
                    _unbind(frame, call, class_name, name, batch)
            if batch.starts:
                insertions.append(Insertion(call, batch))
    return insertions


def _unbind(frame: OpenGLFrame, call: int, class_name: str, name: int, batch: CallBatch) -> None:
    history = frame.history

    def bound(pattern: str) -> list[tuple[int, int]]:
        return [key for key in history.keys(pattern) if history.number(pattern, call, *key) == name]

    match class_name:
        case "texture":
            units = [(unit, target) for unit, target in bound("texture") if target]
            for unit, target in units:
                batch.call("glActiveTexture", unit)
                batch.call("glBindTexture", target, 0)
            if units:
                batch.call("glActiveTexture", history.number("active_texture", call, missing=GL.TEXTURE0))
        case "sampler":
            for unit, _ in bound("sampler"):
                batch.call("glBindSampler", unit, 0)
        case "buffer":
            _unbind_buffer(frame, call, name, bound("buffer"), bound("indexed_buffer"), batch)
        case "vertex array" if bound("vertex_array"):
            batch.call("glBindVertexArray", 0)
        case "framebuffer":
            for target, _ in bound("framebuffer"):
                batch.call("glBindFramebuffer", target, 0)
        case "renderbuffer" if bound("renderbuffer"):
            batch.call("glBindRenderbuffer", GL.RENDERBUFFER, 0)


Keys = list[tuple[int, int]]


def _unbind_buffer(frame: OpenGLFrame, call: int, name: int, general: Keys, indexed: Keys, batch: CallBatch) -> None:
    history = frame.history
    for target, index in indexed:
        batch.call("glBindBufferBase", target, index, 0)
        # that also took the target's general binding; put it back unless it goes anyway
        kept = history.number("buffer", call, target)
        batch.call("glBindBuffer", target, 0 if kept == name else kept)
    for target in {target for target, _ in general} - {GL.ELEMENT_ARRAY_BUFFER}:
        batch.call("glBindBuffer", target, 0)
    current = history.number("vertex_array", call)
    if history.number("element_buffer", call, current) == name:
        batch.call("glBindBuffer", GL.ELEMENT_ARRAY_BUFFER, 0)
