"""Draws a random scene of tests/scenes.py: many passes into targets of many kinds, the same every frame."""

from __future__ import annotations

import sys
from pathlib import Path

from _linking import link
from _running import core, forever
from OpenGL import GL

sys.path.insert(0, str(Path(__file__).parent.parent))
import numpy as np
import scenes

VERTEX = """#version 330
layout(location = 0) in vec3 position;
void main() { gl_Position = vec4(position.xy / 32.0 - 1.0, position.z * 2.0 - 1.0, 1.0); }
"""
LAYERED = """#version 330
layout(triangles) in; layout(triangle_strip, max_vertices = 3) out;
void main() { for (int i = 0; i < 3; i++) { gl_Layer = gl_PrimitiveIDIn % 3; gl_Position = gl_in[i].gl_Position;
    EmitVertex(); } EndPrimitive(); }
"""
PLAIN = "#version 330\nuniform vec4 colour; out vec4 result; void main() { result = colour; }\n"
HOLES = """#version 330
uniform vec4 colour; uniform int hole; out vec4 result;
void main() { /* discard in a comment is none */ if ((int(gl_FragCoord.x) + int(gl_FragCoord.y)) % 3 == hole) discard;
    result = colour; }
"""


def texture(target: int, format_: int, layers: int = 1) -> int:
    name = int(GL.glGenTextures(1))
    GL.glBindTexture(target, name)
    if target == GL.GL_TEXTURE_2D_ARRAY:
        GL.glTexStorage3D(target, 1, format_, scenes.SIZE, scenes.SIZE, layers)
    elif target == GL.GL_TEXTURE_2D_MULTISAMPLE:
        GL.glTexStorage2DMultisample(target, 4, format_, scenes.SIZE, scenes.SIZE, True)
    else:
        GL.glTexStorage2D(target, 1, format_, scenes.SIZE, scenes.SIZE)
    return name


DEPTH_FORMATS = {
    "colour+depth": GL.GL_DEPTH_COMPONENT24,
    "colour+depth-stencil": GL.GL_DEPTH24_STENCIL8,
    "depth": GL.GL_DEPTH_COMPONENT24,
    "colour+float-depth": GL.GL_DEPTH_COMPONENT32F,
    "four samples": GL.GL_DEPTH24_STENCIL8,
    "colour+small-depth": GL.GL_DEPTH_COMPONENT16,
    "depth layers": GL.GL_DEPTH_COMPONENT24,
}


def framebuffer(item: scenes.Pass) -> int:
    name = int(GL.glGenFramebuffers(1))
    GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, name)
    kind = (
        GL.GL_TEXTURE_2D_ARRAY
        if item.layers > 1
        else GL.GL_TEXTURE_2D_MULTISAMPLE
        if len(item.samples) > 1
        else GL.GL_TEXTURE_2D
    )
    if item.has_colour:
        GL.glFramebufferTexture(GL.GL_FRAMEBUFFER, GL.GL_COLOR_ATTACHMENT0, texture(kind, GL.GL_RGBA8, item.layers), 0)
    else:
        GL.glDrawBuffer(GL.GL_NONE)
    if item.has_depth:
        format_ = DEPTH_FORMATS[item.target]
        point = GL.GL_DEPTH_STENCIL_ATTACHMENT if item.has_stencil else GL.GL_DEPTH_ATTACHMENT
        GL.glFramebufferTexture(GL.GL_FRAMEBUFFER, point, texture(kind, format_, item.layers), 0)
    assert GL.glCheckFramebufferStatus(GL.GL_FRAMEBUFFER) == GL.GL_FRAMEBUFFER_COMPLETE, item.target
    return name


def switch(capability: int, on: bool) -> None:
    (GL.glEnable if on else GL.glDisable)(capability)


def named(name: str) -> int:
    return int(getattr(GL, f"GL_{name}"))


