"""Full-screen draws of our own in the middle of a frame, with the state of the frame put back after them."""

from __future__ import annotations

from wendascope.backends.opengl.calls.gl_helpers import small_program
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.running.draw_state import DrawState
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.registry import GL

_VERTEX = (
    "{version}\nvoid main() {{ gl_Position = vec4(gl_VertexID == 1 ? 3.0 : -1.0, gl_VertexID == 2 ? 3.0 : -1.0, 0.0,"
    " 1.0); }}\n"
)
_SWITCHED = (
    "DEPTH_TEST",
    "STENCIL_TEST",
    "SCISSOR_TEST",
    "CULL_FACE",
    "RASTERIZER_DISCARD",
    "COLOR_LOGIC_OP",
    "ALPHA_TEST",
    "SAMPLE_ALPHA_TO_COVERAGE",
)


class OwnDraw:
    """One fragment shader, drawn over a box. Needs vertex array objects and gl_VertexID (OpenGL 3, ES 3)."""

    @staticmethod
    def offered(session: ReplaySession) -> bool:
        return session.frame.context.number >= 30 and session.offers("glBindVertexArray")

    def __init__(self, session: ReplaySession, fragment: str) -> None:
        """`fragment` is without its #version line. Raises ReplayError when the driver refuses it."""
        self._session = session
        context = session.frame.context
        if context.es:
            version = f"#version {min(context.number * 10, 320)} es\nprecision highp float; precision highp int;"
        else:
            version = f"#version {130 if context.number < 32 else 150}"
            if context.number >= 32:
                version += "\n#extension GL_ARB_texture_multisample : enable"
        make = CallBatch(session.offers)
        array = make.out(4)
        make.call("glGenVertexArrays", 1, array)
        session.run_batch(make)
        self._array = array.uints()[0]
        sources = ((GL.VERTEX_SHADER, _VERTEX.format(version=version)), (GL.FRAGMENT_SHADER, f"{version}\n{fragment}"))
        self.program = small_program(session.executor, sources, session.offers)

    def begin(self, batch: CallBatch, state: DrawState, viewport: tuple[int, int, int, int]) -> None:
        """Everything that could keep fragments of ours away is switched off."""
        for name in _SWITCHED:
            if self._session.offers("GL_" + name):
                batch.call("glDisable", getattr(GL, name))
        if state.values("POLYGON_MODE")[0] != GL.FILL:
            batch.call("glPolygonMode", GL.FRONT_AND_BACK, GL.FILL)
        batch.call("glViewport", *viewport)
        batch.call("glUseProgram", self.program)
        batch.call("glBindVertexArray", self._array)

    def draw(self, batch: CallBatch) -> None:
        batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)

    def end(self, batch: CallBatch, state: DrawState) -> None:
        """Put back what `begin` changed."""
        for name in _SWITCHED:
            if self._session.offers("GL_" + name):
                batch.call("glEnable" if state.on(name) else "glDisable", getattr(GL, name))
        if state.values("POLYGON_MODE")[0] != GL.FILL:
            batch.call("glPolygonMode", GL.FRONT_AND_BACK, state.values("POLYGON_MODE")[0])
        batch.call("glViewport", *state.values("VIEWPORT"))
        batch.call("glUseProgram", state.value("CURRENT_PROGRAM"))
        batch.call("glBindVertexArray", state.value("VERTEX_ARRAY_BINDING"))
