"""Contents of texture images on OpenGL ES, which has no call to read them.

Compressed images come from what the tap kept, images that a framebuffer takes through one, and the others through
a shader of ours that fetches every texel as bits.
"""

from __future__ import annotations

import struct
from typing import Any

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.gl_helpers import small_program
from wendascope.backends.opengl.calls.packed import CallBatch, Out, Result
from wendascope.backends.opengl.objects.formats import pixel_size
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.registry import GL, tables

Item = tuple[TextureRecord, ImageRecord]
_COMPONENTS = {
    GL.RED: 1,
    GL.RED_INTEGER: 1,
    GL.RG: 2,
    GL.RG_INTEGER: 2,
    GL.RGB: 3,
    GL.RGB_INTEGER: 3,
    GL.LUMINANCE: 1,
    GL.DEPTH_COMPONENT: 1,
}
_INTEGER = (GL.RED_INTEGER, GL.RG_INTEGER, GL.RGB_INTEGER, GL.RGBA_INTEGER)
_DTYPES: dict[int, Any] = {
    GL.UNSIGNED_BYTE: np.uint8,
    GL.BYTE: np.int8,
    GL.UNSIGNED_SHORT: np.uint16,
    GL.SHORT: np.int16,
    GL.UNSIGNED_INT: np.uint32,
    GL.INT: np.int32,
    GL.HALF_FLOAT: np.float16,
    GL.FLOAT: np.float32,
}
_PACKED = {
    GL.UNSIGNED_SHORT_5_6_5: (5, 6, 5),
    GL.UNSIGNED_SHORT_4_4_4_4: (4, 4, 4, 4),
    GL.UNSIGNED_SHORT_5_5_5_1: (5, 5, 5, 1),
}
_SAMPLED = {GL.TEXTURE_2D: "sampler2D", GL.TEXTURE_3D: "sampler3D", GL.TEXTURE_2D_ARRAY: "sampler2DArray"}
_VERTEX = """#version 300 es
void main() { gl_Position = vec4(vec2(gl_VertexID & 1, gl_VertexID >> 1) * 4.0 - 1.0, 0.0, 1.0); }"""
_FRAGMENT = """#version 300 es
precision highp float; precision highp int; precision highp %(sampler)s;
uniform highp %(sampler)s image; uniform ivec2 where; out highp uvec4 texel;
void main() { texel = floatBitsToUint(texelFetch(image, %(at)s, where.y)); }"""


def read_es_images(reader: Reader, items: list[Item]) -> None:
    """Fill in contents; what cannot be had is a caveat."""
    plain: list[Item] = []
    for record, image in items:
        if image.compressed:
            data = reader.kept.compressed(record.name, image)
            if data is None:
                _missing(reader, record, image)
            else:
                image.contents = reader.blobs.put(data)
            image.format = image.type = 0
        else:
            plain.append((record, image))
    attachable = _attachable(reader, plain)
    through = [item for item, whole in zip(plain, attachable, strict=True) if whole]

    def read(item: Item, batch: CallBatch) -> list[Out]:
        batch.call("glBindFramebuffer", reader.offers.read_target, scratch.framebuffer)
        return [_read_layer(reader, batch, *item, layer) for layer in range(item[1].depth)]

    size = lambda item: item[1].width * item[1].height * item[1].depth * 16  # noqa: E731
    scratch = _Scratch(reader)
    try:
        for (_, image), outs in reader.contents(through, size, read):
            data = b"".join(es_converted(image, out.data) for out in outs)
            image.contents = reader.blobs.put(data)
        for item, whole in zip(plain, attachable, strict=True):
            if not whole and not (item[0].target in _SAMPLED and reader.context.number >= 30 and scratch.fetch(*item)):
                _missing(reader, *item)
    finally:
        scratch.delete()


def _missing(reader: Reader, record: TextureRecord, image: ImageRecord) -> None:
    name = tables().enum_name(image.internal_format, "InternalFormat")
    reader.caveats.append(
        f"texture {record.name}: contents of level {image.level} ({name}) cannot be read on OpenGL ES and were not kept"
    )


def _attach(batch: CallBatch, target: int, record: TextureRecord, image: ImageRecord, layer: int) -> None:
    if record.target in (GL.TEXTURE_3D, GL.TEXTURE_2D_ARRAY, GL.TEXTURE_CUBE_MAP_ARRAY):
        batch.call("glFramebufferTextureLayer", target, GL.COLOR_ATTACHMENT0, record.name, image.level, layer)
    else:
        batch.call("glFramebufferTexture2D", target, GL.COLOR_ATTACHMENT0, image.target, record.name, image.level)


