"""Clip positions of every step after its last vertex stage, by transform feedback in the replay.

The frame must be instrumented: its programs feed back gl_Position (`backends.opengl.running.instrumented`).
"""

from __future__ import annotations

import re
import struct
from collections import Counter
from collections.abc import Container
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Positions
from wendascope.backends.edit import Edit, Insertion
from wendascope.backends.opengl.calls.display_lists import display_lists, drawn_modes
from wendascope.backends.opengl.calls.enclosed import within_feedback
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.instruments.indices import draw_indices, element_buffer
from wendascope.backends.opengl.instruments.queries import query_batches, query_results
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.records import Objects, ProgramRecord, ShaderRecord
from wendascope.backends.opengl.running.draw_state import DrawState, StateReader, may_change
from wendascope.backends.opengl.running.instrumented import POSITION, gives_positions
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.running.walk import Walk
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.frame.steps import KINDS
from wendascope.frame.vertex_cache import transformed_vertices
from wendascope.glsl.words import output_primitive, words_of
from wendascope.registry import GL
from wendascope.task import Task

_VERTEX_BYTES = 16
_CHUNK = 256 << 20
"""Bytes of positions that one run gathers."""
_LARGEST = 1 << 30
"""Bytes of positions of one draw; what has more is not looked at."""
_CORNERS = {GL.POINTS: 1, GL.LINES: 2, GL.TRIANGLES: 3}
_LINES = (GL.LINES, GL.LINE_STRIP, GL.LINE_LOOP, GL.LINES_ADJACENCY, GL.LINE_STRIP_ADJACENCY)
_OUTPUT = {"points": GL.POINTS, "line_strip": GL.LINES, "triangle_strip": GL.TRIANGLES}
_DRAW = KINDS.index("draw")
_STAND_IN = 0xE8000000
"""A name that no captured object has."""


@dataclass
class _Wanted:
    step: int
    mode: int
    vertices: int
    """The most that may come."""
    fixed: bool = False
    """Whether a program stands in for the fixed-function pipeline."""


def measure_positions(session: ReplaySession, job: Task) -> Positions[DrawState]:
    """Gather clip positions and draw states of all draws. Raises CancelledError."""
    found = Positions[DrawState]()
    wanted, unknown = _wanted(session.frame, found.caveats) if session.offers("glBeginTransformFeedback") else ([], [])
    if not wanted and not unknown and not session.offers("glBeginTransformFeedback"):
        found.caveats.append("the context has no transform feedback: positions are not known")
    if unknown:
        _count(session, job, unknown)
        wanted = sorted(
            [*wanted, *(w for w in unknown if w.vertices * _VERTEX_BYTES <= _LARGEST)], key=lambda w: w.step
        )
    if any(item.fixed for item in wanted):
        session.add(Objects(programs=[_stand_in()]))
    chunks: list[list[_Wanted]] = [[]]
    size = 0
    for item in wanted:
        if size + item.vertices * _VERTEX_BYTES > _CHUNK and chunks[-1]:
            chunks.append([])
            size = 0
        size += item.vertices * _VERTEX_BYTES
        chunks[-1].append(item)
    for number, chunk in enumerate(chunks):
        _gather(session, job, chunk, found, number == 0)
    return found


def _wanted(frame: OpenGLFrame, caveats: list[str]) -> tuple[list[_Wanted], list[_Wanted]]:
    """Draws whose positions can be had, those of known and those of unknown number."""
    steps, calls = frame.steps, frame.calls
    known, unknown = [], []
    without: Counter[str] = Counter()
    own = within_feedback(frame)
    lists = display_lists(calls, display_lists(frame.lists))
    for step in np.flatnonzero(steps.kind == _DRAW).tolist():
        call = int(steps.call[step])
        program = _last_program(frame, step)
        fixed = _is_fixed(frame, step, program)
        modes = drawn_modes(calls, int(steps.begin[step]), call, lists)
        kinds = {GL.POINTS if mode == GL.POINTS else GL.LINES if mode in _LINES else GL.TRIANGLES for mode in modes}
        if program is None and not fixed:
            without["steps whose vertex stage is not known"] += 1
            continue
        if len(kinds) != 1:
            without["steps that draw several kinds of primitives, or whose calls do not tell"] += 1
            continue
        if own[step] or (program is not None and not fixed and not gives_positions(program)):
            without["steps whose program feeds back values of its own, or comes as SPIR-V or binary"] += 1
            continue
        made = _made_mode(compiled_program(program, frame.context.dialect)) if program and not fixed else None
        kind = made or kinds.pop()
        vertices = int(steps.vertices[step])
        most = 3 * int(steps.triangles[step]) if kind == GL.TRIANGLES else vertices * _CORNERS[kind]
        if made or GL.PATCHES in modes:
            unknown.append(_Wanted(step, kind, 0))
        elif most * _VERTEX_BYTES > _LARGEST:
            without["steps of more vertices than memory is spent on"] += 1
        else:
            known.append(_Wanted(step, kind, most, fixed))
    for what, count in without.items():
        caveats.append(f"positions of {count:,} {what} are not known")
    return known, unknown


