"""One texture in the place of another, wherever a frame names it: bound, attached, now or before the frame."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange
from wendascope.backends.opengl.changes.states import active_texture, bind_texture
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.contents import image_values
from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.objects.records import AttachmentRecord, ImageRecord, TextureRecord
from wendascope.backends.opengl.objects.texel_sizes import format_name
from wendascope.backends.opengl.tables.memory import texture_bytes
from wendascope.backends.opengl.tables.written import texture_writes
from wendascope.errors import TrialError
from wendascope.registry import GL

_LAYERED = (GL.TEXTURE_3D, GL.TEXTURE_2D_ARRAY, GL.TEXTURE_CUBE_MAP_ARRAY, GL.TEXTURE_1D_ARRAY)
_PLAIN = (GL.UNSIGNED_BYTE, GL.UNSIGNED_SHORT, GL.HALF_FLOAT, GL.FLOAT)
_FACES = {GL.TEXTURE_CUBE_MAP: 6, GL.TEXTURE_CUBE_MAP_ARRAY: 6}
_ENCODED = {"SRGB8", "SRGB8_ALPHA8"}


def plain_texture(frame: OpenGLFrame, name: int) -> TextureRecord:
    """A texture that another one can take the place of. Raises TrialError where it cannot."""
    record = frame.objects.texture(name)
    if record is None or not record.images or record.is_default:
        raise TrialError(f"texture {name} is not there when the frame begins")
    if record.view_of or any(t.view_of == name for t in frame.objects.textures):
        raise TrialError(f"texture {name} shares its memory with a view")
    if not frame.resource_flow.followed:
        raise TrialError("the frame reads textures in ways that are not followed")
    if any(frame.history.number("image", 0, unit) == name for unit, _ in frame.history.keys("image")):
        raise TrialError(f"texture {name} is bound as an image, which is not changed here")
    return record


def not_uploaded(frame: OpenGLFrame, name: int) -> None:
    """Raises TrialError where the frame gives a texture new contents."""
    settings = ("glTexParameter", "glTextureParameter", "glGenerateMipmap", "glGenerateTextureMipmap")
    for call in texture_writes(frame).get(name, np.zeros(0, np.int64)).tolist():
        if not frame.calls.command(call).name.startswith(settings):
            raise TrialError(f"the frame writes texture {name} by {frame.calls.command(call).name}")


def replace_each(
    change: FrameChange, names: Iterable[int], made: Callable[[OpenGLFrame, TextureRecord, int], TextureRecord]
) -> None:
    """Put another texture in the place of each of some that the frame gives no new contents. `made` gets the old one
    and the name of the new one. Raises TrialError.
    """
    for name in names:
        record = plain_texture(change.frame, name)
        not_uploaded(change.frame, name)
        replace_texture(change, record, made(change.frame, record, change.new.name()))


def replace_texture(change: FrameChange, old: TextureRecord, new: TextureRecord) -> None:
    """Let everything of the frame that names one texture name another, which is brought in unless it is there. Raises
    TrialError.
    """
    frame = change.frame
    if change.renames("texture", old.name):
        raise TrialError(f"two remedies put another texture in the place of texture {old.name}")
    change.added_bytes -= texture_bytes(old)[0] or 0
    if frame.objects.texture(new.name) is None:
        change.new.objects.textures.append(new)
        change.added_bytes += texture_bytes(new)[0] or 0
    before = CallBatch()
    for unit, target in frame.history.keys("texture"):
        if frame.history.number("texture", 0, unit, target) == old.name:
            bind_texture(before, unit - GL.TEXTURE0, target, new.name)
    if before.starts:
        before.call("glActiveTexture", active_texture(frame, 0))
        change.first.append(before)
    _attach(change, old, new)
    change.rename("texture", old.name, new.name)


def _attach(change: FrameChange, old: TextureRecord, new: TextureRecord) -> None:
    """Attach the new one where the old one was attached before the frame, and that one again at its end."""
    frame = change.frame
    first, last = CallBatch(), CallBatch()
    for framebuffer in frame.objects.framebuffers:
        mine = [a for a in framebuffer.attachments if a.kind == "texture" and a.name == old.name]
        if not mine:
            continue
        if framebuffer.name == frame.reference_framebuffer and framebuffer.name:
            raise TrialError(f"texture {old.name} is what the program shows")
        for batch, name in ((first, new.name), (last, old.name)):
            batch.call("glBindFramebuffer", GL.FRAMEBUFFER, framebuffer.name)
            for attachment in mine:
                _attach_one(batch, attachment, old.target, name)
    if not first.starts:
        return
    for batch, call in ((first, 0), (last, len(frame.calls))):
        for bound in (GL.READ_FRAMEBUFFER, GL.DRAW_FRAMEBUFFER):
            batch.call("glBindFramebuffer", bound, frame.history.number("framebuffer", call, bound))
    change.first.append(first)
    change.unrenamed.append(Insertion(len(frame.calls), last, undoes=True))


def _attach_one(batch: CallBatch, a: AttachmentRecord, target: int, name: int) -> None:
    if a.layered:
        batch.call("glFramebufferTexture", GL.FRAMEBUFFER, a.point, name, a.level)
    elif a.face:
        batch.call("glFramebufferTexture2D", GL.FRAMEBUFFER, a.point, a.face, name, a.level)
    elif target in _LAYERED:
        batch.call("glFramebufferTextureLayer", GL.FRAMEBUFFER, a.point, name, a.level, a.layer)
    else:
        batch.call("glFramebufferTexture2D", GL.FRAMEBUFFER, a.point, target, name, a.level)


# ---- contents ----------------------------------------------------------------------------------------------


def middle_texel(frame: OpenGLFrame, record: TextureRecord, name: int) -> TextureRecord | None:
    """The texture with one texel, that in its middle; None where its contents are not kept, or compressed."""
    image = record.images[0]
    if image.compressed or image.contents is None or not image.format:
        return None
    data = frame.blobs.get(image.contents)
    size = pixel_size(image.format, image.type)
    middle = (image.height // 2 * image.width + image.width // 2) * size
    if len(data) < middle + size:
        return None
    return with_one_texel(frame, record, name, image, data[middle : middle + size])


def with_one_texel(
    frame: OpenGLFrame, record: TextureRecord, name: int, shape: ImageRecord, texel: bytes
) -> TextureRecord:
    """A texture's own kind and parameters with one texel of the format that `shape` has, on every face."""
    count = _FACES.get(record.target, 1)
    one = msgspec.structs.replace(shape, level=0, width=1, height=1, depth=1, samples=0)
    if record.target == GL.TEXTURE_CUBE_MAP:
        images = [
            msgspec.structs.replace(one, target=GL.TEXTURE_CUBE_MAP_POSITIVE_X + k, contents=frame.blobs.put(texel))
            for k in range(count)
        ]
    else:
        images = [msgspec.structs.replace(one, depth=count, contents=frame.blobs.put(texel * count))]
    parameters = {k: v for k, v in record.parameters.items() if k not in ("TEXTURE_BASE_LEVEL", "TEXTURE_MAX_LEVEL")}
    return TextureRecord(name, record.target, images, parameters | {"TEXTURE_MAX_LEVEL": [0.0]})


