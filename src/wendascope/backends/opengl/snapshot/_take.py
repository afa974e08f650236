"""Takes a snapshot: every part in its order."""

from __future__ import annotations

from dataclasses import dataclass, field

from wendascope.backends.opengl.calls.contexts import ContextReading
from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.packed import CallStream, Executor, merge_streams
from wendascope.backends.opengl.objects.records import DefaultFramebuffer, Objects
from wendascope.backends.opengl.snapshot._buffers import read_buffers, watch_mappings
from wendascope.backends.opengl.snapshot._containers import read_feedbacks, read_pipelines, read_query_results
from wendascope.backends.opengl.snapshot._context import read_context
from wendascope.backends.opengl.snapshot._fixed_function import read_fixed_arrays, read_fixed_function
from wendascope.backends.opengl.snapshot._framebuffers import (
    read_default_framebuffer,
    read_framebuffers,
    read_renderbuffer_contents,
    read_renderbuffers,
    read_resolved_contents,
)
from wendascope.backends.opengl.snapshot._matrix_history import begins_with_identity, read_matrix_history
from wendascope.backends.opengl.snapshot._programs import read_programs, read_shaders
from wendascope.backends.opengl.snapshot._reader import Reader, State
from wendascope.backends.opengl.snapshot._state import read_state
from wendascope.backends.opengl.snapshot._textures import read_samplers, read_textures
from wendascope.backends.opengl.snapshot._vertex_arrays import read_vertex_arrays
from wendascope.frame.blobs import BlobStore
from wendascope.frame.context import ContextInfo


@dataclass
class Snapshot:
    """What the snapshot found."""

    context: ContextInfo
    default_framebuffer: DefaultFramebuffer
    state: State
    objects: Objects
    blobs: BlobStore
    arrays: CallStream
    """Calls that set the arrays of fixed attributes, of every vertex array."""
    fixed: CallStream
    """Calls that set the rest of what the state table does not hold: the fixed-function state."""
    lists: CallStream
    """Calls that make the display lists."""
    history: CallStream
    """Calls that leave the identity as modelview matrix with the past that it has, see `_matrix_history`."""
    caveats: list[str] = field(default_factory=list)

    def setup(self, calls: CallStream) -> CallStream:
        """Calls that set what the state table does not hold, ahead of the calls of a frame."""
        modes = self.fixed.calls_of("glMatrixMode")
        mode = int(self.fixed.argument(int(modes[-1]), "mode")) if len(modes) else 0
        past = [self.history] if begins_with_identity(calls, mode) else []
        return merge_streams([self.arrays, self.fixed, *past])


def read_contents(reader: Reader) -> tuple[Objects, DefaultFramebuffer]:
    """What can hold pixels or data, with its contents, of the names that the reader knows; and the window."""
    objects = Objects(
        textures=read_textures(reader),
        buffers=read_buffers(reader),
        renderbuffers=read_renderbuffers(reader),
        framebuffers=read_framebuffers(reader),
    )
    read_renderbuffer_contents(reader, objects)
    read_resolved_contents(reader, objects)
    return objects, read_default_framebuffer(reader)


def take_snapshot(
    executor: Executor, names: dict[str, list[int]], journal: Journal, kept: Kept, size: tuple[int, int]
) -> Snapshot:
    """Read everything of the current context; the arguments are those of `Reader`.

    Raises TargetError or ReplayError when the executor goes away.
    """
    reader = Reader(executor, read_context(executor), names, journal, kept, size)
    read_state(reader)
    objects = Objects(
        textures=read_textures(reader),
        buffers=read_buffers(reader),
        samplers=read_samplers(reader),
        renderbuffers=read_renderbuffers(reader),
        framebuffers=read_framebuffers(reader),
        vertex_arrays=read_vertex_arrays(reader),
        programs=read_programs(reader),
        shaders=read_shaders(reader),
        queries=reader.alive("query", "glIsQuery"),
        pipelines=read_pipelines(reader),
        feedbacks=read_feedbacks(reader),
    )
    objects.query_results = read_query_results(reader, objects.queries)
    reader.caveats += journal.caveats + kept.caveats
    read_renderbuffer_contents(reader, objects)
    read_resolved_contents(reader, objects)
    default = read_default_framebuffer(reader)
    arrays, fixed = read_fixed_arrays(reader), read_fixed_function(reader)
    watch_mappings(reader)
    return Snapshot(
        reader.context, default, reader.state, objects, reader.blobs, arrays, fixed, kept.all_lists(),
        read_matrix_history(reader), reader.caveats,
    )  # fmt: skip


def read_other_context(
    executor: Executor, names: dict[str, list[int]], journal: Journal, size: tuple[int, int]
) -> ContextReading:
    """Read the state of the current context and what it does not share. The arguments are those of `Reader`.

    Raises TargetError or ReplayError when the executor goes away.
    """
    reader = Reader(executor, read_context(executor), names, journal, Kept(), size)
    read_state(reader)
    objects = Objects(
        framebuffers=read_framebuffers(reader),
        vertex_arrays=read_vertex_arrays(reader),
        queries=reader.alive("query", "glIsQuery"),
        pipelines=read_pipelines(reader),
        feedbacks=read_feedbacks(reader),
    )
    objects.query_results = read_query_results(reader, objects.queries)
    arrays, fixed = read_fixed_arrays(reader), read_fixed_function(reader)
    return ContextReading(reader.context, reader.state, objects, arrays, fixed, reader.caveats)


def read_fixed_function_again(
    executor: Executor, context: ContextInfo, names: dict[str, list[int]], journal: Journal, size: tuple[int, int]
) -> CallStream:
    """Calls that set the fixed-function state of the current context, of which the rest is known."""
    reader = Reader(executor, context, names, journal, Kept(), size)
    read_state(reader)
    return read_fixed_function(reader)