class Drawer:
    def __init__(self, scene: list[scenes.Pass]) -> None:
        self.scene = scene
        self.framebuffers = [framebuffer(item) for item in scene]
        self.programs = {
            (layered, holes): link(
                {GL.GL_VERTEX_SHADER: VERTEX, GL.GL_FRAGMENT_SHADER: HOLES if holes else PLAIN}
                | ({GL.GL_GEOMETRY_SHADER: LAYERED} if layered else {})
            )
            for layered in (False, True)
            for holes in (False, True)
        }
        data = [
            np.concatenate(
                [np.dstack([s.triangles, np.repeat(s.depths[:, None], 3, 1)]).reshape(-1, 3) for s in item.steps]
            )
            for item in scene
        ]
        self.starts = []
        at = 0
        for item in scene:
            starts = []
            for step in item.steps:
                starts.append(at)
                at += 3 * len(step.triangles)
            self.starts.append(starts)
        vertices = np.concatenate(data).astype(np.float32)
        array, buffer = int(GL.glGenVertexArrays(1)), int(GL.glGenBuffers(1))
        GL.glBindVertexArray(array)
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
        GL.glBufferData(GL.GL_ARRAY_BUFFER, vertices.nbytes, vertices, GL.GL_STATIC_DRAW)
        GL.glVertexAttribPointer(0, 3, GL.GL_FLOAT, False, 12, None)
        GL.glEnableVertexAttribArray(0)
        GL.glViewport(0, 0, scenes.SIZE, scenes.SIZE)

    def __call__(self, _frame: int) -> None:
        for number, item in enumerate(self.scene):
            GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, self.framebuffers[number])
            GL.glDisable(GL.GL_SCISSOR_TEST)
            GL.glColorMask(1, 1, 1, 1)
            GL.glDepthMask(1)
            GL.glStencilMask(0xFF)
            GL.glClear(GL.GL_COLOR_BUFFER_BIT | GL.GL_DEPTH_BUFFER_BIT | GL.GL_STENCIL_BUFFER_BIT)
            for step, first in zip(item.steps, self.starts[number], strict=True):
                self.draw(item, step, first)
        GL.glBindFramebuffer(GL.GL_FRAMEBUFFER, 0)
        GL.glDisable(GL.GL_SCISSOR_TEST)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)

    def draw(self, item: scenes.Pass, step: scenes.Step, first: int) -> None:
        switch(GL.GL_DEPTH_TEST, step.depth_test)
        GL.glDepthFunc(named(step.depth_func))
        GL.glDepthMask(step.depth_mask)
        switch(GL.GL_BLEND, step.blend != "off")
        GL.glBlendFunc(
            *((GL.GL_SRC_ALPHA, GL.GL_ONE_MINUS_SRC_ALPHA) if step.blend == "alpha" else (GL.GL_ONE, GL.GL_ONE))
        )
        switch(GL.GL_CULL_FACE, bool(step.cull))
        GL.glCullFace(named(step.cull or "BACK"))
        GL.glFrontFace(GL.GL_CW if step.clockwise else GL.GL_CCW)
        switch(GL.GL_SCISSOR_TEST, step.scissor is not None)
        GL.glScissor(*(step.scissor or (0, 0, 1, 1)))
        switch(GL.GL_STENCIL_TEST, step.stencil is not None)
        if step.stencil is not None:
            func, ref, mask, fail, depth_fail, passes, write = step.stencil
            GL.glStencilFunc(named(func), ref, mask)
            GL.glStencilOp(named(fail), named(depth_fail), named(passes))
            GL.glStencilMask(write)
        GL.glColorMask(*[step.colour_mask] * 4)
        program = self.programs[item.layers > 1, step.discard >= 0]
        GL.glUseProgram(program)
        GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), *(v / 255 for v in step.colour))
        if step.discard >= 0:
            GL.glUniform1i(GL.glGetUniformLocation(program, "hole"), step.discard)
        GL.glDrawArrays(GL.GL_TRIANGLES, first, 3 * len(step.triangles))


def main() -> None:
    context = core(width=scenes.SIZE, height=scenes.SIZE)
    forever(context, Drawer(scenes.make_scene(int(sys.argv[1]))))


if __name__ == "__main__":
    main()
