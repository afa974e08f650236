"""What several parts do with a context of ours or of the target: programs of our own, and pixels packed tightly."""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping, Sequence

from wendascope.backends.opengl.calls.packed import CallBatch, Executor
from wendascope.backends.opengl.state.offers import Offers
from wendascope.errors import ReplayError
from wendascope.registry import GL

PACKING = ("PACK_ALIGNMENT", "PACK_ROW_LENGTH", "PACK_SKIP_ROWS", "PACK_SKIP_PIXELS", "PACK_SWAP_BYTES")
"""What shapes pictures that are read into client memory."""


def small_program(
    executor: Executor,
    sources: Sequence[tuple[int, str]],
    offers: Offers | None = None,
    attributes: Mapping[int, str] | None = None,
) -> int:
    """A program linked from (kind of shader, source); `attributes` are locations by number. Raises ReplayError with the
    driver's first line where it does not link.
    """
    make = CallBatch(offers)
    shaders = [make.call("glCreateShader", kind) for kind, _ in sources]
    program = make.call("glCreateProgram")
    executor.run(make)
    build = CallBatch(offers)
    for shader, (_, source) in zip(shaders, sources, strict=True):
        text = source.encode()
        build.call("glShaderSource", shader.value, 1, [text], struct.pack("<i", len(text)))
        build.call("glCompileShader", shader.value)
        build.call("glAttachShader", program.value, shader.value)
        build.call("glDeleteShader", shader.value)
    for location, name in (attributes or {}).items():
        build.call("glBindAttribLocation", program.value, location, name.encode() + b"\0")
    build.call("glLinkProgram", program.value)
    status, log = build.out(4), build.out(1024)
    build.call("glGetProgramiv", program.value, GL.LINK_STATUS, status)
    build.call("glGetProgramInfoLog", program.value, 1024, None, log)
    executor.run(build)
    if not status.ints()[0]:
        reason = (log.text().splitlines() or ["no reason given"])[0]
        raise ReplayError(f"a shader of the measurement does not link: {reason}")
    return program.value


def pack_tightly(batch: CallBatch, offers: Offers) -> None:
    """Let what follows read pixels into client memory, row after row without gaps."""
    if offers.value(GL.PIXEL_PACK_BUFFER):
        batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
    for name in PACKING:
        if offers(f"GL_{name}"):
            batch.call("glPixelStorei", getattr(GL, name), 1 if name == "PACK_ALIGNMENT" else 0)


def pack_as_before(batch: CallBatch, offers: Offers, value: Callable[[str], int]) -> None:
    """Undo `pack_tightly`: `value` gives what was, by name; the buffer's is PIXEL_PACK_BUFFER_BINDING."""
    for name in PACKING:
        if offers(f"GL_{name}"):
            batch.call("glPixelStorei", getattr(GL, name), value(name))
    if offers.value(GL.PIXEL_PACK_BUFFER):
        batch.call("glBindBuffer", GL.PIXEL_PACK_BUFFER, value("PIXEL_PACK_BUFFER_BINDING"))
