"""The context itself: version, profile, limits, and the shape of its window."""

from __future__ import annotations

import re

from wendascope.backends.opengl.calls.packed import CallBatch, Executor
from wendascope.backends.opengl.objects.records import DefaultFramebuffer
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import INDEXED_BUFFER_TARGETS
from wendascope.errors import TargetError
from wendascope.frame.context import ContextInfo
from wendascope.registry import GL

_LIMITS = (
    "MAX_COMBINED_TEXTURE_IMAGE_UNITS MAX_VERTEX_ATTRIBS MAX_COLOR_ATTACHMENTS MAX_DRAW_BUFFERS MAX_TEXTURE_SIZE "
    "MAX_UNIFORM_BLOCK_SIZE MAX_UNIFORM_BUFFER_BINDINGS MAX_ARRAY_TEXTURE_LAYERS MAX_TEXTURE_BUFFER_SIZE"
).split()
_FREE_MEMORY = (
    "GPU_MEMORY_INFO_TOTAL_AVAILABLE_MEMORY_NVX", "GPU_MEMORY_INFO_CURRENT_AVAILABLE_VIDMEM_NVX",
    "TEXTURE_FREE_MEMORY_ATI",
)  # fmt: skip
"""In KiB, of all programs together, where the driver tells; of the four numbers of the last one the first counts."""


def read_context(executor: Executor) -> ContextInfo:
    """Version, profile, limits and extensions of the current context."""
    strings = read_strings(executor)
    context = ContextInfo(
        version=strings["VERSION"],
        shading_language=strings["SHADING_LANGUAGE_VERSION"],
        renderer=strings["RENDERER"],
        vendor=strings["VENDOR"],
    )
    found = re.search(r"(\d+)\.(\d+)", context.version)
    if found is None:
        raise TargetError(f"the context calls itself {context.version!r}, which names no version")
    context.api = "OpenGL ES" if context.version.startswith("OpenGL ES") else "OpenGL"
    context.major, context.minor = int(found[1]), int(found[2])
    context.extensions = _extensions(executor, context)
    batch = CallBatch()
    wanted = [
        *_LIMITS,
        *(row[3] for row in INDEXED_BUFFER_TARGETS.values()),
        "MAX_IMAGE_UNITS",
        "CONTEXT_FLAGS",
        "CONTEXT_PROFILE_MASK",
    ]
    offers = Offers(context)
    outs = {name: batch.out(16) for name in (*wanted, *_FREE_MEMORY) if offers("GL_" + name)}
    for name, out in outs.items():
        batch.call("glGetIntegerv", getattr(GL, name), out)
    executor.run(batch)
    number = {name: out.ints()[0] for name, out in outs.items()}
    context.flags = number.pop("CONTEXT_FLAGS", 0)
    mask = number.pop("CONTEXT_PROFILE_MASK", 0)
    context.limits = number
    if context.es:
        context.profile = "es"
    elif context.number >= 32:
        context.profile = "compatibility" if mask & 2 else "core"
    else:
        context.profile = (
            "core" if context.number == 31 and "GL_ARB_compatibility" not in context.extensions else "compatibility"
        )
    return context


def _extensions(executor: Executor, context: ContextInfo) -> list[str]:
    """By index where the context has that, else the one long string."""
    batch = CallBatch()
    if context.number < 30:
        text = batch.out(1 << 16)
        batch.call("wendaString", GL.EXTENSIONS, -1, 1 << 16, text)
        executor.run(batch)
        return text.text().split()
    count = batch.out(4)
    batch.call("glGetIntegerv", GL.NUM_EXTENSIONS, count)
    executor.run(batch)
    batch = CallBatch()
    found = [batch.out(96) for _ in range(count.ints()[0])]
    for index, out in enumerate(found):
        batch.call("wendaString", GL.EXTENSIONS, index, 96, out)
    executor.run(batch)
    return [out.text() for out in found]


