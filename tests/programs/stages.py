"""Objects that hold others: program pipelines with all five stages, feedback objects, views, images, old query
results.
"""

from __future__ import annotations

import ctypes

import numpy as np
from _linking import link
from _running import core, forever
from OpenGL import GL

BLOCK = "out gl_PerVertex { vec4 gl_Position; };\n"
INPUT = "in gl_PerVertex { vec4 gl_Position; } gl_in[];\n"
HEAD = "#version 450 core\n"
VERTEX = (
    HEAD
    + BLOCK
    + "layout(location = 0) in vec2 place; uniform vec2 shift; void main() { gl_Position = vec4(place * 0.5 + shift,"
    " 0.0, 1.0); }"
)
CONTROL = (
    HEAD
    + INPUT
    + "layout(vertices = 3) out; out gl_PerVertex { vec4 gl_Position; } gl_out[]; uniform float level;\nvoid main() {"
    " gl_out[gl_InvocationID].gl_Position = gl_in[gl_InvocationID].gl_Position; gl_TessLevelInner[0] = level;"
    " gl_TessLevelOuter[0] = gl_TessLevelOuter[1] = gl_TessLevelOuter[2] = level; }"
)
EVALUATION = (
    HEAD
    + INPUT
    + BLOCK
    + "layout(triangles, equal_spacing, ccw) in; void main() { vec4 p = vec4(0.0); for (int i = 0; i < 3; i++) p +="
    " gl_in[i].gl_Position * gl_TessCoord[i]; p.xy *= 0.7 + 0.3 * length(p.xy); gl_Position = p; }"
)
GEOMETRY = (
    HEAD
    + INPUT
    + BLOCK
    + "layout(triangles) in; layout(triangle_strip, max_vertices = 3) out; layout(location = 1) out vec3 c;\n"
    "void main() { vec4 m = (gl_in[0].gl_Position + gl_in[1].gl_Position + gl_in[2].gl_Position) / 3.0;"
    " for (int i = 0; i < 3; i++) { c = vec3(float(i) / 2.0, fract(float(gl_PrimitiveIDIn) * 0.13), 0.6);"
    " gl_Position = mix(gl_in[i].gl_Position, m, 0.15); EmitVertex(); } EndPrimitive(); }"
)
FRAGMENT = (
    HEAD + "layout(location = 1) in vec3 c; uniform sampler2D view; uniform samplerBuffer texels; out vec4 color;\nvoid"
    " main() { color = vec4(c, 1.0) * texture(view, gl_FragCoord.xy / 64.0) + texelFetch(texels, int(gl_FragCoord.x)"
    " % 4) * 0.2; }"
)
MOVE = (
    HEAD + "layout(location = 0) in vec2 place; out vec2 moved; uniform float by; void main() { moved = vec2(place.y,"
    " -place.x) * by; }"
)
PAINT = (
    HEAD
    + "layout(local_size_x = 8, local_size_y = 8) in; layout(rgba8, binding = 2) uniform writeonly image2D picture;"
    " uniform int number;\nvoid main() { ivec2 p = ivec2(gl_GlobalInvocationID.xy); imageStore(picture, p,"
    " vec4(vec2(p) / 16.0, float(number % 9) / 8.0, 1.0)); }"
)


