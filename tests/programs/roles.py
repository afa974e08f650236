"""Small frames whose passes are easily taken for something else: `packed` (a shadow map whose distances are packed into
colours and whose faces are wound the other way), `resolved` (a scene of four samples, resolved by a blit, under a tool
bar), `chain` (down-sampling by grids of triangles).
"""

from __future__ import annotations

import sys

import numpy as np
from _linking import make_program
from _running import SIZE, core, forever
from OpenGL import GL

CUBE = """#version 330
layout(location = 0) in vec3 position;
layout(location = 1) in vec3 normal;
uniform mat4 view;
uniform vec3 place;
out vec3 facing;
out vec3 lit;
void main() { facing = normal; gl_Position = view * vec4(position * 0.2 + place, 1.0); lit = gl_Position.xyz; }
"""
SHADED = """#version 330
uniform sampler2D shadow;
in vec3 facing;
in vec3 lit;
out vec4 result;
void main() {
    vec4 stored = texture(shadow, lit.xy * 0.5 + 0.5);
    result = vec4(abs(facing) * (stored.r + 0.2), 1.0);
}
"""
DISTANCE = """#version 330
layout(location = 0) in vec3 position;
uniform mat4 view;
uniform vec3 place;
out vec2 depth;
void main() { gl_Position = view * vec4(position * 0.2 + place, 1.0); depth = gl_Position.zw; }
"""
PACKED = """#version 330
in vec2 depth;
out vec4 result;
void main() { float d = depth.x / depth.y * 0.5 + 0.5; result = vec4(fract(d * vec4(1.0, 255.0, 65025.0, 1.0))); }
"""
GRID = """#version 330
out vec2 uv;
void main() {
    int cell = gl_VertexID / 6, corner = gl_VertexID % 6;
    vec2 at = vec2(cell % 4, cell / 4) + vec2(corner == 1 || corner == 2 || corner == 4, corner == 2 || corner > 3);
    if (corner == 3) at = vec2(cell % 4, cell / 4);
    uv = at / 4.0; gl_Position = vec4(uv * 2.0 - 1.0, 0.0, 1.0);
}
"""
SAMPLE = """#version 330
uniform sampler2D shadow;
in vec2 uv;
out vec4 result;
void main() { result = texture(shadow, uv) * 0.9; }
"""
BAR = """#version 330
uniform vec4 rect;
void main() { gl_Position = vec4(mix(rect.xy, rect.zw, vec2(gl_VertexID & 1, gl_VertexID >> 1)), 0.5, 1.0); }
"""
FLAT = "#version 330\nout vec4 result;\nvoid main() { result = vec4(0.6, 0.5, 0.3, 1.0); }\n"


def _cube() -> int:
    faces = []
    for axis in range(3):
        for side in (-1.0, 1.0):
            corners = np.zeros((4, 3), np.float32)
            corners[:, axis] = side
            corners[:, (axis + 1) % 3] = (-1, 1, 1, -1)
            corners[:, (axis + 2) % 3] = (-1, -1, 1, 1)
            normal = np.zeros(3, np.float32)
            normal[axis] = side
            faces += [np.concatenate([corners[k], normal]) for k in (0, 1, 2, 0, 2, 3)]
    array = GL.glGenVertexArrays(1)
    GL.glBindVertexArray(array)
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, GL.glGenBuffers(1))
    data = np.array(faces, np.float32)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, data, GL.GL_STATIC_DRAW)
    for index in (0, 1):
        GL.glEnableVertexAttribArray(index)
        GL.glVertexAttribPointer(index, 3, GL.GL_FLOAT, False, 24, GL.GLvoidp(12 * index))
    return int(array)


def _texture(width: int, height: int) -> int:
    name = GL.glGenTextures(1)
    GL.glBindTexture(GL.GL_TEXTURE_2D, name)
    GL.glTexStorage2D(GL.GL_TEXTURE_2D, 1, GL.GL_RGBA8, width, height)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    return int(name)


