"""What a frame uses that cannot be replayed faithfully yet, named. Never a silent wrong picture."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.packed import FLAG_CLIENT_MEMORY, FLAG_LOST
from wendascope.frame.prune import first_uses
from wendascope.frame.steps import KINDS
from wendascope.registry import tables

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

_FIXED_FUNCTION = re.compile(
    r"gl(Begin$|End$|Vertex\d|Color\d|Normal3|TexCoord\d|MultiTexCoord|MatrixMode|LoadMatrix|LoadIdentity|PushMatrix|PopMatrix|MultMatrix"
    r"|Rotate[df]|Translate[df]|Scale[df]|Ortho$|Frustum|Light|Material|TexEnv|TexGen[dfi]|Fog|ShadeModel|AlphaFunc|CallList|NewList"
    r"|EnableClientState|DisableClientState|(Vertex|Color|Normal|TexCoord|Index|EdgeFlag)Pointer$|DrawPixels|Bitmap|RasterPos|WindowPos"
    r"|PushAttrib|PopAttrib|PushClientAttrib|PopClientAttrib|Accum|ClipPlane|Rect[dfis]|PolygonStipple|LineStipple|Map[12]|Eval)"
)
_NOT_REPLAYED = (
    (re.compile(r"gl(BindProgramPipeline|UseProgramStages|ActiveShaderProgram)"), "program pipelines are not rebuilt"),
    (re.compile(r"glBindTransformFeedback"), "transform feedback objects are not rebuilt"),
    (re.compile(r"glBeginConditionalRender"), "conditional rendering may follow the result of a query of an earlier frame"),
    (re.compile(r"gl(Get(Texture|Image)(Sampler)?Handle|UniformHandle|ProgramUniformHandle|MakeTextureHandle|MakeImageHandle)"), "bindless handles are not translated"),
    (re.compile(r"gl(EGLImageTarget|ImportMemory|ImportSemaphore|TexStorageMem|BufferStorageMem|TextureStorageMem|NamedBufferStorageMem)"), "memory shared with other programs is not captured"),
    (re.compile(r"gl(TexPageCommitment|BufferPageCommitment|NamedBufferPageCommitment)"), "sparse storage is not rebuilt"),
    (re.compile(r"gl(ProgramBinary|ShaderBinary)$"), "a program is loaded from a binary inside the frame"),
    (re.compile(r"gl(ProgramStringARB|BindProgramARB|ProgramEnvParameter|ProgramLocalParameter)"), "assembly programs are not captured"),
)  # fmt: skip


def frame_caveats(frame: Frame) -> list[str]:
    """Caveats that follow from the calls and objects of a frame, in a fixed order."""
    calls = frame.calls
    commands = [tables().commands[i] for i in np.unique(calls.ids).tolist()]
    found = []
    lost = np.unique(calls.ids[(calls.flags & FLAG_LOST) != 0]).tolist()
    found += [f"arguments of {tables().commands[i].name} were not recorded" for i in lost]
    if np.any(calls.flags & FLAG_CLIENT_MEMORY):
        found.append("vertex arrays in client memory were not recorded")
    if frame.context.profile == "compatibility":
        fixed = sorted(c.name for c in commands if _FIXED_FUNCTION.match(c.name))
        if fixed:
            more = f" and {len(fixed) - 1} more" if len(fixed) > 1 else ""
            found.append(f"fixed-function state is not captured (the frame calls {fixed[0]}{more})")
        draws = frame.steps.kind == KINDS.index("draw")
        if np.any(frame.steps.program[draws] == 0):
            found.append("some steps draw without a program")
    for pattern, text in _NOT_REPLAYED:
        if any(pattern.match(c.name) for c in commands):
            found.append(text)
    return found + _multisample_caveats(frame)


def _multisample_caveats(frame: Frame) -> list[str]:
    """Multisampled contents from before the frame are kept resolved, or not at all."""
    uses = first_uses(frame)
    resolved, missing = 0, 0
    names = [("texture", t.name, t.images[0].contents) for t in frame.objects.textures if t.images and t.images[0].samples]
    names += [("renderbuffer", r.name, r.contents) for r in frame.objects.renderbuffers if r.samples]
    for kind, name, contents in names:
        use = uses.get((kind, name))
        if use is not None and use[1]:
            continue  # cleared first: what it held does not matter
        resolved += contents is not None
        missing += contents is None
    found = []
    if resolved:
        found.append(f"multisampled contents from before the frame are kept resolved, all samples of a pixel alike ({resolved})")
    if missing:
        found.append(f"multisampled contents from before the frame are not kept ({missing})")
    if frame.default_framebuffer.samples and not uses.get(("color", 0), (0, False))[1]:
        found.append("what the multisampled window held before the frame is not kept")
    return found