def main() -> None:
    context = core()
    stages = {
        GL.GL_VERTEX_SHADER_BIT: (GL.GL_VERTEX_SHADER, VERTEX),
        GL.GL_TESS_CONTROL_SHADER_BIT: (GL.GL_TESS_CONTROL_SHADER, CONTROL),
        GL.GL_TESS_EVALUATION_SHADER_BIT: (GL.GL_TESS_EVALUATION_SHADER, EVALUATION),
        GL.GL_GEOMETRY_SHADER_BIT: (GL.GL_GEOMETRY_SHADER, GEOMETRY),
        GL.GL_FRAGMENT_SHADER_BIT: (GL.GL_FRAGMENT_SHADER, FRAGMENT),
    }
    programs = {bit: link({kind: source}, separable=True) for bit, (kind, source) in stages.items()}
    pipeline = GL.glGenProgramPipelines(1)
    for bit, program in programs.items():
        GL.glUseProgramStages(pipeline, bit, program)
    vertex, control, fragment = (
        programs[b] for b in (GL.GL_VERTEX_SHADER_BIT, GL.GL_TESS_CONTROL_SHADER_BIT, GL.GL_FRAGMENT_SHADER_BIT)
    )
    move, paint = link({GL.GL_VERTEX_SHADER: MOVE}, feedback=("moved",)), link({GL.GL_COMPUTE_SHADER: PAINT})
    place = np.array([[-1, -1], [1, -0.8], [0, 1], [-0.5, 0.9], [0.7, 0.2], [-0.9, 0]], np.float32)
    source, moved, texel = (int(b) for b in GL.glGenBuffers(3))
    for buffer, data in ((source, place), (moved, place), (texel, np.linspace(0, 1, 16).astype(np.float32))):
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
        GL.glBufferData(GL.GL_ARRAY_BUFFER, data.nbytes, data, GL.GL_DYNAMIC_COPY)
    feedback = GL.glGenTransformFeedbacks(1)
    GL.glBindTransformFeedback(GL.GL_TRANSFORM_FEEDBACK, feedback)
    GL.glBindBufferBase(GL.GL_TRANSFORM_FEEDBACK_BUFFER, 0, moved)
    GL.glBindTransformFeedback(GL.GL_TRANSFORM_FEEDBACK, 0)
    arrays = []
    for buffer in (source, moved):
        arrays.append(GL.glGenVertexArrays(1))
        GL.glBindVertexArray(arrays[-1])
        GL.glBindBuffer(GL.GL_ARRAY_BUFFER, buffer)
        GL.glEnableVertexAttribArray(0)
        GL.glVertexAttribPointer(0, 2, GL.GL_FLOAT, False, 8, ctypes.c_void_p(0))
    whole, view, buffered = (int(t) for t in GL.glGenTextures(3))
    GL.glBindTexture(GL.GL_TEXTURE_2D_ARRAY, whole)
    GL.glTexStorage3D(GL.GL_TEXTURE_2D_ARRAY, 1, GL.GL_RGBA8, 16, 16, 3)
    GL.glTexSubImage3D(
        GL.GL_TEXTURE_2D_ARRAY, 0, 0, 0, 0, 16, 16, 3, GL.GL_RGBA, GL.GL_UNSIGNED_BYTE, bytes(range(256)) * 12
    )
    GL.glTextureView(view, GL.GL_TEXTURE_2D, whole, GL.GL_RGBA8, 0, 1, 1, 1)
    GL.glBindTexture(GL.GL_TEXTURE_2D, view)
    GL.glTexParameteri(GL.GL_TEXTURE_2D, GL.GL_TEXTURE_MIN_FILTER, GL.GL_LINEAR)
    GL.glActiveTexture(GL.GL_TEXTURE1)
    GL.glBindTexture(GL.GL_TEXTURE_BUFFER, buffered)
    GL.glTexBuffer(GL.GL_TEXTURE_BUFFER, GL.GL_RGBA32F, texel)
    GL.glProgramUniform1i(fragment, GL.glGetUniformLocation(fragment, b"texels"), 1)
    GL.glPatchParameteri(GL.GL_PATCH_VERTICES, 3)
    queries = [int(q) for q in GL.glGenQueries(2)]
    shift, level = GL.glGetUniformLocation(vertex, b"shift"), GL.glGetUniformLocation(control, b"level")

    def patches(x: float, y: float, array: int, detail: float) -> None:
        GL.glProgramUniform2f(vertex, shift, x, y)
        GL.glProgramUniform1f(control, level, detail)
        GL.glBindVertexArray(array)
        GL.glDrawArrays(GL.GL_PATCHES, 0, 6)

    def draw(number: int) -> None:
        GL.glUseProgram(paint)
        GL.glUniform1i(GL.glGetUniformLocation(paint, b"number"), number)
        GL.glBindImageTexture(2, whole, 0, False, 1, GL.GL_WRITE_ONLY, GL.GL_RGBA8)
        GL.glDispatchCompute(2, 1 + number % 2, 1)
        GL.glMemoryBarrier(GL.GL_ALL_BARRIER_BITS)
        GL.glClearColor(0.02, 0.1, 0.05, 1)
        GL.glClear(GL.GL_COLOR_BUFFER_BIT)
        GL.glUseProgram(move)
        GL.glUniform1f(GL.glGetUniformLocation(move, b"by"), 0.8 + number % 4 * 0.1)
        GL.glEnable(GL.GL_RASTERIZER_DISCARD)
        GL.glBindTransformFeedback(GL.GL_TRANSFORM_FEEDBACK, feedback)
        GL.glBindVertexArray(arrays[0])
        GL.glBeginTransformFeedback(GL.GL_POINTS)
        GL.glDrawArrays(GL.GL_POINTS, 0, 6)
        GL.glEndTransformFeedback()
        GL.glBindTransformFeedback(GL.GL_TRANSFORM_FEEDBACK, 0)
        GL.glDisable(GL.GL_RASTERIZER_DISCARD)
        GL.glUseProgram(0)
        GL.glBindProgramPipeline(pipeline)
        GL.glBeginQuery(GL.GL_ANY_SAMPLES_PASSED, queries[number % 2])
        patches(-0.4, -0.3 + number % 3 * 0.05, arrays[0], 3)
        GL.glEndQuery(GL.GL_ANY_SAMPLES_PASSED)
        if number:  # by what the frame before counted
            GL.glBeginConditionalRender(queries[(number + 1) % 2], GL.GL_QUERY_WAIT)
            patches(0.4, 0.3, arrays[1], 4)
            GL.glEndConditionalRender()
        GL.glBindProgramPipeline(0)

    forever(context, draw)


if __name__ == "__main__":
    main()
