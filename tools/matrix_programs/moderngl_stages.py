"""Geometry shader, compute, transform feedback and multisampling with moderngl, in a window of glfw."""

import glfw
import moderngl
import numpy as np

glfw.init()
for hint, value in (
    (glfw.CONTEXT_VERSION_MAJOR, 4),
    (glfw.CONTEXT_VERSION_MINOR, 3),
    (glfw.OPENGL_PROFILE, glfw.OPENGL_CORE_PROFILE),
    (glfw.SAMPLES, 4),
):
    glfw.window_hint(hint, value)
window = glfw.create_window(400, 300, "stages", None, None)
glfw.make_context_current(window)
gl = moderngl.create_context()
move = gl.program(
    vertex_shader=(
        "#version 430\nin vec2 p; out vec2 q; uniform float a; void main() { q = mat2(cos(a), sin(a), -sin(a), cos(a))"
        " * p; }"
    ),
    varyings=["q"],
)
show = gl.program(
    vertex_shader="#version 430\nin vec2 q; void main() { gl_Position = vec4(q, 0, 1); }",
    geometry_shader=(
        "#version 430\nlayout(points) in; layout(triangle_strip, max_vertices = 3) out; void main() { for (int i = 0; i"
        " < 3; i++) { gl_Position = gl_in[0].gl_Position + vec4(0.05 * cos(i * 2.1), 0.05 * sin(i * 2.1), 0, 0);"
        " EmitVertex(); } EndPrimitive(); }"
    ),
    fragment_shader=(
        "#version 430\nlayout(std430, binding = 0) buffer C { vec4 tint[]; }; out vec4 c; void main() { c ="
        " tint[int(gl_FragCoord.x) % 8]; }"
    ),
)
paint = gl.compute_shader(
    "#version 430\nlayout(local_size_x = 8) in; layout(std430, binding = 0) buffer C { vec4 tint[]; }; uniform float t;"
    " void main() { uint i = gl_GlobalInvocationID.x; tint[i] = vec4(fract(float(i) * 0.13 + t), 0.6, fract(t), 1); }"
)
points = np.random.default_rng(3).uniform(-0.8, 0.8, (120, 2)).astype("f4")
source, moved, tint = gl.buffer(points.tobytes()), gl.buffer(reserve=points.nbytes), gl.buffer(reserve=128)
feed = gl.vertex_array(move, [(source, "2f", "p")])
draw = gl.vertex_array(show, [(moved, "2f", "q")])
smooth = gl.framebuffer([gl.renderbuffer((400, 300), samples=4)])
plain = gl.framebuffer([gl.texture((400, 300), 4)])
number = 0
while True:
    number += 1
    tint.bind_to_storage_buffer(0)
    paint["t"].value = number * 0.02
    paint.run(1)
    gl.memory_barrier()
    move["a"].value = number * 0.05
    feed.transform(moved, moderngl.POINTS)
    smooth.use()
    gl.clear(0.1, 0.1, 0.2)
    draw.render(moderngl.POINTS)
    gl.copy_framebuffer(plain, smooth)
    gl.screen.use()
    gl.clear(0, 0, 0)
    draw.render(moderngl.POINTS)
    gl.copy_framebuffer(gl.screen, plain) if number % 2 else None
    glfw.swap_buffers(window)
    glfw.poll_events()
