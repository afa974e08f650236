"""A program of the moderngl library without a window: it never swaps, its frames end where it reads them back."""

from __future__ import annotations

import moderngl
import numpy as np


def main() -> None:
    context = moderngl.create_standalone_context(require=330, backend="egl")  # type: ignore[arg-type]
    program = context.program(
        vertex_shader=(
            "#version 330\nin vec2 place; uniform float time; void main() { gl_Position = vec4(place + 0.1 * sin(time),"
            " 0.0, 1.0); }"
        ),
        fragment_shader=(
            "#version 330\nout vec4 color; void main() { color = vec4(fract(gl_FragCoord.xy / 64.0), 0.5, 1.0); }"
        ),
    )
    array = context.vertex_array(program, context.buffer(np.array([-1, -1, 1, -1, 0, 1], "f4").tobytes()), "place")
    target = context.simple_framebuffer((200, 100))
    frame = 0
    while True:
        program["time"] = frame * 0.1
        target.use()
        target.clear(0.1, 0.2, 0.3, 1.0)
        array.render()
        target.read()
        frame += 1


if __name__ == "__main__":
    main()
