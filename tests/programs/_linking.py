"""Shader programs for the test programs. Import it once the GL binding has been told how to behave."""

from __future__ import annotations

from OpenGL import GL


def make_program(vertex: str, fragment: str) -> int:
    """Compile and link two shaders."""
    program = GL.glCreateProgram()
    for kind, source in ((GL.GL_VERTEX_SHADER, vertex), (GL.GL_FRAGMENT_SHADER, fragment)):
        shader = GL.glCreateShader(kind)
        GL.glShaderSource(shader, source)
        GL.glCompileShader(shader)
        GL.glAttachShader(program, shader)
        GL.glDeleteShader(shader)
    GL.glLinkProgram(program)
    assert GL.glGetProgramiv(program, GL.GL_LINK_STATUS), GL.glGetProgramInfoLog(program)
    return int(program)
