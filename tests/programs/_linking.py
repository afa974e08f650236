"""Shader programs for the test programs."""

from __future__ import annotations

import _running  # noqa: F401  (tells the GL binding how to behave before it is imported)
from OpenGL import GL


def link(stages: dict[int, str], separable: bool = False, feedback: tuple[str, ...] = ()) -> int:
    """Compile shaders by stage and link them."""
    program = GL.glCreateProgram()
    for kind, source in stages.items():
        shader = GL.glCreateShader(kind)
        GL.glShaderSource(shader, source)
        GL.glCompileShader(shader)
        assert GL.glGetShaderiv(shader, GL.GL_COMPILE_STATUS), GL.glGetShaderInfoLog(shader)
        GL.glAttachShader(program, shader)
        GL.glDeleteShader(shader)
    if separable:
        GL.glProgramParameteri(program, GL.GL_PROGRAM_SEPARABLE, 1)
    if feedback:
        GL.glTransformFeedbackVaryings(program, len(feedback), _names(feedback), GL.GL_INTERLEAVED_ATTRIBS)
    GL.glLinkProgram(program)
    assert GL.glGetProgramiv(program, GL.GL_LINK_STATUS), GL.glGetProgramInfoLog(program)
    return int(program)


def _names(names: tuple[str, ...]):
    import ctypes

    return ctypes.cast(
        (ctypes.c_char_p * len(names))(*(n.encode() for n in names)), ctypes.POINTER(ctypes.POINTER(ctypes.c_char))
    )


def make_program(vertex: str, fragment: str) -> int:
    """Compile and link a vertex and a fragment shader."""
    return link({GL.GL_VERTEX_SHADER: vertex, GL.GL_FRAGMENT_SHADER: fragment})
