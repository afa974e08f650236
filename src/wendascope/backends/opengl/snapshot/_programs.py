"""Programs and shaders: what the journal kept, and what GL tells of them."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch, Out
from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.records import LooseShaderRecord, ProgramRecord, UniformRecord
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL


def read_shaders(reader: Reader) -> list[LooseShaderRecord]:
    records = (reader.journal.loose_shader(name) for name in reader.alive("shader", "glIsShader"))
    return [record for record in records if record is not None]


def read_programs(reader: Reader) -> list[ProgramRecord]:
    records = []
    for name in reader.alive("program", "glIsProgram"):
        record = reader.journal.program(name)
        caveat = reader.journal.program_caveat(name)
        if caveat:
            reader.caveats.append(f"program {name}: {caveat}")
        if record is None:
            continue
        records.append(record)
    describe_programs(reader, records)
    for record, label in zip(records, reader.labels(GL.PROGRAM, [r.name for r in records]), strict=True):
        record.label = label
    return records


def describe_programs(reader: Reader, records: list[ProgramRecord]) -> None:
    """Fill in what GL tells of linked programs: attributes, uniforms with their values, blocks."""
    _active_names(reader, records)
    _uniform_values(reader, records)


def _active_names(reader: Reader, records: list[ProgramRecord]) -> None:
    counts = {}
    batch = CallBatch()
    queries = ("LINK_STATUS", "ACTIVE_ATTRIBUTES", "ACTIVE_UNIFORMS", "ACTIVE_UNIFORM_BLOCKS")
    for record in records:
        counts[record.name] = [batch.out(4) for _ in queries]
        for query, out in zip(queries, counts[record.name], strict=True):
            if not reader.offers.value(getattr(GL, query)):
                continue
            batch.call("glGetProgramiv", record.name, getattr(GL, query), out)
    reader.executor.run(batch)
    batch = CallBatch()
    rows: list[tuple[ProgramRecord, str, int, list[Out]]] = []
    for record in records:
        linked, attributes, uniforms, blocks = (out.ints()[0] for out in counts[record.name])
        record.linked = bool(linked)
        for command, count in (("glGetActiveAttrib", attributes), ("glGetActiveUniform", uniforms)):
            for index in range(count):
                size, type_, name = batch.out(4), batch.out(4), batch.out(256)
                batch.call(command, record.name, index, 256, None, size, type_, name)
                rows.append((record, command, index, [size, type_, name]))
        for index in range(blocks):
            name, binding = batch.out(256), batch.out(4)
            batch.call("glGetActiveUniformBlockName", record.name, index, 256, None, name)
            batch.call("glGetActiveUniformBlockiv", record.name, index, GL.UNIFORM_BLOCK_BINDING, binding)
            rows.append((record, "block", index, [name, binding]))
    reader.executor.run(batch)
    _locations(reader, rows)
    if reader.offers.value(GL.SHADER_STORAGE_BLOCK):
        _storage_blocks(reader, records)


def _locations(reader: Reader, rows: list[tuple[ProgramRecord, str, int, list[Out]]]) -> None:
    batch = CallBatch()
    asked = []
    for record, command, index, outs in rows:
        if command == "block":
            record.blocks[outs[0].text()] = (index, outs[1].ints()[0])
            continue
        name = outs[2].text()
        if command == "glGetActiveAttrib":
            if not name.startswith("gl_"):
                asked.append(
                    (record, name, 1, 0, [batch.call("glGetAttribLocation", record.name, name.encode() + b"\0")])
                )
            continue
        size, type_ = outs[0].ints()[0], outs[1].ints()[0]
        base = name.removesuffix("[0]")
        elements = [name] + [f"{base}[{k}]" for k in range(1, size)]
        results = [batch.call("glGetUniformLocation", record.name, e.encode() + b"\0") for e in elements]
        asked.append((record, name, size, type_, results))
    reader.executor.run(batch)
    for record, name, size, type_, results in asked:
        locations = [
            int.from_bytes((r.value & 0xFFFFFFFF).to_bytes(4, "little"), "little", signed=True) for r in results
        ]
        if type_ == 0:
            record.attributes[name] = locations[0]
        elif locations[0] >= 0:
            record.uniforms.append(UniformRecord(name, type_, size, locations))


def _uniform_values(reader: Reader, records: list[ProgramRecord]) -> None:
    batch = CallBatch()
    rows: list[tuple[UniformRecord, int, list[Out]]] = []
    getters = {"f": "glGetUniformfv", "i": "glGetUniformiv", "u": "glGetUniformuiv", "d": "glGetUniformdv"}
    for record in records:
        for uniform in record.uniforms:
            letter, count = uniform_type(uniform.type)
            width = count * (8 if letter[0] == "d" else 4)
            outs = []
            for location in uniform.locations:
                out = batch.out(width)
                batch.call(getters[letter[0]], record.name, location, out)
                outs.append(out)
            rows.append((uniform, width, outs))
    reader.executor.run(batch)
    for uniform, width, outs in rows:
        uniform.values = b"".join(out.data[:width] for out in outs)


def _storage_blocks(reader: Reader, records: list[ProgramRecord]) -> None:
    batch = CallBatch()
    counts = []
    for record in records:
        out = batch.out(4)
        batch.call("glGetProgramInterfaceiv", record.name, GL.SHADER_STORAGE_BLOCK, GL.ACTIVE_RESOURCES, out)
        counts.append(out)
    reader.executor.run(batch)
    batch = CallBatch()
    rows = []
    for record, count in zip(records, counts, strict=True):
        for index in range(count.ints()[0]):
            name, binding = batch.out(256), batch.out(4)
            batch.call("glGetProgramResourceName", record.name, GL.SHADER_STORAGE_BLOCK, index, 256, None, name)
            properties = GL.BUFFER_BINDING.to_bytes(4, "little")
            batch.call(
                "glGetProgramResourceiv", record.name, GL.SHADER_STORAGE_BLOCK, index, 1, properties, 1, None, binding
            )
            rows.append((record, index, name, binding))
    reader.executor.run(batch)
    for record, index, name, binding in rows:
        record.storage_blocks[name.text()] = (index, binding.ints()[0])
