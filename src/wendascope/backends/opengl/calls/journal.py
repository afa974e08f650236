"""Programs from the journal: what was kept of shaders and programs from the moment they were made."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from wendascope.backends.opengl.calls.packed import CallStream
from wendascope.backends.opengl.objects.records import LooseShaderRecord, ProgramRecord, ShaderRecord
from wendascope.registry import GL, tables

LINKS = ("glLinkProgram", "glLinkProgramARB")


@dataclass
class _Shader:
    type: int
    source: str = ""
    compiled_source: str = ""
    compiled: bool = False
    spirv: bytes = b""
    entry: str = ""
    constants: list[tuple[int, int]] = field(default_factory=list)

    def record(self, name: int) -> ShaderRecord:
        return ShaderRecord(self.type, self.compiled_source, name, self.spirv, self.entry, self.constants)


@dataclass
class _Program:
    attached: list[int] = field(default_factory=list)
    attributes: dict[str, int] = field(default_factory=dict)
    outputs: dict[str, tuple[int, int]] = field(default_factory=dict)
    varyings: list[str] = field(default_factory=list)
    varying_mode: int = GL.INTERLEAVED_ATTRIBS
    separable: bool = False
    linked: ProgramRecord | None = None
    caveat: str = ""


class Journal:
    """Replays journalled calls of one share group, in Python, to the programs they made."""

    def __init__(self, calls: CallStream, group: int) -> None:
        self.programs: dict[int, _Program] = {}
        self.shaders: dict[int, _Shader] = {}
        self.views: dict[int, int] = {}
        """Texture -> the texture that it is a view of."""
        self.caveats: list[str] = []
        """Objects made in ways that a rebuild does not follow."""
        self._calls = calls
        for call in range(len(calls)):
            if int(calls.words[calls.offsets[call] + 1]) >> 32 != group:
                continue
            handler = getattr(self, "_" + calls.command(call).canonical, None)
            if handler is not None:
                handler(call)

    def follow(self, calls: CallStream) -> Iterator[tuple[int, ProgramRecord]]:
        """Go on with the calls of a frame: (call, program as it is linked there) of every link that sources are
        known of.
        """
        self._calls = calls
        commands = tables().commands
        journalled = {i for i in np.unique(calls.ids).tolist() if hasattr(self, "_" + commands[i].canonical)}
        for call in np.flatnonzero(np.isin(calls.ids, list(journalled))).tolist():
            command = calls.command(call)
            getattr(self, "_" + command.canonical)(call)
            if command.name in LINKS:
                record = self.program(self._arg(call, command.parameters[0].name))
                if record is not None:
                    yield call, record

    def program(self, name: int) -> ProgramRecord | None:
        """The program as last linked, or None when it never was."""
        program = self.programs.get(name)
        return program.linked if program else None

    def program_caveat(self, name: int) -> str:
        program = self.programs.get(name)
        return program.caveat if program else "the program was made before the tap saw it"

    def loose_shader(self, name: int) -> LooseShaderRecord | None:
        shader = self.shaders.get(name)
        return LooseShaderRecord(name, shader.type, shader.source, shader.compiled) if shader else None

    def _arg(self, call: int, name: str) -> int:
        return int(self._calls.argument(call, name))

    def _text(self, call: int, name: str) -> str:
        data = self._calls.argument(call, name)
        return data.split(b"\0", 1)[0].decode("utf-8", "replace") if isinstance(data, bytes) else ""

    # ---- one method a journalled command -----------------------------------------------------------

    def _glCreateShader(self, call: int) -> None:
        parameter = self._calls.command(call).parameters[0].name
        self.shaders[self._calls.result(call)] = _Shader(self._arg(call, parameter))

    _glCreateShaderObjectARB = _glCreateShader

    def _glShaderSource(self, call: int) -> None:
        names = [p.name for p in self._calls.command(call).parameters]
        shader = self.shaders.get(self._arg(call, names[0]))
        strings = self._calls.argument(call, "string")
        if shader and isinstance(strings, list):
            shader.source = b"".join(strings).decode("utf-8", "replace")

    def _glCompileShader(self, call: int) -> None:
        shader = self.shaders.get(self._arg(call, self._calls.command(call).parameters[0].name))
        if shader:
            shader.compiled_source = shader.source
            shader.compiled = True

    def _glCreateProgram(self, call: int) -> None:
        self.programs[self._calls.result(call)] = _Program()

    _glCreateProgramObjectARB = _glCreateProgram

    def _glAttachShader(self, call: int) -> None:
        names = [p.name for p in self._calls.command(call).parameters]
        program = self.programs.get(self._arg(call, names[0]))
        if program:
            program.attached.append(self._arg(call, names[1]))

    def _glDetachShader(self, call: int) -> None:
        names = [p.name for p in self._calls.command(call).parameters]
        program = self.programs.get(self._arg(call, names[0]))
        if program and self._arg(call, names[1]) in program.attached:
            program.attached.remove(self._arg(call, names[1]))

    def _glBindAttribLocation(self, call: int) -> None:
        first = self._calls.command(call).parameters[0].name
        program = self.programs.get(self._arg(call, first))
        if program:
            program.attributes[self._text(call, "name")] = self._arg(call, "index")

    def _glBindFragDataLocation(self, call: int) -> None:
        program = self.programs.get(self._arg(call, "program"))
        if program:
            number = "color" if any(p.name == "color" for p in self._calls.command(call).parameters) else "colorNumber"
            program.outputs[self._text(call, "name")] = (self._arg(call, number), 0)

    def _glBindFragDataLocationIndexed(self, call: int) -> None:
        program = self.programs.get(self._arg(call, "program"))
        if program:
            program.outputs[self._text(call, "name")] = (self._arg(call, "colorNumber"), self._arg(call, "index"))

    def _glTransformFeedbackVaryings(self, call: int) -> None:
        program = self.programs.get(self._arg(call, "program"))
        strings = self._calls.argument(call, "varyings")
        if program and isinstance(strings, list):
            program.varyings = [s.split(b"\0", 1)[0].decode() for s in strings]
            program.varying_mode = self._arg(call, "bufferMode")

    def _glProgramParameteri(self, call: int) -> None:
        program = self.programs.get(self._arg(call, "program"))
        if program and self._arg(call, "pname") == GL.PROGRAM_SEPARABLE:
            program.separable = bool(self._arg(call, "value"))

    def _glProgramBinary(self, call: int) -> None:
        name = self._arg(call, "program")
        program, data = self.programs.get(name), self._calls.argument(call, "binary")
        if program and isinstance(data, bytes):
            program.caveat = (
                "the program was loaded from a binary; its source is not known, and other drivers may refuse it"
            )
            program.linked = ProgramRecord(
                name, [], linked=True, binary=data, binary_format=self._arg(call, "binaryFormat")
            )

    def _glLinkProgram(self, call: int) -> None:
        name = self._arg(call, self._calls.command(call).parameters[0].name)
        program = self.programs.get(name)
        if program is None:
            return
        shaders = [self.shaders[s].record(s) for s in program.attached if s in self.shaders]
        sourceless = any(not s.source and not s.spirv for s in shaders)
        program.caveat = "a shader was loaded in a binary form that is not kept" if sourceless else ""
        program.linked = ProgramRecord(
            name,
            shaders,
            linked=True,
            attributes=dict(program.attributes),
            outputs=dict(program.outputs),
            feedback_varyings=list(program.varyings),
            feedback_mode=program.varying_mode,
            separable=program.separable,
        )

    _glLinkProgramARB = _glLinkProgram
    _glShaderSourceARB = _glShaderSource
    _glCompileShaderARB = _glCompileShader
    _glAttachObjectARB = _glAttachShader
    _glDetachObjectARB = _glDetachShader

    def _glCreateShaderProgramv(self, call: int) -> None:
        name = self._calls.result(call)
        strings = self._calls.argument(call, "strings")
        source = b"".join(s.split(b"\0", 1)[0] for s in strings).decode("utf-8", "replace") if strings else ""
        shader = ShaderRecord(self._arg(call, "type"), source)
        self.programs[name] = _Program(
            linked=ProgramRecord(name, [shader], linked=True, separable=True), separable=True
        )

    def _name_caveat(self, text: str) -> None:
        if text not in self.caveats:
            self.caveats.append(text)

    def _glTextureView(self, call: int) -> None:
        self.views[self._arg(call, "texture")] = self._arg(call, "origtexture")

    def _glEGLImageTargetTexture2DOES(self, call: int) -> None:
        self._name_caveat("textures shared with other programs are rebuilt as they were at the start of the frame")

    def _glMakeTextureHandleResidentARB(self, call: int) -> None:
        self._name_caveat("bindless handles are not translated")

    def _glTexPageCommitmentARB(self, call: int) -> None:
        self._name_caveat("sparse storage is not rebuilt")

    def _glShaderBinary(self, call: int) -> None:
        names, data = self._calls.argument(call, "shaders"), self._calls.argument(call, "binary")
        if (
            not isinstance(names, bytes)
            or not isinstance(data, bytes)
            or self._arg(call, "binaryFormat") != GL.SHADER_BINARY_FORMAT_SPIR_V
        ):
            return
        for name in np.frombuffer(names, np.uint32).tolist():
            if name in self.shaders:
                self.shaders[name].spirv = data

    def _glSpecializeShader(self, call: int) -> None:
        shader = self.shaders.get(self._arg(call, "shader"))
        if shader:
            indices, values = (self._calls.argument(call, n) for n in ("pConstantIndex", "pConstantValue"))
            if isinstance(indices, bytes) and isinstance(values, bytes):
                shader.constants = list(
                    zip(
                        np.frombuffer(indices, np.uint32).tolist(),
                        np.frombuffer(values, np.uint32).tolist(),
                        strict=False,
                    )
                )
            shader.entry = self._text(call, "pEntryPoint") or "main"
            shader.compiled = True
            shader.compiled_source = ""
