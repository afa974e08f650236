"""Buffer objects and their contents."""

from __future__ import annotations

from wendascope.frame.objects import BufferRecord
from wendascope.frame.packed import Batch, Out
from wendascope.registry import GL
from wendascope.tap.snapshot._reader import Reader


def read_buffers(reader: Reader) -> list[BufferRecord]:
    names = reader.alive("buffer", "glIsBuffer")
    queries = ["BUFFER_SIZE", "BUFFER_USAGE", "BUFFER_MAPPED"]
    if reader.context.number >= 44 or "GL_ARB_buffer_storage" in reader.context.extensions:
        queries += ["BUFFER_IMMUTABLE_STORAGE", "BUFFER_STORAGE_FLAGS"]
    batch = reader.batch()
    rows = []
    for name in names:
        batch.call("glBindBuffer", GL.COPY_READ_BUFFER, name)
        outs = [batch.out(4) for _ in queries]
        for query, out in zip(queries, outs, strict=True):
            batch.call("glGetBufferParameteriv", GL.COPY_READ_BUFFER, getattr(GL, query), out)
        rows.append(outs)
    reader.run(batch)
    records = []
    for name, outs, label in zip(names, rows, reader.labels(GL.BUFFER, names), strict=True):
        size, usage, mapped, *storage = (out.ints()[0] for out in outs)
        immutable, flags = storage or (0, 0)
        if mapped:
            reader.caveats.append(f"buffer {name} is mapped across the frame boundary: writes through the mapping are not recorded")
        records.append(BufferRecord(name, size, usage, bool(immutable), flags, label=label))

    def read(record: BufferRecord, batch: Batch) -> Out:
        out = batch.out(record.size)
        batch.call("glBindBuffer", GL.COPY_READ_BUFFER, record.name)
        batch.call("glGetBufferSubData", GL.COPY_READ_BUFFER, 0, record.size, out)
        return out

    filled = [r for r in records if r.size > 0]
    for record, out in reader.contents(filled, lambda r: r.size, read):
        record.contents = reader.blobs.put(out.data)
    return records
