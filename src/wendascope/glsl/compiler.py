"""GLSL to SPIR-V by glslang, for looking at a shader: nothing that comes out of it is run."""

from __future__ import annotations

import contextlib
import functools
import itertools
import os
import re
import resource
import shutil
import subprocess
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor

from wendascope.confinement import start_confined
from wendascope.errors import MachineError
from wendascope.files import OwnFolder
from wendascope.glsl.preprocessor import Dialect, PreprocessorError, preprocessed
from wendascope.glsl.stages import Stage
from wendascope.glsl.upgrade import upgraded

_PROGRAM = "glslangValidator"
_SECONDS = 10
_MEMORY = 4 << 30
_KEPT = 512
"""Modules that are kept for those who ask again."""
STAGES: dict[int, str] = {
    Stage.VERTEX: "vert",
    Stage.FRAGMENT: "frag",
    Stage.GEOMETRY: "geom",
    Stage.TESSELLATION_CONTROL: "tesc",
    Stage.TESSELLATION_EVALUATION: "tese",
    Stage.COMPUTE: "comp",
}
"""Stage -> what glslang calls it."""


class CompileError(Exception):
    """The source is refused. `errors` are (line, text), line 0 where none is told."""

    def __init__(self, errors: list[tuple[int, str]]) -> None:
        self.errors = errors
        line, text = errors[0] if errors else (0, "no reason given")
        super().__init__(f"line {line}: {text}" if line else text)


@functools.lru_cache(_KEPT)
def compile_glsl(source: str, stage: int, dialect: Dialect) -> bytes:
    """The SPIR-V module of a shader of any version, with its lines. Raises CompileError, MachineError."""
    try:
        code = preprocessed(source, dialect)
    except PreprocessorError as error:
        raise CompileError([(error.line, error.text)]) from error
    program = shutil.which(_PROGRAM)
    if program is None:
        raise MachineError(f"{_PROGRAM} is missing; install the package glslang-tools to look into shaders")
    if stage not in STAGES:
        raise CompileError([(0, "shaders of this stage are not compiled")])
    with OwnFolder() as folder:
        text, module = folder / f"shader.{STAGES[stage]}", folder / "shader.spv"
        text.write_text(upgraded(code.text, stage, dialect.es))
        command = [program, "-G", "--auto-map-locations", "--auto-map-bindings", "-g", "-o", str(module), str(text)]
        failed, output = _run(command, str(folder))
        if failed or not module.exists():
            raise CompileError(_errors(output))
        return module.read_bytes()


def compile_ahead(shaders: Iterable[tuple[str, int]], dialect: Dialect) -> None:
    """Compile many sources, each with its stage, side by side: `compile_glsl` has them at once then, until others come.
    The compiler links all files of a call that are of one stage, so each is a call of its own.
    """

    def attempt(shader: tuple[str, int]) -> None:
        with contextlib.suppress(CompileError, MachineError):  # whoever asks for it again hears of it
            compile_glsl(*shader, dialect)

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(attempt, itertools.islice(dict.fromkeys(shaders), _KEPT)))


def _run(command: list[str], folder: str) -> tuple[int, str]:
    """Exit code and output. The source may be a stranger's: the compiler reaches nothing else, and has limits.
    Raises CompileError.
    """
    process = start_confined(
        command, folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT
    )
    with contextlib.suppress(ProcessLookupError):
        resource.prlimit(process.pid, resource.RLIMIT_AS, (_MEMORY, _MEMORY))
        resource.prlimit(process.pid, resource.RLIMIT_CPU, (_SECONDS, _SECONDS + 1))  # should nobody be left to end it
    try:
        output, _ = process.communicate(timeout=_SECONDS)
    except subprocess.TimeoutExpired as error:
        process.kill()
        process.communicate()
        raise CompileError([(0, f"{_PROGRAM} took longer than {_SECONDS} s")]) from error
    return process.returncode, output.decode("utf-8", "replace")


def _errors(output: str) -> list[tuple[int, str]]:
    found = []
    for line in output.splitlines():
        told = line.startswith("ERROR:")
        if told and "compilation errors" not in line and "compilation terminated" not in line:
            place = re.match(r"ERROR: [^:]*:(\d+): (.*)", line)
            found.append((int(place[1]), place[2]) if place else (0, line.removeprefix("ERROR: ")))
    return found or [(0, output.strip()[:200] or "no reason given")]