def _attachable(reader: Reader, items: list[Item]) -> list[bool]:
    """Which images a framebuffer takes as colour."""
    scratch = _Scratch(reader)
    batch = reader.batch()
    batch.call("glBindFramebuffer", reader.offers.read_target, scratch.framebuffer)
    results: list[Result | None] = []
    for record, image in items:
        signed = image.type in (GL.BYTE, GL.SHORT) and image.format not in _INTEGER  # what reads them differs by driver
        if signed or image.format in (GL.DEPTH_COMPONENT, GL.DEPTH_STENCIL, GL.LUMINANCE, GL.LUMINANCE_ALPHA, GL.ALPHA):
            results.append(None)
            continue
        _attach(batch, reader.offers.read_target, record, image, 0)
        results.append(batch.call("glCheckFramebufferStatus", reader.offers.read_target))
    reader.run(batch)
    scratch.delete()
    return [result is not None and result.value & 0xFFFFFFFF == GL.FRAMEBUFFER_COMPLETE for result in results]


def es_transfer(image: ImageRecord) -> tuple[int, int]:
    """What glReadPixels of ES always takes for an image's kind."""
    if image.format in _INTEGER:
        return GL.RGBA_INTEGER, GL.INT if image.type in (GL.INT, GL.SHORT, GL.BYTE) else GL.UNSIGNED_INT
    if image.type == GL.UNSIGNED_INT_2_10_10_10_REV:
        return GL.RGBA, GL.UNSIGNED_INT_2_10_10_10_REV
    if image.type in (GL.HALF_FLOAT, GL.FLOAT, GL.UNSIGNED_INT_10F_11F_11F_REV, GL.UNSIGNED_INT_5_9_9_9_REV):
        return GL.RGBA, GL.FLOAT
    return GL.RGBA, GL.UNSIGNED_SHORT if image.type == GL.UNSIGNED_SHORT else GL.UNSIGNED_BYTE


def _read_layer(reader: Reader, batch: CallBatch, record: TextureRecord, image: ImageRecord, layer: int) -> Out:
    format_, type_ = es_transfer(image)
    out = batch.out(image.width * image.height * pixel_size(format_, type_))
    _attach(batch, reader.offers.read_target, record, image, layer)
    batch.call("glReadPixels", 0, 0, image.width, image.height, format_, type_, out)
    return out


def _packed(texels: npt.NDArray[np.uint8], bits: tuple[int, ...]) -> bytes:
    """Eight-bit components to the packed sixteen bits that they were read from, first component in the high bits."""
    word: npt.NDArray[Any] = np.zeros(len(texels), np.uint32)
    for component, width in enumerate(bits):
        value = np.rint(texels[:, component].astype(np.float64) * ((1 << width) - 1) / 255).astype(np.uint32)
        word = word << width | value
    return word.astype(np.uint16).tobytes()


def es_converted(image: ImageRecord, data: bytes, floats: bool = False) -> bytes:
    """Four components as they were read, to the components and type that the image is uploaded by."""
    _, type_ = (GL.RGBA, GL.FLOAT) if floats else es_transfer(image)
    if type_ == GL.UNSIGNED_INT_2_10_10_10_REV or (image.type, image.format) == (type_, GL.RGBA):
        return data
    if image.type in _PACKED:
        return _packed(np.frombuffer(data, np.uint8).reshape(-1, 4), _PACKED[image.type])
    if image.type not in _DTYPES:  # packed floats: uploaded as the floats they stand for
        image.format, image.type = GL.RGB, GL.FLOAT
    texels = np.frombuffer(data, _DTYPES[type_]).reshape(-1, 4)
    if image.format == GL.ALPHA:
        chosen = texels[:, 3:4]
    elif image.format == GL.LUMINANCE_ALPHA:
        chosen = texels[:, [0, 3]]
    else:
        chosen = texels[:, : _COMPONENTS.get(image.format, 4)]
    wanted = _DTYPES[image.type]
    if type_ == GL.FLOAT and not np.issubdtype(wanted, np.floating):
        # normalised numbers: 24 bits of depth are the high bits of what is uploaded
        chosen = np.rint(chosen.astype(np.float64) * float(np.iinfo(np.dtype(wanted)).max))
    return np.ascontiguousarray(chosen.astype(wanted)).tobytes()


