"""Programs that a frame links anew, and objects that it makes anew under an old name."""

from __future__ import annotations

from OpenGL import GL

from ._case import Draw, known
from ._draw import FLAT, HEIGHT, TEXTURED, VERTEX, WIDTH, Painter, clear, noise, onto, texture


def _attached(vertex: str, fragment: str) -> tuple[int, int]:
    """(program, its fragment shader), both shaders still attached."""
    program = GL.glCreateProgram()
    shaders = []
    for kind, source in ((GL.GL_VERTEX_SHADER, vertex), (GL.GL_FRAGMENT_SHADER, fragment)):
        shader = GL.glCreateShader(kind)
        GL.glShaderSource(shader, source)
        GL.glCompileShader(shader)
        GL.glAttachShader(program, shader)
        shaders.append(shader)
    GL.glLinkProgram(program)
    assert GL.glGetProgramiv(program, GL.GL_LINK_STATUS)
    return program, shaders[1]


@known(allow=("mergeable", "covered-clear"))
def linked_again_every_frame() -> Draw:
    """Sixty strips side by side by a program that every frame links again: all are visible, the replay is identical."""
    paint = Painter()
    program, _ = _attached(VERTEX, FLAT)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glLinkProgram(program)
        GL.glUseProgram(program)
        where, what = (GL.glGetUniformLocation(program, n) for n in ("rect", "colour"))
        for k in range(60):
            GL.glUniform4f(where, 2 * k / 60 - 1, -1, 2 * (k + 1) / 60 - 1, 1)
            GL.glUniform4f(what, k / 60, 1 - k / 60, 0.5, 1)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    assert paint.program
    return draw


@known()
def linked_with_another_source() -> Draw:
    """A program draws, gets another fragment source, is compiled and linked again, and draws: two colours, nothing
    to find.
    """
    paint = Painter()
    program, shader = _attached(VERTEX, FLAT)
    sources = (FLAT, FLAT.replace("result = colour", "result = colour.bgra"))

    def draw(_: int) -> None:
        onto(0)
        clear()
        for k, source in enumerate(sources):
            GL.glShaderSource(shader, source)
            GL.glCompileShader(shader)
            GL.glLinkProgram(program)
            GL.glUseProgram(program)
            GL.glUniform4f(GL.glGetUniformLocation(program, "rect"), k - 1, -1, k - 0.2, 0.5)
            GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), 1, 0.5, 0, 1)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    assert paint.program
    return draw


@known()
def linked_while_in_use() -> Draw:
    """A program is in use while it is linked again with another source: the new one draws without another
    glUseProgram.
    """
    paint = Painter()
    program, shader = _attached(VERTEX, FLAT)
    sources = (FLAT, FLAT.replace("result = colour", "result = vec4(1.0) - colour"))

    def draw(number: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        for k in (0, 1):
            GL.glShaderSource(shader, sources[(number + k) % 2])
            GL.glCompileShader(shader)
            GL.glLinkProgram(program)
            GL.glUniform4f(GL.glGetUniformLocation(program, "rect"), k - 1, -1, k - 0.3, 1)
            GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), 0.9, 0.2, 0.4, 0)
            GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    assert paint.program
    return draw


@known()
def linking_resets_uniforms() -> Draw:
    """A uniform is set before a link and not after: it is black then, and the second rectangle shows it."""
    paint = Painter()
    program, _ = _attached(VERTEX.replace("= vec4(-1.0, -1.0, 1.0, 1.0)", ""), FLAT)

    def draw(_: int) -> None:
        onto(0)
        clear()
        GL.glUseProgram(program)
        where, what = (GL.glGetUniformLocation(program, n) for n in ("rect", "colour"))
        GL.glUniform4f(what, 1, 1, 0, 1)
        GL.glUniform4f(where, -1, -1, 0, 1)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        GL.glLinkProgram(program)
        GL.glUniform4f(where, 0, -1, 0.9, 1)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)

    assert paint.program
    return draw


@known()
def a_program_made_in_the_frame() -> Draw:
    """A program is made, used and deleted within each frame."""
    paint = Painter()

    def draw(number: int) -> None:
        onto(0)
        clear()
        program, shader = _attached(VERTEX, FLAT.replace("colour;", "colour;", 1))
        GL.glUseProgram(program)
        GL.glUniform4f(GL.glGetUniformLocation(program, "rect"), -0.5, -0.5, 0.5, 0.5)
        GL.glUniform4f(GL.glGetUniformLocation(program, "colour"), 0.5, 0.25, (number % 7) / 7, 1)
        GL.glDrawArrays(GL.GL_TRIANGLE_STRIP, 0, 4)
        GL.glUseProgram(0)
        GL.glDeleteShader(shader)
        GL.glDeleteProgram(program)

    assert paint.program
    return draw


@known(finds={"covered-clear": {0}})
def a_texture_made_anew() -> Draw:
    """A texture is deleted, its name made anew with other contents, and shown, within each frame; it shows half of
    each.
    """
    show = Painter(TEXTURED)
    images = [noise(WIDTH, HEIGHT, 1), noise(WIDTH, HEIGHT, 2)]

    def draw(_: int) -> None:
        onto(0)
        clear()
        show.use()
        for k, image in enumerate(images):
            name = texture(WIDTH, HEIGHT, image)
            show.place(80 * k, 0, 80 + 80 * k, HEIGHT).draw()
            GL.glDeleteTextures(1, [name])

    return draw