def half_as_large(frame: OpenGLFrame, texture: TextureRecord, image: ImageRecord) -> ImageRecord:
    """The image at half its width and height, every texel the mean of four (of colours, of light). Raises
    TrialError.
    """
    values = _layers(frame, texture, image)
    light = format_name(image.internal_format) in _ENCODED
    linear = _decoded(values) if light else values
    height, width = max(image.height // 2, 1), max(image.width // 2, 1)
    rows, columns = (min(2, n) for n in (image.height, image.width))
    cut = linear[:, : height * rows, : width * columns]
    smaller = cut.reshape(len(values), height, rows, width, columns, -1).mean(axis=(2, 4))
    data = _packed(_encoded(smaller) if light else smaller, image)
    contents = frame.blobs.put(data)
    return ImageRecord(
        image.target, image.level, width, height, image.depth, image.internal_format, image.format, image.type,
        contents=contents,
    )  # fmt: skip


def _layers(frame: OpenGLFrame, texture: TextureRecord, image: ImageRecord) -> npt.NDArray[np.float64]:
    """All layers of an image, shape (layers, height, width, channels). Raises TrialError."""
    if image.compressed or image.contents is None or image.type not in _PLAIN:
        raise TrialError(f"texture {texture.name} is stored in a way that is not made smaller here")
    if texture.target == GL.TEXTURE_3D and image.depth > 1:
        raise TrialError(f"texture {texture.name} has depth, which is not made smaller here")
    data = frame.blobs.get(image.contents)
    layers = [image_values(texture, image, data, layer) for layer in range(max(image.depth, 1))]
    if any(layer is None or layer.channels == ["depth"] for layer in layers):
        raise TrialError(f"texture {texture.name} holds no colours that are known here")
    return np.stack([layer.values.astype(np.float64) for layer in layers if layer is not None])


def _packed(values: npt.NDArray[np.float64], image: ImageRecord) -> bytes:
    """Pixels of the image's own transfer format."""
    if image.format in (GL.BGR, GL.BGRA):
        values = values[..., [2, 1, 0, 3][: values.shape[-1]]]
    kinds = {GL.UNSIGNED_BYTE: (np.uint8, 255.0), GL.UNSIGNED_SHORT: (np.uint16, 65535.0)}
    if image.type in kinds:
        dtype, largest = kinds[image.type]
        return np.rint(np.clip(values, 0.0, 1.0) * largest).astype(dtype).tobytes()
    return values.astype(np.float16 if image.type == GL.HALF_FLOAT else np.float32).tobytes()


def _decoded(values: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """sRGB to light, alpha as it is (IEC 61966-2-1)."""
    colours = values[..., :3]
    light = np.where(colours <= 0.04045, colours / 12.92, ((colours + 0.055) / 1.055) ** 2.4)
    return np.concatenate([light, values[..., 3:]], axis=-1)


def _encoded(values: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    light = values[..., :3]
    colours = np.where(light <= 0.0031308, light * 12.92, 1.055 * np.maximum(light, 0.0) ** (1 / 2.4) - 0.055)
    return np.concatenate([colours, values[..., 3:]], axis=-1)
