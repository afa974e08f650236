"""Calls that change what draws depend on in a way that nobody follows: of what comes after them, nothing is said."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.state.state_table import PATTERNS
from wendascope.frame.numbers import Mask
from wendascope.registry import Role, tables
from wendascope.registry.roles import STEPS

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

FOLLOWED = (
    STEPS | Role.HARMLESS | Role.NOT_REPLAYED | Role.WITH_DRAW | Role.WRITES_TEXTURE | Role.REDEFINES_TEXTURE
    | Role.WRITES_BUFFER | Role.COPIES_TO_BUFFER | Role.WRITES_FRAMEBUFFER | Role.SETS_UNIFORM | Role.COMPILES
    | Role.MAPS | Role.READS_BACK | Role.READS_PIXELS | Role.KEEPS_ORDER
)  # fmt: skip
"""What is followed without being state of the table: contents of objects, work, questions."""
FOLLOWED_BY_NAME = frozenset(
    "glPopName glPushName glInitNames glLoadName glPassThrough glListBase glSelectBuffer glFeedbackBuffer"
    " glPrioritizeTextures glReleaseShaderCompiler glBindAttribLocation glBindFragDataLocation"
    " glBindFragDataLocationIndexed glTransformFeedbackVaryings glProgramParameteri glAttachShader glDetachShader"
    " glShaderSource glValidateProgram glValidateProgramPipeline glShaderBinary glUnmapBuffer glUnmapNamedBuffer"
    " glInvalidateSubFramebuffer glInvalidateNamedFramebufferData glInvalidateNamedFramebufferSubData"
    " glNamedRenderbufferStorage glNamedRenderbufferStorageMultisample glRenderbufferStorage"
    " glRenderbufferStorageMultisample glQueryCounter glClearAccum glClearIndex glIndexMask"
    " glUniformSubroutinesuiv glCheckFramebufferStatus glCheckNamedFramebufferStatus glBlendBarrier"
    " glSamplerParameteri glSamplerParameteriv glSamplerParameterf glSamplerParameterfv glSamplerParameterIiv"
    " glSamplerParameterIuiv wendaWriteBuffer".split()
)
"""Calls that draws do not depend on, or that are followed elsewhere: links, storage, mappings, samplers."""


def untracked_calls(frame: OpenGLFrame) -> Mask:
    """Calls that change what nobody follows, shape (calls,): fixed-function state above all."""
    return np.asarray(untracked_commands()[frame.calls.ids])


@functools.cache
def untracked_commands() -> Mask:
    """Which commands are untracked, shape (commands,)."""
    tracked = {name for pattern in PATTERNS.values() for name in pattern.setters}
    return np.array(
        [
            command.canonical not in tracked and command.canonical not in FOLLOWED_BY_NAME and not command.has(FOLLOWED)
            for command in tables().commands
        ],
        bool,
    )
