"""Buffer objects and their contents."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch, Out
from wendascope.backends.opengl.objects.records import BufferRecord
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL


def read_buffers(reader: Reader) -> list[BufferRecord]:
    names = reader.alive("buffer", "glIsBuffer")
    queries = ["BUFFER_SIZE", "BUFFER_USAGE", "BUFFER_MAPPED", "BUFFER_IMMUTABLE_STORAGE", "BUFFER_STORAGE_FLAGS"]
    target = getattr(GL, reader.spare_buffer)
    batch = reader.batch()
    rows = []
    for name in names:
        batch.call("glBindBuffer", target, name)
        outs = [batch.out(4) for _ in queries]
        for query, out in zip(queries, outs, strict=True):
            if reader.offers.value(getattr(GL, query)):
                batch.call("glGetBufferParameteriv", target, getattr(GL, query), out)
        rows.append(outs)
    reader.run(batch)
    records = []
    for name, outs, label in zip(names, rows, reader.labels(GL.BUFFER, names), strict=True):
        size, usage, mapped, immutable, flags = (out.ints()[0] for out in outs)
        if mapped:
            reader.mapped.append(name)
        records.append(BufferRecord(name, size, usage, bool(immutable), flags, label=label))

    def read(record: BufferRecord, batch: CallBatch) -> Out:
        out = batch.out(record.size)
        # refused while a program maps the buffer, unless for good; what it maps is read through its own pointer
        batch.call("glBindBuffer", target, record.name)
        batch.call("glGetBufferSubData", target, 0, record.size, out)
        if record.name in reader.mapped or not reader.offers("glGetBufferSubData"):
            batch.call("wendaReadBuffer", record.name, 0, record.size, out)
        return out

    filled = [r for r in records if r.size > 0]
    for record, out in reader.contents(filled, lambda r: r.size, read):
        record.contents = reader.blobs.put(out.data)
    return records


def watch_mappings(reader: Reader) -> None:
    """Have the tap compare, while it records, what the program writes through mappings that stay."""
    batch = CallBatch()
    for name in reader.mapped:
        batch.call("wendaWatchBuffer", name)
    reader.executor.run(batch)