def read_strings(executor: Executor) -> dict[str, str]:
    """glGetString values; strings live in the driver, so the executor copies them out."""
    batch = CallBatch()
    names = ("VERSION", "SHADING_LANGUAGE_VERSION", "RENDERER", "VENDOR")
    outs = {name: batch.out(256) for name in names}
    for name, out in outs.items():
        batch.call("wendaString", getattr(GL, name), -1, 256, out)
    executor.run(batch)
    return {name: out.text() for name, out in outs.items()}


def describe_default_framebuffer(reader: Reader) -> DefaultFramebuffer:
    """Component sizes of the default framebuffer, without its contents."""
    batch = reader.plain()
    offers = reader.offers
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 0)
    plain = {
        name: batch.out(4)
        for name in (
            "DRAW_BUFFER",
            "READ_BUFFER",
            "DOUBLEBUFFER",
            "SAMPLES",
            "RED_BITS",
            "GREEN_BITS",
            "BLUE_BITS",
            "ALPHA_BITS",
            "DEPTH_BITS",
            "STENCIL_BITS",
        )
    }
    for name, out in plain.items():
        # the bits are gone from core contexts, which tell by attachment
        if offers("GL_" + name):
            batch.call("glGetIntegerv", getattr(GL, name), out)
    sizes = {}
    attached = reader.context.number >= 30
    # both names are asked, since a single-buffered framebuffer has no back
    for side in ("BACK",) if reader.context.es else ("BACK_LEFT", "FRONT_LEFT"):
        for point, name in (
            (side, "RED"),
            (side, "GREEN"),
            (side, "BLUE"),
            (side, "ALPHA"),
            ("DEPTH", "DEPTH"),
            ("STENCIL", "STENCIL"),
        ):
            kind, out, encoding = sizes[side, name] = (batch.out(4), batch.out(4), batch.out(4))
            if not attached:
                continue
            arguments = (reader.offers.draw_target, getattr(GL, point))
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, GL.FRAMEBUFFER_ATTACHMENT_OBJECT_TYPE, kind)
            batch.call(
                "glGetFramebufferAttachmentParameteriv",
                *arguments,
                getattr(GL, f"FRAMEBUFFER_ATTACHMENT_{name}_SIZE"),
                out,
            )
            batch.call(
                "glGetFramebufferAttachmentParameteriv", *arguments, GL.FRAMEBUFFER_ATTACHMENT_COLOR_ENCODING, encoding
            )
    batch.call("glBindFramebuffer", reader.offers.draw_target, reader.value("framebuffer", GL.DRAW_FRAMEBUFFER))
    if reader.offers.read_target != reader.offers.draw_target:
        batch.call("glBindFramebuffer", reader.offers.read_target, reader.value("framebuffer", GL.READ_FRAMEBUFFER))
    reader.executor.run(batch)
    # ES windows are double-buffered and pbuffers are not; there both are read the same way
    double = True if reader.context.es else bool(plain["DOUBLEBUFFER"].ints()[0])
    side = "BACK" if reader.context.es else "BACK_LEFT" if double else "FRONT_LEFT"
    bits = {
        name: (out.ints()[0] if kind.ints()[0] != GL.NONE else 0) if attached else plain[f"{name}_BITS"].ints()[0]
        for (where, name), (kind, out, _) in sizes.items()
        if where == side
    }
    return DefaultFramebuffer(
        red=bits["RED"], green=bits["GREEN"], blue=bits["BLUE"], alpha=bits["ALPHA"],
        depth=bits["DEPTH"], stencil=bits["STENCIL"], samples=plain["SAMPLES"].ints()[0],
        draw_buffer=plain["DRAW_BUFFER"].ints()[0], read_buffer=plain["READ_BUFFER"].ints()[0],
        srgb=sizes[side, "RED"][2].ints()[0] == GL.SRGB, double=double,
    )  # fmt: skip
