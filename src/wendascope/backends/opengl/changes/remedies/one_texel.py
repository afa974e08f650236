"""Every texture that some steps read becomes one texel: what is saved is the fetching of texels from memory."""

from __future__ import annotations

import msgspec

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.images import middle_texel, with_one_texel
from wendascope.backends.opengl.changes.states import active_texture, bind_texture
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.formats import named_format
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.backends.opengl.tables.inputs import texture_inputs
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL

_AS_THEY_ARE = (GL.TEXTURE_BUFFER, GL.TEXTURE_2D_MULTISAMPLE, GL.TEXTURE_2D_MULTISAMPLE_ARRAY)
_GREY = bytes((128, 128, 128, 255))


@lowers("one-texel")
def one_texel(change: FrameChange, item: Remedy) -> None:
    """Let the steps sample textures of one texel."""
    made: dict[int, int] = {}
    for step in item.steps:
        rows = [row for row in texture_inputs(change.frame, step) if row.texture and row.target not in _AS_THEY_ARE]
        if not rows:
            continue
        call = int(change.frame.steps.call[step])
        before, after = CallBatch(), CallBatch()
        for row in rows:
            record = change.frame.objects.texture(row.texture)
            if record is None or not record.images:
                continue
            if row.texture not in made:
                texel = _texel(change.frame, record, change.new.name())
                change.new.objects.textures.append(texel)
                made[row.texture] = texel.name
            bind_texture(before, row.unit, row.target, made[row.texture])
            bind_texture(after, row.unit, row.target, row.texture)
        for batch in (before, after):
            batch.call("glActiveTexture", active_texture(change.frame, call))
        change.enclose(step, before, after)
    if not made:
        raise TrialError("the steps read no textures")


def _texel(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord:
    """The texture's own kind and parameters with one texel: its middle one, or grey where the frame draws it."""
    return middle_texel(frame, record, name) or with_one_texel(frame, record, name, *_like_it(record.images[0]))


def _like_it(image: ImageRecord) -> tuple[ImageRecord, bytes]:
    found = named_format(image.internal_format)
    if found is not None and found[0] in (GL.DEPTH_COMPONENT, GL.DEPTH_STENCIL):
        shape = msgspec.structs.replace(
            image, internal_format=GL.DEPTH_COMPONENT24, format=GL.DEPTH_COMPONENT, type=GL.UNSIGNED_INT
        )
        return shape, b"\xff" * 4
    integers = found is not None and found[0] in (GL.RED_INTEGER, GL.RG_INTEGER, GL.RGB_INTEGER, GL.RGBA_INTEGER)
    internal, format_ = (GL.RGBA8UI, GL.RGBA_INTEGER) if integers else (GL.RGBA8, GL.RGBA)
    return msgspec.structs.replace(
        image, internal_format=internal, format=format_, type=GL.UNSIGNED_BYTE, compressed=False
    ), _GREY
