"""Programs as the driver compiles them: their sources without conditions and macros."""

from __future__ import annotations

import msgspec

from wendascope.backends.opengl.objects.records import ProgramRecord
from wendascope.glsl.preprocessor import Dialect, compiled_text


def compiled_program(program: ProgramRecord, dialect: Dialect) -> ProgramRecord:
    """The program with what of its sources is compiled; a source of which that cannot be told stays as it is."""
    texts = [compiled_text(s.source, dialect) for s in program.shaders]
    if texts == [s.source for s in program.shaders]:
        return program
    shaders = [msgspec.structs.replace(s, source=text) for s, text in zip(program.shaders, texts, strict=True)]
    return msgspec.structs.replace(program, shaders=shaders)
