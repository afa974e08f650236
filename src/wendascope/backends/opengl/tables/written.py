"""Which objects a frame writes, so that only they are put back between runs."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Self

import numpy as np

from wendascope.backends.opengl.state.tracker import Ints, StateHistory
from wendascope.frame.passes import Target
from wendascope.registry import GL, Command, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame


@dataclass
class Written:
    """Captured names of everything that the frame may change."""

    textures: set[int] = field(default_factory=set)
    redefined_textures: set[int] = field(default_factory=set)
    buffers: set[int] = field(default_factory=set)
    renderbuffers: set[int] = field(default_factory=set)
    programs: set[int] = field(default_factory=set)
    framebuffers: set[int] = field(default_factory=set)
    vertex_arrays: set[int] = field(default_factory=set)
    pipelines: set[int] = field(default_factory=set)
    lists: bool = False
    """Whether display lists are made or deleted."""

    def joined(self, other: Self) -> Self:
        """Textures, buffers and renderbuffers that either writes."""
        return type(self)(
            textures=self.textures | other.textures,
            buffers=self.buffers | other.buffers,
            renderbuffers=self.renderbuffers | other.renderbuffers,
        )


_BY_ROLE = (
    (Role.WRITES_TEXTURE, "texture", "textures"),
    (Role.REDEFINES_TEXTURE, "texture", "redefined_textures"),
    (Role.WRITES_BUFFER, "buffer", "buffers"),
    (Role.WRITES_VERTEX_ARRAY, "vertex array", "vertex_arrays"),
    (Role.WRITES_FRAMEBUFFER, "framebuffer", "framebuffers"),
    (Role.WRITES_PIPELINE, "program pipeline", "pipelines"),
    (Role.WRITES_PROGRAM, "program", "programs"),
)
"""(role, class of the object that a call with it writes, field of `Written`)."""

NAMED_BY_TARGET = {"glCopyImageSubData": (("srcName", "srcTarget"), ("dstName", "dstTarget"))}
"""Command -> its names of objects, each with the target that says whether it is a renderbuffer or a texture."""


def written_objects(frame: OpenGLFrame, first: int = 0, end: int | None = None) -> Written:
    """Go over the commands that occur among the calls [first, end) and gather what they write; of the whole frame
    unless given.
    """
    calls, history = frame.calls, frame.history
    end = len(calls) if end is None else end
    steps = np.flatnonzero((frame.steps.call >= first) & (frame.steps.call < end))
    found = images_of(frame.passes.targets[index] for index in np.unique(frame.passes.of_step[steps]).tolist())
    for command, every in calls.by_command():
        rows = every[(every >= first) & (every < end)]
        if len(rows) == 0:
            continue
        for role, class_name, group in _BY_ROLE:
            if command.has(role):
                getattr(found, group).update(_named(frame, history, command, rows, class_name))
        if command.canonical in NAMED_BY_TARGET:
            last = NAMED_BY_TARGET[command.canonical][-1]
            copies, kinds = (calls.column(rows, command.parameter(p).slot).astype(np.int64) for p in last)
            found.renderbuffers |= set(copies[kinds == GL.RENDERBUFFER].tolist())
            found.textures |= set(copies[kinds != GL.RENDERBUFFER].tolist())
        if command.has(Role.COPIES_TO_BUFFER):
            found.buffers |= _copied(frame, history, command, rows)
        elif command.name == "wendaWriteBuffer":
            found.buffers |= set(calls.column(rows, 0).astype(np.int64).tolist())
        elif command.name == "glBindBuffer" and GL.ELEMENT_ARRAY_BUFFER in calls.column(rows, 0).tolist():
            found.vertex_arrays |= set(np.unique(history.column("vertex_array", rows)).tolist())
        found.lists |= command.has(Role.MAKES_LISTS)
    through = written_by_shaders(frame)
    found.textures |= through.textures
    found.buffers |= through.buffers
    for names in (found.textures, found.redefined_textures):
        if 0 in names:
            names |= {t.name for t in frame.objects.textures if t.is_default}
            names.discard(0)
    # a view and what it views share their contents
    views = [t for t in frame.objects.textures if t.view_of]
    found.textures |= {t.view_of for t in views if t.name in found.textures}
    found.textures -= {t.name for t in views}
    for names in (found.textures, found.buffers, found.renderbuffers, found.programs, found.framebuffers):
        names.discard(0)
    return found


def images_of(targets: Iterable[Target]) -> Written:
    """The textures and renderbuffers that are attached to some targets."""
    found = Written()
    for target in targets:
        for attachment in target.attachments:
            (found.textures if attachment.kind == "texture" else found.renderbuffers).add(attachment.name)
    return found


def written_by_shaders(frame: OpenGLFrame) -> Written:
    """Textures and buffers that shaders, transform feedback and readbacks may write: whatever is bound for them at any
    time.
    """
    found = Written()
    calls, history = frame.calls, frame.history
    every = np.arange(len(calls))
    for key in history.keys("image"):
        found.textures |= _ever(history, "image", key, every)
    for point, index in history.keys("indexed_buffer"):
        if point != GL.UNIFORM_BUFFER:
            found.buffers |= _ever(history, "indexed_buffer", (point, index), every)
    if len(calls.calls_of("glBeginTransformFeedback")):
        found.buffers |= {buffer for feedback in frame.objects.feedbacks for buffer, _, _ in feedback.buffers}
    packing = (GL.PIXEL_PACK_BUFFER, 0)
    if frame.state.get("buffer", {}).get(packing) or packing in history.keys("buffer"):
        found.buffers |= _ever(history, "buffer", packing, every)
    return found


def _ever(history: StateHistory, pattern: str, key: tuple[int, int], rows: Ints) -> set[int]:
    return set(np.unique(history.column(pattern, rows, *key)).tolist())


def _named(frame: OpenGLFrame, history: StateHistory, command: Command, rows: np.ndarray, class_name: str) -> set[int]:
    """Names that a parameter gives, or else what is bound at the target that the command works on."""
    calls = frame.calls
    direct = next((p for p in command.parameters if p.object_class == class_name and p.kind != "pointer"), None)
    owned = class_name in ("texture", "buffer") and any(p.name == "target" for p in command.parameters)
    if direct is not None and not (owned and command.name.startswith("glTexBuffer")):
        return set(calls.column(rows, direct.slot).astype(np.int64).tolist())
    if class_name == "vertex array":
        return set(np.unique(history.column("vertex_array", rows)).tolist())
    if class_name == "program":
        return set(np.unique(history.column("program", rows)).tolist())
    if class_name == "framebuffer":
        both = [history.column("framebuffer", rows, t) for t in (GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER)]
        return set(np.unique(np.concatenate(both)).tolist())
    target_slot = next((p.slot for p in command.parameters if p.name == "target"), None)
    if target_slot is None:
        return set()
    found: set[int] = set()
    targets = calls.column(rows, target_slot).astype(np.int64)
    for target in np.unique(targets).tolist():
        mine = rows[targets == target]
        if class_name == "buffer":
            if target == GL.ELEMENT_ARRAY_BUFFER:
                arrays = history.column("vertex_array", mine).tolist()
                values = [
                    history.value("element_buffer", int(c), a) for c, a in zip(mine.tolist(), arrays, strict=True)
                ]
                found |= {v[0] for v in values if v}
                # the buffer may have been bound before the frame, which the vertex array tells
                found |= {v.element_buffer for a in set(arrays) if (v := frame.objects.vertex_array(a))}
            else:
                found |= set(np.unique(history.column("buffer", mine, target)).tolist())
        else:
            bound = (
                GL.TEXTURE_CUBE_MAP
                if GL.TEXTURE_CUBE_MAP_POSITIVE_X <= target < GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6
                else target
            )
            units = history.column("active_texture", mine, missing=GL.TEXTURE0)
            for unit in np.unique(units).tolist():
                found |= set(np.unique(history.column("texture", mine[units == unit], unit, bound)).tolist())
    return found


def _copied(frame: OpenGLFrame, history: StateHistory, command: Command, rows: np.ndarray) -> set[int]:
    if command.name == "glCopyNamedBufferSubData":
        return set(frame.calls.column(rows, command.parameter("writeBuffer").slot).astype(np.int64).tolist())
    targets = frame.calls.column(rows, command.parameter("writeTarget").slot).astype(np.int64)
    found: set[int] = set()
    for target in np.unique(targets).tolist():
        found |= set(np.unique(history.column("buffer", rows[targets == target], target)).tolist())
    return found


def buffer_writes(frame: OpenGLFrame) -> dict[int, Ints]:
    """Buffer -> the calls of the frame that write it, in order. What shaders write is not among them."""
    calls, history = frame.calls, frame.history
    found: dict[int, list[Ints]] = {}

    def add(rows: Ints, names: Ints) -> None:
        for name in np.unique(names).tolist():
            found.setdefault(name, []).append(rows[names == name])

    for command, rows in calls.by_command():
        if command.name == "wendaWriteBuffer":
            add(rows, calls.column(rows, 0).astype(np.int64))
        elif command.has(Role.WRITES_BUFFER | Role.COPIES_TO_BUFFER):
            direct = next(
                (
                    p
                    for p in command.parameters
                    if p.object_class == "buffer" and p.kind != "pointer" and p.name != "readBuffer"
                ),
                None,
            )
            if direct is not None:
                add(rows, calls.column(rows, direct.slot).astype(np.int64))
                continue
            slot = next(p.slot for p in command.parameters if p.name in ("target", "writeTarget"))
            targets = calls.column(rows, slot).astype(np.int64)
            for target in np.unique(targets).tolist():
                mine = rows[targets == target]
                add(
                    mine,
                    element_buffers(frame, mine)
                    if target == GL.ELEMENT_ARRAY_BUFFER
                    else history.column("buffer", mine, target),
                )
    return {name: np.sort(np.concatenate(parts)) for name, parts in found.items() if name}


def texture_writes(frame: OpenGLFrame) -> dict[int, Ints]:
    """Texture -> the calls of the frame, other than steps, that write or redefine it, in order."""
    found: dict[int, list[int]] = {}
    for command, rows in frame.calls.by_command():
        if command.has(Role.WRITES_TEXTURE | Role.REDEFINES_TEXTURE):
            for call in rows.tolist():
                for name in _named(frame, frame.history, command, np.array([call]), "texture"):
                    found.setdefault(name, []).append(call)
    return {name: np.array(sorted(calls), np.int64) for name, calls in found.items() if name}


def element_buffers(frame: OpenGLFrame, calls: Ints) -> Ints:
    """The element buffer that each of some calls finds bound; 0 for none. Shape (n,)."""
    arrays = frame.history.column("vertex_array", calls)
    found = np.zeros(len(calls), np.int64)
    before = {v.name: v.element_buffer for v in frame.objects.vertex_arrays}
    for array in np.unique(arrays).tolist():
        mine = arrays == array
        found[mine] = frame.history.column("element_buffer", calls[mine], array, missing=before.get(array, 0))
    return found
