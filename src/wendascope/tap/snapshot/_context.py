"""The context itself: version, profile, limits, and the shape of its window."""

from __future__ import annotations

from wendascope.frame.objects import ContextInfo, DefaultFramebuffer
from wendascope.frame.packed import Batch, Executor
from wendascope.frame.state_table import INDEXED_BUFFER_TARGETS
from wendascope.registry import GL
from wendascope.tap.snapshot._reader import State

_LIMITS = (
    "MAX_COMBINED_TEXTURE_IMAGE_UNITS MAX_VERTEX_ATTRIBS MAX_COLOR_ATTACHMENTS MAX_DRAW_BUFFERS MAX_TEXTURE_SIZE "
    "MAX_UNIFORM_BLOCK_SIZE MAX_UNIFORM_BUFFER_BINDINGS MAX_ARRAY_TEXTURE_LAYERS"
).split()


def read_context(executor: Executor) -> ContextInfo:
    """Version, profile, limits and extensions of the current context."""
    batch = Batch()
    integers = {name: batch.out(4) for name in ("MAJOR_VERSION", "MINOR_VERSION", "CONTEXT_FLAGS", "NUM_EXTENSIONS", "CONTEXT_PROFILE_MASK")}
    for name, out in integers.items():
        batch.call("glGetIntegerv", getattr(GL, name), out)
    limits = {}
    for name in (*_LIMITS, *(row[3] for row in INDEXED_BUFFER_TARGETS.values()), "MAX_IMAGE_UNITS"):
        limits[name] = batch.out(4)
        batch.call("glGetIntegerv", getattr(GL, name), limits[name])
    executor.run(batch)
    number = {name: out.ints()[0] for name, out in integers.items()}
    strings = read_strings(executor, number["NUM_EXTENSIONS"])
    version = strings["VERSION"]
    es = version.startswith("OpenGL ES")
    profile = "es" if es else "compatibility" if number["CONTEXT_PROFILE_MASK"] & 2 else "core"
    if not es and (number["MAJOR_VERSION"], number["MINOR_VERSION"]) < (3, 2):
        profile = "compatibility" if "GL_ARB_compatibility" in strings["EXTENSIONS"].split() else "core"
    return ContextInfo(
        api="OpenGL ES" if es else "OpenGL",
        major=number["MAJOR_VERSION"],
        minor=number["MINOR_VERSION"],
        profile=profile,
        flags=number["CONTEXT_FLAGS"],
        version=version,
        shading_language=strings["SHADING_LANGUAGE_VERSION"],
        renderer=strings["RENDERER"],
        vendor=strings["VENDOR"],
        extensions=strings["EXTENSIONS"].split(),
        limits={name: out.ints()[0] for name, out in limits.items()},
    )


def read_strings(executor: Executor, extensions: int) -> dict[str, str]:
    """glGetString values; strings live in the driver, so the executor copies them out."""
    batch = Batch()
    names = ("VERSION", "SHADING_LANGUAGE_VERSION", "RENDERER", "VENDOR")
    outs = {name: batch.out(256) for name in names}
    for name, out in outs.items():
        batch.call("wendaString", getattr(GL, name), -1, 256, out)
    found = [batch.out(96) for _ in range(extensions)]
    for index, out in enumerate(found):
        batch.call("wendaString", GL.EXTENSIONS, index, 96, out)
    executor.run(batch)
    return {**{name: out.text() for name, out in outs.items()}, "EXTENSIONS": " ".join(out.text() for out in found)}


def describe_default_framebuffer(executor: Executor, context: ContextInfo, state: State) -> DefaultFramebuffer:
    """Component sizes of the default framebuffer, without its contents."""
    batch = Batch()
    batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, 0)
    double, samples = batch.out(4), batch.out(4)
    batch.call("glGetIntegerv", GL.DOUBLEBUFFER, double)
    batch.call("glGetIntegerv", GL.SAMPLES, samples)
    sizes = {}
    # the names of the default framebuffer's buffers; both are asked, since a single-buffered one has no back
    for side in ("BACK_LEFT", "FRONT_LEFT"):
        for point, name in ((side, "RED"), (side, "GREEN"), (side, "BLUE"), (side, "ALPHA"), ("DEPTH", "DEPTH"), ("STENCIL", "STENCIL")):
            kind, out, encoding = batch.out(4), batch.out(4), batch.out(4)
            arguments = (GL.DRAW_FRAMEBUFFER, getattr(GL, point))
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, GL.FRAMEBUFFER_ATTACHMENT_OBJECT_TYPE, kind)
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, getattr(GL, f"FRAMEBUFFER_ATTACHMENT_{name}_SIZE"), out)
            batch.call("glGetFramebufferAttachmentParameteriv", *arguments, GL.FRAMEBUFFER_ATTACHMENT_COLOR_ENCODING, encoding)
            sizes[side, name] = (kind, out, encoding)
    batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, state.get("framebuffer", {}).get((GL.DRAW_FRAMEBUFFER, 0), (0,))[0])
    executor.run(batch)
    side = "BACK_LEFT" if double.ints()[0] else "FRONT_LEFT"
    bits = {
        name: (out.ints()[0] if kind.ints()[0] != GL.NONE else 0)
        for (where, name), (kind, out, _) in sizes.items()
        if where == side
    }
    return DefaultFramebuffer(
        red=bits["RED"], green=bits["GREEN"], blue=bits["BLUE"], alpha=bits["ALPHA"],
        depth=bits["DEPTH"], stencil=bits["STENCIL"], samples=samples.ints()[0],
        srgb=sizes[side, "RED"][2].ints()[0] == GL.SRGB, double=bool(double.ints()[0]),
    )  # fmt: skip
