"""What a frame uses that cannot be replayed faithfully yet, named. Never a silent wrong picture."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from wendascope.backends.opengl.calls.packed import FLAG_CLIENT_MEMORY, FLAG_LOST
from wendascope.backends.opengl.calls.prune import first_uses
from wendascope.backends.opengl.tables.inputs import sampler_uses
from wendascope.backends.opengl.tables.written import written_objects
from wendascope.registry import GL, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_NOT_REPLAYED = (
    (
        re.compile(
            r"gl(Get(Texture|Image)(Sampler)?Handle|UniformHandle|ProgramUniformHandle|MakeTextureHandle|MakeImageHandle)"
        ),
        "bindless handles are not translated",
    ),
    (
        re.compile(
            r"gl(EGLImageTarget|ImportMemory|ImportSemaphore|TexStorageMem|BufferStorageMem|TextureStorageMem|NamedBufferStorageMem)"
        ),
        "memory shared with other programs is not captured",
    ),
    (
        re.compile(r"gl(TexPageCommitment|BufferPageCommitment|NamedBufferPageCommitment)"),
        "sparse storage is not rebuilt",
    ),
    (re.compile(r"gl(ProgramBinary|ShaderBinary)$"), "a program is loaded from a binary inside the frame"),
    (
        re.compile(r"gl(ColorTable|ColorSubTable|CopyColorTable|Convolution|SeparableFilter|Histogram|Minmax)"),
        "colour tables, convolutions and histograms set before the frame are not kept",
    ),
    (
        re.compile(
            r"gl(BeginPerfMonitor|BeginPerfQuery|WaitSemaphore|SignalSemaphore|CreateCommandLists|DrawCommands)"
        ),
        "the frame uses an extension that is not replayed",
    ),
    (
        re.compile(r"gl(BeginFragmentShaderATI|BindVertexShaderEXT|CombinerParameter|ProgramNamedParameter)"),
        "shaders of vendor extensions are not kept",
    ),
)


def frame_caveats(frame: OpenGLFrame) -> list[str]:
    """Caveats that follow from the calls and objects of a frame, in a fixed order."""
    calls = frame.calls
    commands = [tables().commands[i] for i in np.unique(calls.ids).tolist()]
    found = []
    lost = np.unique(calls.ids[(calls.flags & FLAG_LOST) != 0]).tolist()
    found += [f"arguments of {tables().commands[i].name} were not recorded" for i in lost]
    if np.any(calls.flags & FLAG_CLIENT_MEMORY):
        found.append("glArrayElement reads arrays in client memory, which is not recorded")
    if np.any(frame.lists.flags & FLAG_CLIENT_MEMORY):
        found.append("a display list was made with glArrayElement from client memory, which is not kept")
    found += _from_earlier_frames(frame) + _deleted_attachments(frame) + _drawn_earlier(frame)
    for pattern, text in _NOT_REPLAYED:
        if any(pattern.match(c.name) for c in commands):
            found.append(text)
    return found + _multisample_caveats(frame)


def _deleted_attachments(frame: OpenGLFrame) -> list[str]:
    """Images that live on without a name, since a framebuffer holds them: GL tells neither their size nor what they
    hold.
    """
    there = {("texture", t.name) for t in frame.objects.textures}
    there |= {("renderbuffer", r.name) for r in frame.objects.renderbuffers}
    used = set(np.unique(frame.history.events("framebuffer").values).tolist())
    return [
        f"framebuffer {record.name} holds {attachment.kind} {attachment.name}, which was deleted: it is not captured,"
        " and what is drawn with it comes out otherwise"
        for record in frame.objects.framebuffers
        for attachment in record.attachments
        if record.name in used and (attachment.kind, attachment.name) not in there
    ]


def _drawn_earlier(frame: OpenGLFrame) -> list[str]:
    """Large views that the window shows and this frame does not draw: their time is not in it."""
    written, (width, height) = written_objects(frame).textures, frame.size
    attached = {a.name for f in frame.objects.framebuffers for a in f.attachments if a.kind == "texture"}
    to_window = [index for index, target in enumerate(frame.passes.targets) if not target.framebuffer]
    shown = np.isin(frame.passes.of_step, to_window)
    found = []
    for use in sampler_uses(frame):
        for name in np.unique(use.textures[shown[use.steps]]).tolist():
            record = frame.textures.get(name)
            if record is None or name not in attached - written or not record.images:
                continue
            image = record.images[0]
            if 2 * image.width * image.height >= width * height:
                found.append(
                    f"the window shows texture {name} ({image.width} x {image.height}), which was drawn before this"
                    " frame or by a context that was not recorded: what drawing it costs is not in this frame"
                )
    return sorted(set(found))


def _from_earlier_frames(frame: OpenGLFrame) -> list[str]:
    """What the frame takes from frames before it and GL does not tell."""
    calls, found = frame.calls, []
    begun = calls.calls_of("glBeginTransformFeedback")
    for call in calls.calls_of(
        *(c.name for c in tables().commands if c.name.startswith("glDrawTransformFeedback"))
    ).tolist():
        feedback = int(calls.argument(call, "id"))
        filled = [b for b in begun.tolist() if b < call and frame.history.number("transform_feedback", b) == feedback]
        if not filled:
            found.append(
                "the frame draws what transform feedback of an earlier frame counted, which the replay draws as empty"
            )
            break
    no_wait = (
        GL.QUERY_NO_WAIT,
        GL.QUERY_BY_REGION_NO_WAIT,
        GL.QUERY_NO_WAIT_INVERTED,
        GL.QUERY_BY_REGION_NO_WAIT_INVERTED,
    )
    if any(
        int(calls.argument(c, "mode")) in no_wait
        for c in calls.calls_of("glBeginConditionalRender", "glBeginConditionalRenderNV").tolist()
    ):
        found.append("conditional rendering does not wait for its query, so what is drawn may depend on timing")
    window = frame.default_framebuffer
    if frame.context.es and window.depth and not first_uses(frame).get(("depth", 0), (0, True))[1]:
        found.append("depth of the window from before the frame cannot be read on OpenGL ES")
    return found


def _multisample_caveats(frame: OpenGLFrame) -> list[str]:
    """Multisampled contents from before the frame are kept resolved, or not at all."""
    uses = first_uses(frame)
    resolved, missing = 0, 0
    names = [
        ("texture", t.name, t.images[0].contents) for t in frame.objects.textures if t.images and t.images[0].samples
    ]
    names += [("renderbuffer", r.name, r.contents) for r in frame.objects.renderbuffers if r.samples]
    for kind, name, contents in names:
        use = uses.get((kind, name))
        if use is not None and use[1]:
            continue  # cleared first: what it held does not matter
        resolved += contents is not None
        missing += contents is None
    found = []
    if resolved:
        found.append(
            f"multisampled contents from before the frame are kept resolved, all samples of a pixel alike ({resolved})"
        )
    if missing:
        found.append(f"multisampled contents from before the frame are not kept ({missing})")
    if frame.default_framebuffer.samples and not uses.get(("color", 0), (0, False))[1]:
        found.append(
            "what the multisampled window held before the frame is kept resolved, all samples of a pixel alike"
        )
    return found