def _target(width: int, height: int, samples: int = 0) -> tuple[int, int]:
    framebuffer = GL.glGenFramebuffers(1)
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    texture = 0 if samples else _texture(width, height)
    for point, format_ in ((GL.GL_COLOR_ATTACHMENT0, GL.GL_RGBA8), (GL.GL_DEPTH_ATTACHMENT, GL.GL_DEPTH_COMPONENT24)):
        if texture and point == GL.GL_COLOR_ATTACHMENT0:
            GL.glFramebufferTexture2D(GL.GL_FRAMEBUFFER, point, GL.GL_TEXTURE_2D, texture, 0)
            continue
        buffer = GL.glGenRenderbuffers(1)
        GL.glBindRenderbuffer(GL.GL_RENDERBUFFER, buffer)
        GL.glRenderbufferStorageMultisample(GL.GL_RENDERBUFFER, samples, format_, width, height)
        GL.glFramebufferRenderbuffer(GL.GL_FRAMEBUFFER, point, GL.GL_RENDERBUFFER, buffer)
    return int(framebuffer), texture


class Scene:
    """Six cubes, drawn by whatever program is in use."""

    def __init__(self) -> None:
        self.array = _cube()

    def draw(self, program: int, turned: float) -> None:
        GL.glUseProgram(program)
        GL.glBindVertexArray(self.array)
        view = np.diag([turned, 0.9, 0.5, 1.0]).astype(np.float32)
        GL.glUniformMatrix4fv(GL.glGetUniformLocation(program, "view"), 1, False, view)
        for k in range(6):
            GL.glUniform3f(GL.glGetUniformLocation(program, "place"), k % 3 * 0.5 - 0.5, k // 3 * 0.6 - 0.3, 0.1 * k)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, 36)


def _begin(framebuffer: int, width: int, height: int) -> None:
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, framebuffer)
    GL.glViewport(0, 0, width, height)
    GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT)


def main(which: str) -> None:
    context = core()
    scene, shaded = Scene(), make_program(CUBE, SHADED)
    packed, grid, bar = make_program(DISTANCE, PACKED), make_program(GRID, SAMPLE), make_program(BAR, FLAT)
    GL.glEnable(GL.GL_DEPTH_TEST)
    light, map_ = _target(128, 128)
    view, _ = _target(SIZE[0], SIZE[1], 4)
    plain, image = _target(*SIZE)
    chain = [_target(SIZE[0] >> k, SIZE[1] >> k) for k in (1, 2, 3)]

    def _bars() -> None:
        GL.glUseProgram(bar)
        for k in range(12):
            GL.glUniform4f(GL.glGetUniformLocation(bar, "rect"), k / 6 - 1, 0.85, k / 6 - 0.9, 0.95)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    def draw(_: int) -> None:
        GL.glBindTexture(GL.GL_TEXTURE_2D, map_)
        if which == "packed":
            _begin(light, 128, 128)
            GL.glFrontFace(GL.GL_CW)
            GL.glBindTexture(GL.GL_TEXTURE_2D, 0)
            scene.draw(packed, 0.7)
            GL.glFrontFace(GL.GL_CCW)
            GL.glBindTexture(GL.GL_TEXTURE_2D, map_)
            _begin(0, *SIZE)
            scene.draw(shaded, 0.9)
        elif which == "resolved":
            _begin(view, *SIZE)
            scene.draw(shaded, 0.9)
            _begin(0, *SIZE)
            GL.glBindFramebuffer(GL.GL_READ_FRAMEBUFFER, view)
            GL.glBlitFramebuffer(0, 0, *SIZE, 0, 0, *SIZE, GL.GL_COLOR_BUFFER_BIT, GL.GL_NEAREST)
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
            _bars()
        else:
            _begin(plain, *SIZE)
            scene.draw(shaded, 0.9)
            GL.glUseProgram(grid)
            GL.glDisable(GL.GL_DEPTH_TEST)
            source = image
            for k, (framebuffer, made) in enumerate(chain, 1):
                _begin(framebuffer, SIZE[0] >> k, SIZE[1] >> k)
                GL.glBindTexture(GL.GL_TEXTURE_2D, source)
                GL.glDrawArrays(GL.GL_TRIANGLES, 0, 96)
                source = made
            _begin(0, *SIZE)
            GL.glBindTexture(GL.GL_TEXTURE_2D, source)
            GL.glDrawArrays(GL.GL_TRIANGLES, 0, 96)
            GL.glEnable(GL.GL_DEPTH_TEST)

    forever(context, draw)


if __name__ == "__main__":
    main(sys.argv[1])
