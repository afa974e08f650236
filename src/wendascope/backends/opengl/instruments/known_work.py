"""Work of a known size that is drawn beside the frame."""

from __future__ import annotations

import struct
from collections.abc import Sequence

import numpy as np

from wendascope.backends.doors import Floats
from wendascope.backends.opengl.calls.gl_helpers import small_program
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.instruments.clocks import READING_BYTES, read_clocks, readings
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.registry import GL

_LARGEST = 512
_VERTEX = """{version}
{input} vec2 corner;
void main() {{ gl_Position = vec4(corner, 0.0, 1.0); }}
"""
_FRAGMENT = """{version}
{precision}{output}
void main() {{ vec2 p = gl_FragCoord.xy * 0.01; for (int i = 0; i < 64; i++) p = vec2(sin(p.y), cos(p.x));
    {color} = vec4(p, 0.0, 1.0); }}
"""
_CORNERS = struct.pack("<6f", -1, -1, 3, -1, -1, 3)


class FullScreenWork:
    """A full-screen triangle with a loop, drawn into a texture of its own."""

    def __init__(self, session: ReplaySession) -> None:
        self._session = session
        context = session.frame.context
        modern = context.number >= (30 if context.es else 33)
        version = (
            ("#version 300 es" if context.es else "#version 330")
            if modern
            else ("#version 100" if context.es else "#version 110")
        )
        words = {
            "version": version,
            "input": "in" if modern else "attribute",
            "output": "out vec4 color;" if modern else "",
            "color": "color" if modern else "gl_FragColor",
            "precision": "precision highp float; " if context.es else "",
        }
        sources = ((GL.VERTEX_SHADER, _VERTEX.format(**words)), (GL.FRAGMENT_SHADER, _FRAGMENT.format(**words)))
        make = CallBatch(session.offers)
        outs = [make.out(4) for _ in range(4)]
        for command, out in zip(
            ("glGenTextures", "glGenFramebuffers", "glGenBuffers", "glGenVertexArrays"), outs, strict=True
        ):
            make.call(command, 1, out)
        queries = make.out(8)
        make.call("glGenQueries", 2, queries)
        self._run(make)
        self._program = small_program(session.executor, sources, session.offers, {0: "corner"})
        self._texture, self._framebuffer, self._buffer, self._vertex_array = (out.uints()[0] for out in outs)
        self._queries = queries.uints()
        build = CallBatch(session.offers)
        build.call("glBindTexture", GL.TEXTURE_2D, self._texture)
        build.call("glTexImage2D", GL.TEXTURE_2D, 0, GL.RGBA, _LARGEST, _LARGEST, 0, GL.RGBA, GL.UNSIGNED_BYTE, None)
        build.call("glBindFramebuffer", GL.FRAMEBUFFER, self._framebuffer)
        build.call("glFramebufferTexture2D", GL.FRAMEBUFFER, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, self._texture, 0)
        self._run(build)

    def _run(self, batch: CallBatch) -> None:
        self._session.executor.run(batch)

    def _setup(self, size: int) -> CallBatch:
        batch = CallBatch(self._session.offers)
        for cap in ("DEPTH_TEST", "STENCIL_TEST", "SCISSOR_TEST", "CULL_FACE", "BLEND", "RASTERIZER_DISCARD"):
            if self._session.offers("GL_" + cap):
                batch.call("glDisable", getattr(GL, cap))
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, self._framebuffer)
        batch.call("glUseProgram", self._program)
        batch.call("glBindVertexArray", self._vertex_array)
        batch.call("glBindBuffer", GL.ARRAY_BUFFER, self._buffer)
        batch.call("glBufferData", GL.ARRAY_BUFFER, len(_CORNERS), _CORNERS, GL.STATIC_DRAW)
        batch.call("glVertexAttribPointer", 0, 2, GL.FLOAT, 0, 0, Raw(0))
        batch.call("glEnableVertexAttribArray", 0)
        batch.call("glViewport", 0, 0, max(size, 1), max(size, 1))
        batch.call("glFinish")
        return batch

    def drained(self, size: int) -> Floats:
        """Draw once, drained on both sides; ms by three clocks, shape (3,)."""
        batch = self._setup(size)
        read_clocks(batch, drained=True)
        if size:
            batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
        read_clocks(batch, drained=True)
        self._run(batch)
        first, last = (readings(out.data + bytes(READING_BYTES - len(out.data)))[0] for out in batch.outs)
        return np.asarray(last - first)

    def counted(self, sizes: Sequence[int]) -> Floats | None:
        if not (self._session.offers("GL_TIME_ELAPSED") and self._session.offers("glGetQueryObjectui64v")):
            return None
        batch = self._setup(sizes[0])
        outs = [batch.out(8) for _ in sizes]
        for size, query in zip(sizes, self._queries, strict=True):
            batch.call("glViewport", 0, 0, size, size)
            batch.call("glBeginQuery", GL.TIME_ELAPSED, query)
            batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
            batch.call("glEndQuery", GL.TIME_ELAPSED)
        for out, query in zip(outs, self._queries, strict=True):
            batch.call("glGetQueryObjectui64v", query, GL.QUERY_RESULT, out)
        self._run(batch)
        return np.array([out.int64() / 1e6 for out in outs])

    def close(self) -> None:
        batch = CallBatch(self._session.offers)
        batch.call("glDisableVertexAttribArray", 0)
        for command, name in (
            ("glDeleteTextures", self._texture), ("glDeleteFramebuffers", self._framebuffer),
            ("glDeleteVertexArrays", self._vertex_array), ("glDeleteBuffers", self._buffer),
        ):  # fmt: skip
            batch.call(command, 1, struct.pack("<I", name))
        batch.call("glDeleteQueries", 2, struct.pack("<II", *self._queries))
        batch.call("glUseProgram", 0)
        batch.call("glDeleteProgram", self._program)
        self._run(batch)
        self._session.redefine_vertex_arrays()
