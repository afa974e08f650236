"""A program of the moderngl library in a GLFW window."""

from __future__ import annotations

import glfw
import moderngl
import numpy as np

VERTEX = """#version 330
in vec2 place;
in vec2 shift;
in vec3 tint;
uniform float time;
out vec3 paint;
void main() { paint = tint; gl_Position = vec4(place * 0.06 + shift + 0.02 * sin(time + shift.yx * 9.0), 0.0, 1.0); }
"""
FRAGMENT = """#version 330
in vec3 paint;
uniform sampler2D grain;
uniform Colours { vec4 light; vec4 dark; };
out vec4 color;
void main() { color = mix(dark, light, texture(grain, gl_FragCoord.xy / 32.0).r) * vec4(paint, 1.0); }
"""


def main() -> None:
    assert glfw.init()
    glfw.window_hint(glfw.CONTEXT_VERSION_MAJOR, 3)
    glfw.window_hint(glfw.CONTEXT_VERSION_MINOR, 3)
    glfw.window_hint(glfw.OPENGL_PROFILE, glfw.OPENGL_CORE_PROFILE)
    window = glfw.create_window(320, 240, "moderngl", None, None)
    glfw.make_context_current(window)
    context = moderngl.create_context()
    random = np.random.default_rng(5)
    program = context.program(vertex_shader=VERTEX, fragment_shader=FRAGMENT)
    corners = context.buffer(np.array([-1, -1, 1, -1, 0, 1], "f4").tobytes())
    instances = context.buffer(
        np.concatenate([random.uniform(-0.9, 0.9, (60, 2)), random.random((60, 3))], 1).astype("f4").tobytes()
    )
    array = context.vertex_array(program, [(corners, "2f", "place"), (instances, "2f 3f/i", "shift", "tint")])
    grain = context.texture((32, 32), 1, random.integers(0, 255, 1024).astype("u1").tobytes())
    colours = context.buffer(np.array([1, 0.9, 0.7, 1, 0.1, 0.2, 0.3, 1], "f4").tobytes())
    program["Colours"].binding = 1  # type: ignore[union-attr]
    target = context.framebuffer([context.texture((160, 120), 4)], context.depth_renderbuffer((160, 120)))
    frame = 0
    while not glfw.window_should_close(window):
        program["time"] = frame * 0.1
        grain.use(0)
        colours.bind_to_uniform_block(1)
        target.use()
        target.clear(0.2, 0.1, 0.1)
        array.render(moderngl.TRIANGLES, instances=30)
        context.screen.use()
        context.clear(0.0, 0.1, 0.2)
        target.color_attachments[0].use(0)  # type: ignore[union-attr]
        array.render(moderngl.TRIANGLES, instances=60)
        glfw.swap_buffers(window)
        glfw.poll_events()
        frame += 1


if __name__ == "__main__":
    main()
