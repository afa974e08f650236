"""Vertex arrays: attributes and their buffer bindings."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import Out
from wendascope.backends.opengl.objects.records import AttributeRecord, VertexArrayRecord
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL


def read_vertex_arrays(reader: Reader) -> list[VertexArrayRecord]:
    names = reader.alive("vertex array", "glIsVertexArray")
    if reader.context.profile != "core":
        names.insert(0, 0)
    count = min(reader.context.limits.get("MAX_VERTEX_ATTRIBS", 0), 32)
    separate = reader.offers("glVertexAttribBinding")
    batch = reader.batch()
    first = []
    if not reader.offers("glGetVertexAttribiv"):
        return []

    def query(index: int, name: str) -> Out:
        out = batch.out(16)
        if reader.offers.value(getattr(GL, name)):
            batch.call("glGetVertexAttribiv", index, getattr(GL, name), out)
        return out

    for name in names:
        batch.call("glBindVertexArray", name)
        elements = batch.out(4)
        batch.call("glGetIntegerv", GL.ELEMENT_ARRAY_BUFFER_BINDING, elements)
        used = [
            (query(i, "VERTEX_ATTRIB_ARRAY_ENABLED"), query(i, "VERTEX_ATTRIB_ARRAY_BUFFER_BINDING"))
            for i in range(count)
        ]
        first.append((name, elements, used))
    reader.run(batch)
    batch = reader.batch()
    details = []
    records = []
    wanted = ["SIZE", "TYPE", "NORMALIZED", "INTEGER", "STRIDE", "DIVISOR", "LONG"]
    for name, elements, used in first:
        record = VertexArrayRecord(name, [], elements.ints()[0])
        records.append(record)
        batch.call("glBindVertexArray", name)
        for index, (enabled, buffer) in enumerate(used):
            if not enabled.ints()[0] and not buffer.ints()[0]:
                continue
            outs = [query(index, f"VERTEX_ATTRIB_ARRAY_{q}") for q in wanted]
            pointer = batch.out(8)
            batch.call("glGetVertexAttribPointerv", index, GL.VERTEX_ATTRIB_ARRAY_POINTER, pointer)
            binding = (
                [query(index, "VERTEX_ATTRIB_BINDING"), query(index, "VERTEX_ATTRIB_RELATIVE_OFFSET")]
                if separate
                else []
            )
            details.append((record, index, enabled, buffer, outs, pointer, binding))
    reader.run(batch)
    bindings = _vertex_bindings(
        reader, [d[0].name for d in details], [d[6][0].ints()[0] if d[6] else -1 for d in details]
    )
    for (record, index, enabled, buffer, outs, pointer, binding), found in zip(details, bindings, strict=True):
        size, type_, normalized, integer, stride, divisor, long = (out.ints()[0] for out in outs)
        # an array in client memory: its place there means nothing here, and draws bring what they read of it
        offset = pointer.int64() if buffer.ints()[0] else 0
        attribute = AttributeRecord(
            index, bool(enabled.ints()[0]), size, type_, bool(normalized), bool(integer), bool(long),
            stride, offset, divisor, buffer.ints()[0],
        )  # fmt: skip
        if found is not None and attribute.buffer:
            offset, attribute.stride = found
            attribute.binding, attribute.relative_offset = (out.ints()[0] for out in binding)
            attribute.offset = offset + attribute.relative_offset
        record.attributes.append(attribute)
    for record, label in zip(records, reader.labels(GL.VERTEX_ARRAY, names), strict=True):
        record.label = label
    return records


def _vertex_bindings(reader: Reader, names: list[int], bindings: list[int]) -> list[tuple[int, int] | None]:
    """(offset, stride) of each attribute's binding point; None where the context has no such thing."""
    batch = reader.batch()
    rows: list[tuple[Out, Out] | None] = []
    for name, binding in zip(names, bindings, strict=True):
        if binding < 0:
            rows.append(None)
            continue
        batch.call("glBindVertexArray", name)
        offset, stride = batch.out(8), batch.out(4)
        batch.call("glGetInteger64i_v", GL.VERTEX_BINDING_OFFSET, binding, offset)
        batch.call("glGetIntegeri_v", GL.VERTEX_BINDING_STRIDE, binding, stride)
        rows.append((offset, stride))
    reader.run(batch)
    return [None if row is None else (row[0].int64(), row[1].ints()[0]) for row in rows]
