"""Shaders and programs: made anew from what the journal kept, with their uniforms."""

from __future__ import annotations

import struct

import msgspec

from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.packed import CallBatch, Out, merge_streams
from wendascope.backends.opengl.objects.records import Objects, ProgramRecord, ShaderRecord
from wendascope.backends.opengl.objects.uniform_values import initial_value, set_uniform
from wendascope.backends.opengl.rebuild._site import Site
from wendascope.backends.opengl.rebuild.executor import now_doing
from wendascope.backends.opengl.snapshot import Reader, describe_programs
from wendascope.registry import GL

_LOG = 1024


def build_programs(site: Site, objects: Objects) -> list[str]:
    """Make shaders and programs. Returns a line for each program that was linked when captured and does not link
    here.
    """
    batch = site.batch()
    shaders = []
    made = []
    for loose in objects.shaders:
        shaders.append((loose.name, batch.call("glCreateShader", loose.type), loose.source, loose.compiled))
    for program in (*objects.programs, *objects.relinked):
        handles = [(batch.call("glCreateShader", s.type), s) for s in program.shaders]
        made.append((program, batch.call("glCreateProgram"), handles))
    site.executor.run(batch)
    batch = site.batch()
    for name, result, source, compiled in shaders:
        site.names.set("shader", name, result.value)
        if source:
            batch.call("glShaderSource", result.value, 1, [source.encode()], struct.pack("<i", len(source.encode())))
        if compiled:
            batch.call("glCompileShader", result.value)
    now_doing("a shader without a program")
    site.executor.run(batch)
    said: dict[int, list[Out]] = {}
    for program, here, handles in made:
        site.names.set("program", program.name, here.value)
        batch = site.batch()
        said[program.name] = _link(batch, program, here.value, [(handle.value, shader) for handle, shader in handles])
        now_doing(f"program {program.name}")
        site.executor.run(batch)
    now_doing("")
    failed = _check_links(site, [(program, here.value) for program, here, _ in made], said)
    _read_locations(site, objects)
    _describe_relinked(site, objects.relinked)
    return failed


def _describe_relinked(site: Site, programs: list[ProgramRecord]) -> None:
    """Ask this driver what nobody could ask in the target, where these programs were linked within the frame."""
    if not programs:
        return
    reader = Reader(site.executor, site.frame.context, {}, Journal(merge_streams([]), 0), Kept.parse(b""), (0, 0))
    here = [
        msgspec.structs.replace(p, name=site.names.get("program", p.name), uniforms=[], blocks={}, storage_blocks={})
        for p in programs
    ]
    describe_programs(reader, here)
    for program, told in zip(programs, here, strict=True):
        program.uniforms, program.blocks, program.storage_blocks = told.uniforms, told.blocks, told.storage_blocks


def _link(batch: CallBatch, program: ProgramRecord, here: int, shaders: list[tuple[int, ShaderRecord]]) -> list[Out]:
    """Returns what the compiler says of each shader, once the batch has run."""
    call = batch.call
    logs: list[Out] = []
    if program.binary:
        call("glProgramBinary", here, program.binary_format, program.binary, len(program.binary))
        return logs
    for handle, shader in shaders:
        text = shader.source.encode()
        if shader.spirv:
            call(
                "glShaderBinary",
                1,
                struct.pack("<I", handle),
                GL.SHADER_BINARY_FORMAT_SPIR_V,
                shader.spirv,
                len(shader.spirv),
            )
            indices, values = (
                struct.pack(f"<{len(part)}I", *part) for part in list(zip(*shader.constants, strict=True)) or [(), ()]
            )
            call("glSpecializeShader", handle, shader.entry.encode() + b"\0", len(shader.constants), indices, values)
        else:
            call("glShaderSource", handle, 1, [text], struct.pack("<i", len(text)))
            call("glCompileShader", handle)
            logs.append(batch.out(_LOG))
            call("glGetShaderInfoLog", handle, _LOG, None, logs[-1])
        call("glAttachShader", here, handle)
    for name, location in program.attributes.items():
        if location >= 0:
            call("glBindAttribLocation", here, location, name.encode() + b"\0")
    for name, (number, index) in program.outputs.items():
        if index:
            call("glBindFragDataLocationIndexed", here, number, index, name.encode() + b"\0")
        else:
            call("glBindFragDataLocation", here, number, name.encode() + b"\0")
    if program.feedback_varyings:
        varyings = [v.encode() for v in program.feedback_varyings]
        call("glTransformFeedbackVaryings", here, len(varyings), varyings, program.feedback_mode)
    if program.separable:
        call("glProgramParameteri", here, GL.PROGRAM_SEPARABLE, 1)
    call("glLinkProgram", here)
    for handle, _ in shaders:
        call("glDetachShader", here, handle)
        call("glDeleteShader", handle)
    return logs


def _check_links(site: Site, programs: list[tuple[ProgramRecord, int]], said: dict[int, list[Out]]) -> list[str]:
    batch = site.batch()
    rows = []
    for program, here in programs:
        status, log = batch.out(4), batch.out(2048)
        batch.call("glGetProgramiv", here, GL.LINK_STATUS, status)
        batch.call("glGetProgramInfoLog", here, 2048, None, log)
        rows.append((program, status, log))
    site.executor.run(batch)
    return [
        f"program {program.name} does not link here:"
        f" {_first_line([*(out.text() for out in said.get(program.name, [])), log.text()])}"
        for program, status, log in rows
        if program.linked and not status.ints()[0]
    ]


def _first_line(logs: list[str]) -> str:
    """The first error of a compiler, else the first thing that is said at all."""
    lines = [line for log in logs for line in log.splitlines() if line.strip()]
    return next((line for line in lines if "error" in line.lower()), lines[0] if lines else "no reason given")


def _read_locations(site: Site, objects: Objects) -> None:
    batch = site.batch()
    rows = []
    for program in objects.programs:
        here = site.names.get("program", program.name)
        for uniform in program.uniforms:
            base = uniform.name.removesuffix("[0]")
            for k, location in enumerate(uniform.locations):
                name = uniform.name if k == 0 else f"{base}[{k}]"
                rows.append((program.name, location, batch.call("glGetUniformLocation", here, name.encode() + b"\0")))
        for block, (index, _) in program.blocks.items():
            rows.append((~program.name, index, batch.call("glGetUniformBlockIndex", here, block.encode() + b"\0")))
    site.executor.run(batch)
    for program_name, captured, result in rows:
        value = result.value & 0xFFFFFFFF
        if program_name < 0:
            site.names.blocks.setdefault(~program_name, {})[captured] = value
        else:
            site.names.locations.setdefault(program_name, {})[captured & 0xFFFFFFFF] = value


def define_uniforms(site: Site, batch: CallBatch, program: ProgramRecord) -> None:
    """Uniform values and block bindings of one program. Leaves it in use."""
    here = site.names.get("program", program.name)
    locations = site.names.locations.get(program.name, {})
    batch.call("glUseProgram", here)
    for uniform in program.uniforms:
        for captured in uniform.locations:
            data = initial_value(uniform, captured)
            location = locations.get(captured & 0xFFFFFFFF, 0xFFFFFFFF)
            if location != 0xFFFFFFFF and data:
                set_uniform(batch, uniform.type, location - ((1 << 32) if location >> 31 else 0), data)
    for index, binding in program.blocks.values():
        batch.call("glUniformBlockBinding", here, site.names.blocks.get(program.name, {}).get(index, index), binding)
    for index, binding in program.storage_blocks.values():
        batch.call("glShaderStorageBlockBinding", here, index, binding)
