"""Takes a snapshot: every part in its order."""

from __future__ import annotations

from dataclasses import dataclass, field

from wendascope.errors import TargetError
from wendascope.frame.journal import Journal
from wendascope.frame.objects import BlobStore, ContextInfo, DefaultFramebuffer, Objects
from wendascope.frame.packed import Executor
from wendascope.tap.snapshot._buffers import read_buffers
from wendascope.tap.snapshot._context import read_context
from wendascope.tap.snapshot._framebuffers import (
    read_default_framebuffer,
    read_framebuffers,
    read_renderbuffer_contents,
    read_renderbuffers,
    read_resolved_contents,
)
from wendascope.tap.snapshot._programs import read_programs, read_shaders
from wendascope.tap.snapshot._reader import Reader, State
from wendascope.tap.snapshot._state import read_state
from wendascope.tap.snapshot._textures import read_samplers, read_textures
from wendascope.tap.snapshot._vertex_arrays import read_vertex_arrays


@dataclass
class Snapshot:
    """What the snapshot found."""

    context: ContextInfo
    default_framebuffer: DefaultFramebuffer
    state: State
    objects: Objects
    blobs: BlobStore
    caveats: list[str] = field(default_factory=list)


def take_snapshot(executor: Executor, names: dict[str, list[int]], journal: Journal, size: tuple[int, int]) -> Snapshot:
    """Read everything of the current context; the arguments are those of `Reader`.

    Raises TargetError or ReplayError when the executor goes away, TargetError for a context that cannot be read yet.
    """
    reader = Reader(executor, names, journal, size)
    reader.context = read_context(executor)
    if reader.context.profile == "es" or reader.context.number < 30:
        raise TargetError(f"the program draws with {reader.context.version}; Wendascope captures OpenGL 3.0 and later so far, and no OpenGL ES")
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
    )
    reader.caveats += journal.caveats
    read_renderbuffer_contents(reader, objects)
    read_resolved_contents(reader, objects)
    default = read_default_framebuffer(reader)
    for class_name, what in (("program pipeline", "program pipelines"), ("transform feedback", "transform feedback objects")):
        if names.get(class_name):
            reader.caveats.append(f"{what} are not rebuilt")
    return Snapshot(reader.context, default, reader.state, objects, reader.blobs, reader.caveats)
