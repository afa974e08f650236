"""Which objects a frame writes, so that only they are put back between runs."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np

from wendascope.frame.frame import Frame
from wendascope.frame.tracker import Ints, StateHistory
from wendascope.registry import GL, Command, tables


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


_TEXTURE_WRITE = re.compile(
    r"gl(Compressed)?(Tex|Texture|MultiTex)(Sub)?Image\dD|glCopy(Tex|Texture)(Sub)?Image|glTex(ture)?Parameter|glTex(ture)?Storage"
    r"|glGenerate(Texture)?Mipmap|glClearTex(Sub)?Image|glTex(ture)?Buffer(Range)?$|glTexImage|glInvalidateTex"
)
_BUFFER_WRITE = re.compile(
    r"gl(Named)?Buffer(Data|SubData|Storage)|glMap(Named)?Buffer|glClear(Named)?Buffer(Data|SubData)|glInvalidateBuffer"
)
_VERTEX_ARRAY_WRITE = re.compile(
    r"gl(Enable|Disable)VertexA(ttrib|rrayAttrib)|glVertex(Attrib(I|L)?(Pointer|Format|Binding|Divisor)|BindingDivisor|Array)|glBindVertexBuffer"
)
_FRAMEBUFFER_WRITE = re.compile(r"gl(Named)?Framebuffer(Texture|Renderbuffer|Draw|Read|Parameter)|glDrawBuffer|glReadBuffer")


def written_objects(frame: Frame) -> Written:
    """Go over the commands that occur and gather what they write."""
    found = Written()
    calls, history = frame.calls, frame.history
    for target in frame.passes.targets:
        for attachment in target.attachments:
            (found.textures if attachment.kind == "texture" else found.renderbuffers).add(attachment.name)
    commands = tables().commands
    for command_id in np.unique(calls.ids).tolist():
        command = commands[command_id]
        rows = np.flatnonzero(calls.ids == command_id)
        if _TEXTURE_WRITE.match(command.name):
            names = _named(frame, history, command, rows, "texture")
            found.textures |= names
            if "Sub" not in command.name and re.search(r"Image\dD|Storage", command.name):
                found.redefined_textures |= names
        elif _BUFFER_WRITE.match(command.name):
            found.buffers |= _named(frame, history, command, rows, "buffer")
        elif command.name == "wendaWriteBuffer":
            found.buffers |= set(calls.column(rows, 0).astype(np.int64).tolist())
        elif command.name in ("glCopyBufferSubData", "glCopyNamedBufferSubData"):
            found.buffers |= _copied(frame, history, command, rows)
        elif _VERTEX_ARRAY_WRITE.match(command.name):
            found.vertex_arrays |= _named(frame, history, command, rows, "vertex array")
        elif _FRAMEBUFFER_WRITE.match(command.name):
            found.framebuffers |= _named(frame, history, command, rows, "framebuffer")
        elif command.name in ("glUseProgramStages", "glActiveShaderProgram"):
            found.pipelines |= _named(frame, history, command, rows, "program pipeline")
        elif command.name in ("glNewList", "glDeleteLists"):
            found.lists = True
        elif re.match(r"glUniform|glProgramUniform|glShaderStorageBlockBinding", command.name):
            found.programs |= _named(frame, history, command, rows, "program")
        elif command.name == "glBindBuffer" and GL.ELEMENT_ARRAY_BUFFER in calls.column(rows, 0).tolist():
            found.vertex_arrays |= set(np.unique(history.column("vertex_array", rows)).tolist())
    for key in history.keys("image"):
        found.textures |= _ever(history, "image", key, rows=np.arange(len(calls)))
    for point, index in history.keys("indexed_buffer"):
        if point != GL.UNIFORM_BUFFER:
            found.buffers |= _ever(history, "indexed_buffer", (point, index), rows=np.arange(len(calls)))
    if len(calls.calls_of("glBeginTransformFeedback")):
        found.buffers |= {buffer for feedback in frame.objects.feedbacks for buffer, _, _ in feedback.buffers}
    # a view and what it views share their contents
    views = [t for t in frame.objects.textures if t.view_of]
    found.textures |= {t.view_of for t in views if t.name in found.textures}
    found.textures -= {t.name for t in views}
    if frame.state.get("buffer", {}).get((GL.PIXEL_PACK_BUFFER, 0)) or (GL.PIXEL_PACK_BUFFER, 0) in history.keys("buffer"):
        found.buffers |= _ever(history, "buffer", (GL.PIXEL_PACK_BUFFER, 0), rows=np.arange(len(calls)))
    for group in (found.textures, found.buffers, found.renderbuffers, found.programs, found.framebuffers):
        group.discard(0)
    return found


def _ever(history: StateHistory, pattern: str, key: tuple[int, int], rows: np.ndarray) -> set[int]:
    return set(np.unique(history.column(pattern, rows, *key)).tolist())


def _named(frame: Frame, history: StateHistory, command: Command, rows: np.ndarray, class_name: str) -> set[int]:
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
                values = [history.value("element_buffer", int(c), a) for c, a in zip(mine.tolist(), arrays, strict=True)]
                found |= {v[0] for v in values if v}
                # the buffer may have been bound before the frame, which the vertex array tells
                found |= {v.element_buffer for a in set(arrays) if (v := frame.objects.vertex_array(a))}
            else:
                found |= set(np.unique(history.column("buffer", mine, target)).tolist())
        else:
            bound = GL.TEXTURE_CUBE_MAP if GL.TEXTURE_CUBE_MAP_POSITIVE_X <= target < GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6 else target
            units = history.column("active_texture", mine, missing=GL.TEXTURE0)
            for unit in np.unique(units).tolist():
                found |= set(np.unique(history.column("texture", mine[units == unit], unit, bound)).tolist())
    return found


def _copied(frame: Frame, history: StateHistory, command: Command, rows: np.ndarray) -> set[int]:
    if command.name == "glCopyNamedBufferSubData":
        return set(frame.calls.column(rows, command.parameter("writeBuffer").slot).astype(np.int64).tolist())
    targets = frame.calls.column(rows, command.parameter("writeTarget").slot).astype(np.int64)
    found: set[int] = set()
    for target in np.unique(targets).tolist():
        found |= set(np.unique(history.column("buffer", rows[targets == target], target)).tolist())
    return found


def buffer_writes(frame: Frame) -> dict[int, Ints]:
    """Buffer -> the calls of the frame that write it, in order. What shaders write is not among them."""
    calls, history = frame.calls, frame.history
    found: dict[int, list[Ints]] = {}

    def add(rows: Ints, names: Ints) -> None:
        for name in np.unique(names).tolist():
            found.setdefault(name, []).append(rows[names == name])

    commands = tables().commands
    for command_id in np.unique(calls.ids).tolist():
        command = commands[command_id]
        rows = np.flatnonzero(calls.ids == command_id)
        if command.name == "wendaWriteBuffer":
            add(rows, calls.column(rows, 0).astype(np.int64))
        elif _BUFFER_WRITE.match(command.name) or command.name in ("glCopyBufferSubData", "glCopyNamedBufferSubData"):
            direct = next((p for p in command.parameters if p.object_class == "buffer" and p.kind != "pointer" and p.name != "readBuffer"), None)
            if direct is not None:
                add(rows, calls.column(rows, direct.slot).astype(np.int64))
                continue
            slot = next(p.slot for p in command.parameters if p.name in ("target", "writeTarget"))
            targets = calls.column(rows, slot).astype(np.int64)
            for target in np.unique(targets).tolist():
                mine = rows[targets == target]
                add(mine, element_buffers(frame, mine) if target == GL.ELEMENT_ARRAY_BUFFER else history.column("buffer", mine, target))
    return {name: np.sort(np.concatenate(parts)) for name, parts in found.items() if name}


def element_buffers(frame: Frame, calls: Ints) -> Ints:
    """The element buffer that each of some calls finds bound; 0 for none. Shape (n,)."""
    arrays = frame.history.column("vertex_array", calls)
    found = np.zeros(len(calls), np.int64)
    before = {v.name: v.element_buffer for v in frame.objects.vertex_arrays}
    for array in np.unique(arrays).tolist():
        mine = arrays == array
        found[mine] = frame.history.column("element_buffer", calls[mine], array, missing=before.get(array, 0))
    return found
