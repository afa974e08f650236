"""GLSL to SPIR-V by glslang, for looking at a shader: nothing that comes out of it is run."""

from __future__ import annotations

import functools
import re
import shutil
import subprocess
import tempfile
from pathlib import Path

from wendascope.errors import MachineError
from wendascope.frame.glsl_upgrade import upgraded
from wendascope.registry import GL

_PROGRAM = "glslangValidator"
_SECONDS = 20
STAGES = {
    GL.VERTEX_SHADER: "vert", GL.FRAGMENT_SHADER: "frag", GL.GEOMETRY_SHADER: "geom", GL.TESS_CONTROL_SHADER: "tesc",
    GL.TESS_EVALUATION_SHADER: "tese", GL.COMPUTE_SHADER: "comp",
}  # fmt: skip
"""Stage -> what glslang calls it."""


class CompileError(Exception):
    """The source is refused. `errors` are (line, text), line 0 where none is told."""

    def __init__(self, errors: list[tuple[int, str]]) -> None:
        self.errors = errors
        line, text = errors[0] if errors else (0, "no reason given")
        super().__init__(f"line {line}: {text}" if line else text)


@functools.lru_cache(512)
def compile_glsl(source: str, stage: int, es: bool) -> bytes:
    """The SPIR-V module of a shader of any version, with its lines. Raises CompileError, MachineError."""
    program = shutil.which(_PROGRAM)
    if program is None:
        raise MachineError(f"{_PROGRAM} is missing; install the package glslang-tools to look into shaders")
    if stage not in STAGES:
        raise CompileError([(0, "shaders of this stage are not compiled")])
    with tempfile.TemporaryDirectory(prefix="wendascope-") as folder:
        text, module = Path(folder) / f"shader.{STAGES[stage]}", Path(folder) / "shader.spv"
        text.write_text(upgraded(source, stage, es))
        command = [program, "-G", "--auto-map-locations", "--auto-map-bindings", "-g", "-o", str(module), str(text)]
        try:
            done = subprocess.run(command, capture_output=True, text=True, errors="replace", timeout=_SECONDS, check=False)
        except subprocess.TimeoutExpired as error:
            raise CompileError([(0, f"{_PROGRAM} took longer than {_SECONDS} s")]) from error
        if done.returncode or not module.exists():
            raise CompileError(_errors(done.stdout))
        return module.read_bytes()


def _errors(output: str) -> list[tuple[int, str]]:
    found = []
    for line in output.splitlines():
        told = line.startswith("ERROR:")
        if told and "compilation errors" not in line and "compilation terminated" not in line:
            place = re.match(r"ERROR: [^:]*:(\d+): (.*)", line)
            found.append((int(place[1]), place[2]) if place else (0, line.removeprefix("ERROR: ")))
    return found or [(0, output.strip()[:200] or "no reason given")]