class _Scratch:
    """Objects of ours in the target, for as long as images are read."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader
        self._programs: dict[str, int] = {}
        batch = CallBatch()
        framebuffer = batch.out(4)
        batch.call("glGenFramebuffers", 1, framebuffer)
        reader.executor.run(batch)
        self.framebuffer = framebuffer.uints()[0]

    def delete(self) -> None:
        batch = CallBatch()
        batch.call("glDeleteFramebuffers", 1, struct.pack("<I", self.framebuffer))
        for program in self._programs.values():
            batch.call("glDeleteProgram", program)
        self._reader.executor.run(batch)

    def _program(self, target: int) -> int:
        sampler = _SAMPLED[target]
        if sampler not in self._programs:
            at = "ivec2(gl_FragCoord.xy)" if target == GL.TEXTURE_2D else "ivec3(gl_FragCoord.xy, where.x)"
            fragment = _FRAGMENT % {"sampler": sampler, "at": at}
            sources = ((GL.VERTEX_SHADER, _VERTEX), (GL.FRAGMENT_SHADER, fragment))
            self._programs[sampler] = small_program(self._reader.executor, sources)
        return self._programs[sampler]

    def fetch(self, record: TextureRecord, image: ImageRecord) -> bool:
        """Draw every texel's bits into an integer texture and read that. Depth with stencil is not read this way."""
        reader = self._reader
        if image.format in (GL.DEPTH_STENCIL, GL.STENCIL_INDEX, *_INTEGER):
            return False
        reserve = CallBatch()
        texture, array, sampler = reserve.out(4), reserve.out(4), reserve.out(4)
        reserve.call("glGenTextures", 1, texture)
        reserve.call("glGenVertexArrays", 1, array)
        reserve.call("glGenSamplers", 1, sampler)
        program = self._program(record.target)
        location = reserve.call("glGetUniformLocation", program, b"where\0")
        reader.executor.run(reserve)
        batch = reader.batch()
        call = batch.call
        size = (image.width, image.height)
        # a texture without its smaller levels is whole only for a filter that asks for none
        filtered = GL.NEAREST_MIPMAP_NEAREST if image.level else GL.NEAREST
        call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, 0)
        call("glBindTexture", GL.TEXTURE_2D, texture.uints()[0])
        call("glTexStorage2D", GL.TEXTURE_2D, 1, GL.RGBA32UI, *size)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self.framebuffer)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, self.framebuffer)
        call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, texture.uints()[0], 0)
        off = [cap for (cap, _), (on,) in reader.state["capability"].items() if on and cap != GL.DITHER]
        for cap in (*off, GL.BLEND, GL.SCISSOR_TEST):
            call("glDisable", cap)
        call("glColorMask", 1, 1, 1, 1)
        call("glViewport", 0, 0, *size)
        call("glUseProgram", program)
        call("glBindVertexArray", array.uints()[0])
        call("glBindTexture", record.target, record.name)
        call("glSamplerParameteri", sampler.uints()[0], GL.TEXTURE_MIN_FILTER, filtered)
        call("glSamplerParameteri", sampler.uints()[0], GL.TEXTURE_MAG_FILTER, GL.NEAREST)
        call("glBindSampler", 0, sampler.uints()[0])
        outs = []
        for layer in range(image.depth):
            call("glUniform2i", _signed(location.value), layer, image.level)
            call("glDrawArrays", GL.TRIANGLE_STRIP, 0, 4)
            outs.append(batch.out(size[0] * size[1] * 16))
            call("glReadPixels", 0, 0, *size, GL.RGBA_INTEGER, GL.UNSIGNED_INT, outs[-1])
        self._put_back(batch, off)
        call("glDeleteTextures", 1, struct.pack("<I", texture.uints()[0]))
        call("glDeleteVertexArrays", 1, struct.pack("<I", array.uints()[0]))
        call("glDeleteSamplers", 1, struct.pack("<I", sampler.uints()[0]))
        reader.run(batch)
        image.contents = reader.blobs.put(b"".join(es_converted(image, out.data, floats=True) for out in outs))
        return True

    def _put_back(self, batch: CallBatch, off: list[int]) -> None:
        reader, call = self._reader, batch.call
        for cap in off:
            call("glEnable", cap)
        for pattern, cap in (("blend_enabled", GL.BLEND), ("scissor_test_enabled", GL.SCISSOR_TEST)):
            for (i, _), (on,) in reader.state.get(pattern, {}).items():
                if on and i and reader.offers("glEnablei"):
                    call("glEnablei", cap, i)
                elif on:
                    call("glEnable", cap)
        masks = reader.state.get("color_mask", {})
        for (i, _), mask in masks.items():
            if reader.offers("glColorMaski"):
                call("glColorMaski", i, *mask)
            elif i == 0:
                call("glColorMask", *mask)
        box = [struct.unpack("<f", struct.pack("<I", v & 0xFFFFFFFF))[0] for v in reader.state["viewport"][0, 0]]
        call("glViewport", *map(int, box))
        call("glUseProgram", reader.value("program"))
        call("glBindVertexArray", reader.value("vertex_array"))
        call("glBindSampler", 0, reader.value("sampler"))
        call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, reader.value("buffer", GL.PIXEL_UNPACK_BUFFER))


def _signed(value: int) -> int:
    value &= 0xFFFFFFFF
    return value - (1 << 32) if value >> 31 else value
