"""Objects that only hold others, and queries: program pipelines, transform feedback objects, query results."""

from __future__ import annotations

from wendascope.backends.opengl.objects.records import FeedbackRecord, PipelineRecord
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL

_STAGES = (
    # what glGetProgramPipeline calls a stage, and its bit
    ("VERTEX_SHADER", "VERTEX_SHADER_BIT"),
    ("FRAGMENT_SHADER", "FRAGMENT_SHADER_BIT"),
    ("GEOMETRY_SHADER", "GEOMETRY_SHADER_BIT"),
    ("TESS_CONTROL_SHADER", "TESS_CONTROL_SHADER_BIT"),
    ("TESS_EVALUATION_SHADER", "TESS_EVALUATION_SHADER_BIT"),
    ("COMPUTE_SHADER", "COMPUTE_SHADER_BIT"),
)


def read_pipelines(reader: Reader) -> list[PipelineRecord]:
    names = reader.alive("program pipeline", "glIsProgramPipeline")
    batch = reader.plain()
    rows = []
    for name in names:
        outs = [batch.out(4) for _ in range(len(_STAGES) + 1)]
        for query, out in zip(("ACTIVE_PROGRAM", *(stage for stage, _ in _STAGES)), outs, strict=True):
            if reader.offers.value(getattr(GL, query)):
                batch.call("glGetProgramPipelineiv", name, getattr(GL, query), out)
        rows.append(outs)
    reader.executor.run(batch)
    records = []
    for name, (active, *stages) in zip(names, rows, strict=True):
        programs = {
            getattr(GL, bit): out.ints()[0] for (_, bit), out in zip(_STAGES, stages, strict=True) if out.ints()[0]
        }
        records.append(PipelineRecord(name, programs, active.ints()[0]))
    return records


def read_feedbacks(reader: Reader) -> list[FeedbackRecord]:
    names = reader.alive("transform feedback", "glIsTransformFeedback")
    count = min(reader.context.limits.get("MAX_TRANSFORM_FEEDBACK_SEPARATE_ATTRIBS", 4), 16)
    batch = reader.plain()
    rows = []
    active = batch.out(4)
    if reader.offers.value(GL.TRANSFORM_FEEDBACK_ACTIVE):
        batch.call("glGetIntegerv", GL.TRANSFORM_FEEDBACK_ACTIVE, active)
    reader.executor.run(batch)
    if active.ints()[0]:
        reader.caveats.append("transform feedback that began before the frame goes on in it")
        return [FeedbackRecord(name) for name in names]
    batch = reader.plain()
    for name in names:
        batch.call("glBindTransformFeedback", GL.TRANSFORM_FEEDBACK, name)
        outs = []
        for index in range(count):
            buffer, start, size = batch.out(4), batch.out(8), batch.out(8)
            batch.call("glGetIntegeri_v", GL.TRANSFORM_FEEDBACK_BUFFER_BINDING, index, buffer)
            batch.call("glGetInteger64i_v", GL.TRANSFORM_FEEDBACK_BUFFER_START, index, start)
            batch.call("glGetInteger64i_v", GL.TRANSFORM_FEEDBACK_BUFFER_SIZE, index, size)
            outs.append((buffer, start, size))
        rows.append(outs)
    batch.call("glBindTransformFeedback", GL.TRANSFORM_FEEDBACK, reader.value("transform_feedback"))
    reader.executor.run(batch)
    return [
        FeedbackRecord(name, [(b.ints()[0], start.int64(), size.int64()) for b, start, size in outs])
        for name, outs in zip(names, rows, strict=True)
    ]


def read_query_results(reader: Reader, queries: list[int]) -> dict[int, int]:
    """Results of finished queries: a frame may draw by what an earlier one counted."""
    if not queries or not reader.offers("glGetQueryObjectuiv"):
        return {}
    batch = reader.plain()
    batch.call("glFinish")
    rows = []
    for name in queries:
        available = batch.out(8)
        batch.call("glGetQueryObjectuiv", name, GL.QUERY_RESULT_AVAILABLE, available)
        rows.append((name, available))
    reader.executor.run(batch)
    batch = reader.plain()
    results = []
    for name, available in rows:
        if available.ints()[0]:
            out = batch.out(8)
            batch.call("glGetQueryObjectuiv", name, GL.QUERY_RESULT, out)
            results.append((name, out))
    reader.executor.run(batch)
    return {name: out.uints()[0] for name, out in results}
