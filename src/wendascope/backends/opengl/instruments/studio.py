"""A context of its own in which meshes are drawn."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.gl_helpers import small_program
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.context import PbufferContext
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.backends.opengl.rebuild.executor import LocalExecutor
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.frame.context import ContextInfo
from wendascope.registry import GL

_LARGEST = 1024
Floats = npt.NDArray[np.float32]
_VERTEX = (
    "#version 330\nlayout(location = 0) in vec3 point; uniform mat4 view; out vec3 place; void main() { place = point;"
    " gl_Position = view * vec4(point, 1.0); }\n"
)
_SHADED = """#version 330
in vec3 place; out vec4 colour; uniform mat4 view; uniform vec4 tint; uniform float flatness;
void main() {
  vec3 towards = normalize(vec3(view[0][2], view[1][2], view[2][2]));
  float facing = abs(dot(normalize(cross(dFdx(place), dFdy(place)) + vec3(0.0, 0.0, 1e-20)), towards));
  float light = mix(0.4 + 0.6 * facing, 1.0, flatness);
  colour = vec4(tint.rgb * light * (gl_FrontFacing ? 1.0 : 0.72), 1.0);
}
"""


class MeshStudio:
    """A context of its own in which meshes are drawn."""

    largest = _LARGEST

    def __init__(self, session: ReplaySession) -> None:
        self._session = session
        self.context = PbufferContext(
            ContextInfo(major=3, minor=3), DefaultFramebuffer(_LARGEST, _LARGEST, alpha=8, depth=24)
        )
        self._executor = LocalExecutor()
        make = CallBatch()
        array, buffer = make.out(4), make.out(4)
        make.call("glGenVertexArrays", 1, array)
        make.call("glGenBuffers", 1, buffer)
        self.run(make)
        self.array, self.buffer = array.uints()[0], buffer.uints()[0]
        sources = ((GL.VERTEX_SHADER, _VERTEX), (GL.FRAGMENT_SHADER, _SHADED))
        self.program = small_program(self._executor, sources)
        asked = CallBatch()
        where = {
            name: asked.call("glGetUniformLocation", self.program, name.encode() + b"\0")
            for name in ("view", "tint", "flatness")
        }
        self.run(asked)
        self.uniforms = {name: result.value for name, result in where.items()}
        self.held: tuple[int, str] | None = None
        self.count = 0
        with session.elsewhere(self.context):
            pass  # making it made it current

    def run(self, batch: CallBatch) -> None:
        self._executor.run(batch)

    def picture(
        self, key: tuple[int, str], corners: Floats, view: Floats, size: tuple[int, int], colours: dict[str, str],
        shaded: bool, wire: bool,
    ) -> npt.NDArray[np.uint8]:  # fmt: skip
        with self._session.elsewhere(self.context):
            self._upload(key, corners)
            return self._draw(view, size, colours, shaded, wire)

    def _upload(self, key: tuple[int, str], corners: Floats) -> None:
        if self.held == key:
            return
        batch = CallBatch()
        data = np.ascontiguousarray(corners, np.float32).tobytes()
        batch.call("glBindVertexArray", self.array)
        batch.call("glBindBuffer", GL.ARRAY_BUFFER, self.buffer)
        batch.call("glBufferData", GL.ARRAY_BUFFER, len(data), data, GL.STATIC_DRAW)
        batch.call("glVertexAttribPointer", 0, 3, GL.FLOAT, 0, 12, Raw(0))
        batch.call("glEnableVertexAttribArray", 0)
        self.run(batch)
        self.held, self.count = key, corners.shape[0] * 3

    def _draw(
        self, view: Floats, size: tuple[int, int], colours: dict[str, str], shaded: bool, wire: bool
    ) -> npt.NDArray[np.uint8]:
        batch = CallBatch()
        call = batch.call
        rgb = {name: tuple(int(value[i : i + 2], 16) / 255 for i in (1, 3, 5)) for name, value in colours.items()}
        call("glViewport", 0, 0, *size)
        call("glClearColor", *rgb["ground"], 1.0)
        call("glClear", GL.COLOR_BUFFER_BIT | GL.DEPTH_BUFFER_BIT)
        call("glEnable", GL.DEPTH_TEST)
        call("glDepthFunc", GL.LEQUAL)
        call("glUseProgram", self.program)
        call("glBindVertexArray", self.array)
        call("glUniformMatrix4fv", self.uniforms["view"], 1, 1, view.astype(np.float32).tobytes())
        for wanted, mode, tint, flat in ((shaded, GL.FILL, rgb["mesh"], 0.0), (wire, GL.LINE, rgb["wire"], 1.0)):
            if not wanted:
                continue
            call("glPolygonMode", GL.FRONT_AND_BACK, mode)
            call("glEnable" if mode == GL.FILL else "glDisable", GL.POLYGON_OFFSET_FILL)
            call("glPolygonOffset", 1.0, 2.0)
            call("glUniform4f", self.uniforms["tint"], *tint, 1.0)
            call("glUniform1f", self.uniforms["flatness"], flat)
            call("glDrawArrays", GL.TRIANGLES, 0, self.count)
        out = batch.out(size[0] * size[1] * 4)
        call("glPixelStorei", GL.PACK_ALIGNMENT, 1)
        call("glReadPixels", 0, 0, *size, GL.RGBA, GL.UNSIGNED_BYTE, out)
        self.run(batch)
        return np.frombuffer(out.data, np.uint8, size[0] * size[1] * 4).reshape(size[1], size[0], 4)