def _is_fixed(frame: OpenGLFrame, step: int, program: ProgramRecord | None) -> bool:
    """Whether the fixed-function pipeline transforms the vertices of a step: without a program, or with one that has
    fragments only.
    """
    call = int(frame.steps.call[step])
    if frame.context.profile != "compatibility" or frame.history.number("pipeline", call):
        return False
    if program is not None:
        return not program.binary and {s.type for s in program.shaders} == {GL.FRAGMENT_SHADER}
    return not int(frame.steps.program[step]) and not frame.history.number("capability", call, GL.VERTEX_PROGRAM_ARB)


def _stand_in() -> ProgramRecord:
    """A program that puts vertices where the fixed-function pipeline does: `ftransform` gives the very same positions
    (GLSL 1.20 specification, section 8.5). Clip planes act after it.
    """
    vertex = ShaderRecord(GL.VERTEX_SHADER, "#version 120\nvoid main() { gl_Position = ftransform(); }\n")
    return ProgramRecord(
        _STAND_IN, [vertex], linked=True, feedback_varyings=[POSITION], feedback_mode=GL.INTERLEAVED_ATTRIBS
    )


def _last_program(frame: OpenGLFrame, step: int) -> ProgramRecord | None:
    """The program whose vertex stages a step uses, that of its pipeline where it has no program."""
    name = int(frame.steps.program[step])
    if name:
        return frame.objects.program(name)
    bound = frame.history.number("pipeline", int(frame.steps.call[step]))
    pipeline = next((p for p in frame.objects.pipelines if p.name == bound), None)
    if pipeline is None:
        return None
    for bit in (0x4, 0x10, 0x1):  # geometry, tessellation evaluation, vertex
        if pipeline.stages.get(bit):
            return frame.objects.program(pipeline.stages[bit])
    return None


def _made_mode(program: ProgramRecord) -> int | None:
    """What geometry or tessellation shaders put out; None without them."""
    for stage in (GL.GEOMETRY_SHADER, GL.TESS_EVALUATION_SHADER):
        for shader in program.shaders:
            if shader.type == stage:
                return _OUTPUT.get(output_primitive(shader.source) or "", GL.TRIANGLES)
    return None


def _links(frame: OpenGLFrame) -> list[Insertion]:
    """Programs linked inside the frame feed back positions too."""
    insertions = []
    for call in frame.calls.calls_of("glLinkProgram", "glLinkProgramARB").tolist():
        name = int(frame.calls.column(np.array([call]), 0)[0])
        program = frame.objects.program(name)
        if program is not None and gives_positions(program):
            batch = CallBatch()
            batch.call("glTransformFeedbackVaryings", name, 1, [POSITION.encode()], GL.INTERLEAVED_ATTRIBS)
            insertions.append(Insertion(call, batch))
    return insertions


def _count(session: ReplaySession, job: Task, items: list[_Wanted]) -> None:
    """How many primitives geometry and tessellation shaders make, by query."""
    job.progress("counting primitives", 0.0)
    queries = session.fresh_names("query", len(items))
    insertions = _links(session.frame)
    for item, query in zip(items, queries, strict=True):
        before, after = query_batches(GL.PRIMITIVES_GENERATED, query)
        steps = session.frame.steps
        insertions += [Insertion(int(steps.begin[item.step]), before), Insertion(int(steps.call[item.step]) + 1, after)]
    session.run(session.prepare(Edit(insertions)))
    for item, count in zip(items, query_results(session, queries), strict=True):
        item.vertices = count * _CORNERS[item.mode]


