"""What the calls of a frame return to the program: what it does with that is not known, so nothing may change it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wendascope.registry import GL, Command, Role

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_TIMES = (GL.TIME_ELAPSED, GL.TIMESTAMP)
_READS_BUFFER = "glGetBufferSubData", "glGetNamedBufferSubData"
_MAP_READ_BIT = 0x1


def counting_queries(frame: OpenGLFrame) -> list[int]:
    """Queries that the frame asks, those of time apart: what they count belongs to what it draws."""
    found = set()
    for call in frame.calls.calls_of("glBeginQuery", "glBeginQueryIndexed", "glBeginQueryARB").tolist():
        if int(frame.calls.argument(call, "target")) not in _TIMES:
            found.add(int(frame.calls.argument(call, "id")))
    return sorted(found)


def returned(frame: OpenGLFrame) -> set[tuple[str, int]]:
    """(kind, name) of textures, buffers and queries of which calls return the contents to the program. Pixels that are
    read into its memory are compared by themselves.
    """
    found = {("query", query) for query in _asked(frame)} | {("buffer", buffer) for buffer in _buffers(frame)}
    flow = frame.resource_flow
    pixels = frame.calls.having(Role.READS_PIXELS)
    for call, resource in zip(*(column.tolist() for column in flow.read_back), strict=True):
        if call >= 0 and not pixels[call] and not _into_buffer(frame, call):
            found.add(flow.resources[resource])
    return found


def _asked(frame: OpenGLFrame) -> set[int]:
    """Queries whose result is asked for."""
    found = set()
    for command, rows in frame.calls.by_command():
        if not command.canonical.startswith("glGetQueryObject"):
            continue
        for call in rows.tolist():
            if int(frame.calls.argument(call, "pname")) in (GL.QUERY_RESULT, GL.QUERY_RESULT_NO_WAIT):
                found.add(int(frame.calls.argument(call, "id")))
    return found


def _buffers(frame: OpenGLFrame) -> set[int]:
    """Buffers that are read by a call, or mapped to be read."""
    found = {
        record.name for record in frame.objects.buffers if record.immutable and record.storage_flags & _MAP_READ_BIT
    }
    for command, rows in frame.calls.by_command():
        for call in rows.tolist() if command.canonical in _READS_BUFFER or command.has(Role.MAPS) else ():
            if command.canonical in _READS_BUFFER or _maps_to_read(frame, command, call):
                found.add(_buffer(frame, command, call))
    return found - {0}


def _maps_to_read(frame: OpenGLFrame, command: Command, call: int) -> bool:
    access = int(frame.calls.argument(call, "access"))
    return bool(access & _MAP_READ_BIT) if "Range" in command.name else access != GL.WRITE_ONLY


def _buffer(frame: OpenGLFrame, command: Command, call: int) -> int:
    """The buffer that a call names, or that is bound to its target."""
    if any(p.name == "buffer" for p in command.parameters):
        return int(frame.calls.argument(call, "buffer"))
    return frame.history.number("buffer", call, int(frame.calls.argument(call, "target")))


def _into_buffer(frame: OpenGLFrame, call: int) -> bool:
    """Whether what a call reads goes into a pixel buffer, which is followed like any other."""
    return bool(frame.history.number("buffer", call, GL.PIXEL_PACK_BUFFER))
