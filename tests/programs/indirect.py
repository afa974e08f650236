"""Draws whose counts lie in buffers, some of them written by a compute shader; instances, restarts, base vertices."""

from __future__ import annotations

import ctypes

import numpy as np
from _linking import link, make_program
from _running import core, forever
from OpenGL import GL

VERTEX = """#version 450 core
layout(location = 0) in vec2 place; layout(location = 1) in vec4 where; uniform float turn; out vec3 c;
void main() {
  float s = sin(turn), k = cos(turn);
  c = vec3(where.z, where.w, float(gl_VertexID % 3) / 2.0);
  gl_Position = vec4(mat2(k, s, -s, k) * place * 0.12 + where.xy, 0.0, 1.0);
}"""
FRAGMENT = "#version 450 core\nin vec3 c; out vec4 color; void main() { color = vec4(c, 1.0); }"
COMPUTE = """#version 450 core
layout(local_size_x = 1) in; layout(std430, binding = 0) buffer Rows { uint rows[]; }; uniform uint many;
void main() { uint i = gl_GlobalInvocationID.x; rows[i*4] = 3; rows[i*4+1] = many;
    rows[i*4+2] = i * 3; rows[i*4+3] = i * 5; }"""


def main() -> None:
    context = core()
    program = make_program(VERTEX, FRAGMENT)
    compute = link({GL.GL_COMPUTE_SHADER: COMPUTE})
    shape = np.array([[0, 1], [-0.9, -0.5], [0.9, -0.5]] * 4 + [[0.3, 0.3]] * 8, np.float32)
    random = np.random.default_rng(2)
    where = np.concatenate([random.random((64, 2)) * 1.8 - 0.9, random.random((64, 2))], 1).astype(np.float32)
    GL.glBindVertexArray(GL.glGenVertexArrays(1))
    vertices, instances, elements, arguments, written = (int(b) for b in GL.glGenBuffers(5))
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, vertices)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, shape.nbytes, shape, GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, ctypes.c_void_p(0))
    GL.glBindBuffer(GL.GL_ARRAY_BUFFER, instances)
    GL.glBufferData(GL.GL_ARRAY_BUFFER, where.nbytes, where, GL.GL_STATIC_DRAW)
    GL.glVertexAttribPointer(1, 4, GL.GL_FLOAT, False, 16, ctypes.c_void_p(0))
    GL.glVertexAttribDivisor(1, 2)
    for index in (0, 1):
        GL.glEnableVertexAttribArray(index)
    order = np.array([0, 1, 2, 0xFFFF, 3, 4, 5, 6], np.uint16)
    GL.glBindBuffer(GL.GL_ELEMENT_ARRAY_BUFFER, elements)
    GL.glBufferData(GL.GL_ELEMENT_ARRAY_BUFFER, order.nbytes, order, GL.GL_STATIC_DRAW)
    rows = np.array([[3, 2, 0, 0, 0, 9], [3, 4, 3, 20, 0, 9]], np.uint32)
    GL.glBindBuffer(GL.GL_DRAW_INDIRECT_BUFFER, arguments)
    GL.glBufferData(
        GL.GL_DRAW_INDIRECT_BUFFER,
        rows.nbytes + 20,
        rows.tobytes() + np.array([5, 6, 3, 1, 40], np.uint32).tobytes(),
        GL.GL_STATIC_DRAW,
    )
    GL.glBindBuffer(GL.GL_SHADER_STORAGE_BUFFER, written)
    GL.glBufferData(GL.GL_SHADER_STORAGE_BUFFER, 64, None, GL.GL_DYNAMIC_DRAW)
    turn, many = GL.glGetUniformLocation(program, b"turn"), GL.glGetUniformLocation(compute, b"many")
    GL.glPrimitiveRestartIndex(0xFFFF)

    def draw(number: int) -> None:
        GL.glClearColor(0.1, 0.05, 0.1, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glUseProgram(compute)
        GL.glUniform1ui(many, 2 + number % 5)
        GL.glBindBufferBase(GL.GL_SHADER_STORAGE_BUFFER, 0, written)
        GL.glDispatchCompute(4, 1, 1)
        GL.glMemoryBarrier(GL.GL_COMMAND_BARRIER_BIT)
        GL.glUseProgram(program)
        GL.glUniform1f(turn, number * 0.3)
        GL.glBindBuffer(GL.GL_DRAW_INDIRECT_BUFFER, arguments)
        GL.glMultiDrawArraysIndirect(GL.GL_TRIANGLES, ctypes.c_void_p(0), 2, 24)
        GL.glEnable(GL.GL_PRIMITIVE_RESTART)
        GL.glDrawElementsIndirect(GL.GL_TRIANGLE_STRIP, GL.GL_UNSIGNED_SHORT, ctypes.c_void_p(48))
        GL.glDisable(GL.GL_PRIMITIVE_RESTART)
        GL.glBindBuffer(GL.GL_DRAW_INDIRECT_BUFFER, written)
        GL.glMultiDrawArraysIndirect(GL.GL_TRIANGLES, ctypes.c_void_p(0), 4, 0)
        GL.glDrawElementsInstancedBaseVertexBaseInstance(
            GL.GL_TRIANGLES, 3, GL.GL_UNSIGNED_SHORT, ctypes.c_void_p(8), 7, 3, 30
        )

    forever(context, draw)


if __name__ == "__main__":
    main()