_READS = re.compile(r"texture|texelFetch|image|buffer|shadow[12]D|samplerBuffer")


def _positions_follow_pixels(frame: OpenGLFrame) -> bool:
    """Whether vertex stages read what the GPU may have written, so that fragments must run for positions to be true."""
    if len(
        frame.calls.calls_of(
            "glBeginConditionalRender", "glBeginTransformFeedback", "glDispatchCompute", "glDispatchComputeIndirect"
        )
    ):
        return True
    for program in frame.objects.programs:
        for shader in compiled_program(program, frame.context.dialect).shaders:
            if shader.type not in (GL.FRAGMENT_SHADER, GL.COMPUTE_SHADER) and any(
                _READS.match(word) for word in words_of(shader.source)
            ):
                return True
    return bool((frame.steps.kind == KINDS.index("copy")).any())


def _gather(
    session: ReplaySession, job: Task, items: list[_Wanted], found: Positions[DrawState], with_states: bool
) -> None:
    frame = session.frame
    steps = frame.steps
    buffer = session.fresh_names("buffer", 1)[0]
    queries = dict(zip([w.step for w in items], session.fresh_names("query", len(items)), strict=True))
    size = max(sum(w.vertices for w in items) * _VERTEX_BYTES, 16)
    session.run_batch(_storage(session, buffer, size))
    skip_fragments = session.offers("GL_RASTERIZER_DISCARD") and not _positions_follow_pixels(frame)
    insertions, offset = _links(frame), 0
    starts = {}
    calls = np.asarray(steps.call, np.int64)[[item.step for item in items]]
    bindings = _feedback_bindings(frame, calls)
    put_back: dict[tuple[int, ...], CallBatch] = {}
    discards = frame.history.column("capability", calls, GL.RASTERIZER_DISCARD)
    for row, item in enumerate(items):
        if item.vertices == 0:
            continue
        call = int(calls[row])
        before, after = CallBatch(session.offers), CallBatch(session.offers)
        size = item.vertices * _VERTEX_BYTES
        starts[item.step] = offset
        if item.fixed:
            before.call("glUseProgram", _STAND_IN)
        before.call("glBindBufferRange", GL.TRANSFORM_FEEDBACK_BUFFER, 0, buffer, offset, size)
        before.call("glBeginQuery", GL.TRANSFORM_FEEDBACK_PRIMITIVES_WRITTEN, queries[item.step])
        discard = skip_fragments or (item.fixed and session.offers.value(GL.RASTERIZER_DISCARD))
        if discard:
            before.call("glEnable", GL.RASTERIZER_DISCARD)
        before.call("glBeginTransformFeedback", item.mode)
        after.call("glEndTransformFeedback")
        after.call("glEndQuery", GL.TRANSFORM_FEEDBACK_PRIMITIVES_WRITTEN)
        if discard and not discards[row]:
            after.call("glDisable", GL.RASTERIZER_DISCARD)
        if item.fixed:
            after.call("glUseProgram", int(steps.program[item.step]))
        if item.fixed and not skip_fragments:  # its fragments are wanted, and the stand-in made none
            for again in range(int(steps.begin[item.step]), call + 1):
                after.copy(frame.calls, again)
        bound = tuple(int(column[row]) for column in bindings)
        if bound not in put_back:
            put_back[bound] = _feedback_binding(bound)
        after.append(put_back[bound])
        insertions += [Insertion(int(steps.begin[item.step]), before), Insertion(call + 1, after, closes=True)]
        offset += size
    walk = Walk(session, Edit(insertions))
    if with_states:
        _ask_states(session, job, walk, starts, found)
    job.progress("gathering positions", 1.0)
    walk.finish()
    read = CallBatch(session.offers)
    out = read.out(max(offset, 16))
    if offset:
        read.call("wendaReadBuffer", session.names.get("buffer", buffer), 0, offset, out)
        session.run_batch(read)
    asked = [w for w in items if w.step in starts]
    for item, written in zip(asked, query_results(session, [queries[w.step] for w in asked]), strict=True):
        corners = _CORNERS[item.mode]
        count = min(written, item.vertices // corners)
        found.clip[item.step] = np.frombuffer(out.data, np.float32, count * corners * 4, starts[item.step]).reshape(
            count, corners, 4
        )
    delete = CallBatch(session.offers)
    delete.call("glDeleteBuffers", 1, struct.pack("<I", session.names.get("buffer", buffer)))
    session.run_batch(delete)


def _ask_states(
    session: ReplaySession, job: Task, walk: Walk, gathered: Container[int], found: Positions[DrawState]
) -> None:
    """Go through the frame, and note the state of each step and the vertices that those gathered run."""
    steps = session.frame.steps
    reader, reuse = StateReader(session), _Reuse(session)
    # between two steps that nothing but data of draws lies between, the state is the same
    changes = np.concatenate([[0], np.cumsum(may_change(session.frame.calls))])[steps.begin]
    for step in range(len(steps)):
        if step % 64 == 0:
            job.progress("gathering positions", step / len(steps))
        if not step or changes[step] != changes[step - 1]:
            walk.run_to(int(steps.begin[step]))
            found.states[step] = reader.read()
        else:
            found.states[step] = found.states[step - 1]
        if step in gathered:
            found.transformed[step] = reuse.transformed(step, walk)


class _Reuse:
    """Vertices that indexed draws run, every range of an unchanged buffer looked at once."""

    def __init__(self, session: ReplaySession) -> None:
        self._session = session
        self._written = written_objects(session.frame).buffers
        self._known: dict[tuple[int, ...], int] = {}

    def transformed(self, step: int, walk: Walk) -> int:
        """Of a step that the walk may still have to go to."""
        frame = self._session.frame
        call = int(frame.steps.call[step])
        if frame.steps.begin[step] != call:  # immediate mode and lists: every vertex runs
            return int(frame.steps.vertices[step])
        key = None
        if any(p.name == "indices" for p in frame.calls.command(call).parameters):
            buffer = element_buffer(frame, call)
            names = {p.name: p.slot for p in frame.calls.command(call).parameters}
            row = np.array([call])
            where = (
                [
                    int(frame.calls.column(row, slot)[0])
                    for slot in (names["count"], names["type"], names["indices"] + 1)
                ]
                if "count" in names
                else None
            )
            key = (buffer, *where) if where and buffer and buffer not in self._written else None
        if key is not None and key in self._known:
            once = self._known[key]
        else:
            walk.run_to(int(frame.steps.begin[step]))
            indices = draw_indices(self._session, step)
            if indices is None:
                return int(frame.steps.vertices[step])
            once = transformed_vertices(indices)
            if key is not None:
                self._known[key] = once
        return once * max(int(frame.steps.instances[step]), 1)


def _storage(session: ReplaySession, buffer: int, size: int) -> CallBatch:
    batch = CallBatch(session.offers)
    batch.call("glBindBuffer", GL.TRANSFORM_FEEDBACK_BUFFER, session.names.get("buffer", buffer))
    batch.call("glBufferData", GL.TRANSFORM_FEEDBACK_BUFFER, size, None, GL.STREAM_READ)
    return batch


def _feedback_bindings(frame: OpenGLFrame, calls: npt.NDArray[np.int64]) -> list[npt.NDArray[np.int64]]:
    """(buffer, offset, size of feedback binding 0; buffer of the general binding) as each call finds them."""
    target = GL.TRANSFORM_FEEDBACK_BUFFER
    indexed = [frame.history.column("indexed_buffer", calls, target, 0, value) for value in range(3)]
    return [*indexed, frame.history.column("buffer", calls, target)]


def _feedback_binding(bound: tuple[int, ...]) -> CallBatch:
    """Calls that put back feedback buffer 0 as the program had it, and the general binding, which binding by index
    also sets.
    """
    buffer, offset, size, general = bound
    batch = CallBatch()
    if buffer and size:
        batch.call("glBindBufferRange", GL.TRANSFORM_FEEDBACK_BUFFER, 0, buffer, offset, size)
    else:
        batch.call("glBindBufferBase", GL.TRANSFORM_FEEDBACK_BUFFER, 0, buffer)
    batch.call("glBindBuffer", GL.TRANSFORM_FEEDBACK_BUFFER, general)
    return batch
