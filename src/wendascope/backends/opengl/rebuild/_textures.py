"""Textures, their images, and what is filled by a blit."""

from __future__ import annotations

import struct

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.records import ImageRecord, TextureRecord
from wendascope.backends.opengl.rebuild._site import Site
from wendascope.errors import ReplayError
from wendascope.registry import GL


def define_texture(site: Site, batch: CallBatch, record: TextureRecord) -> None:
    call = batch.call
    if record.view_of:
        origin = site.frame.objects.texture(record.view_of)
        if origin is not None and record.images:
            here, there = site.names.get("texture", record.name), site.names.get("texture", origin.name)
            call(
                "glTextureView",
                here,
                record.target,
                there,
                record.images[0].internal_format,
                *record.view_levels,
                *record.view_layers,
            )
    call("glBindTexture", record.target, site.names.get("texture", record.name))
    if record.view_of:
        set_texture_parameters(site, batch, record)
        return
    if record.target == GL.TEXTURE_BUFFER:
        _define_buffer_texture(site, batch, record)
        return
    if record.immutable_levels and record.images:
        _storage(site, batch, record)
        for image in record.images:
            _upload(site, batch, record, image)
    else:
        for image in record.images:
            _upload(site, batch, record, image, define=True)
    set_texture_parameters(site, batch, record)


def _define_buffer_texture(site: Site, batch: CallBatch, record: TextureRecord) -> None:
    if not record.images or not record.buffer:
        return
    internal_format = record.images[0].internal_format
    buffer = site.names.get("buffer", record.buffer)
    if any(record.buffer_range):
        batch.call("glTexBufferRange", GL.TEXTURE_BUFFER, internal_format, buffer, *record.buffer_range)
    else:
        batch.call("glTexBuffer", GL.TEXTURE_BUFFER, internal_format, buffer)


def set_texture_parameters(site: Site, batch: CallBatch, record: TextureRecord) -> None:
    for name, values in record.parameters.items():
        set_parameter(batch, "glTexParameter", record.target, name, values)


def _storage(site: Site, batch: CallBatch, record: TextureRecord) -> None:
    base = record.images[0]
    levels, size = record.immutable_levels, (base.width, base.height, base.depth)
    match record.target:
        case GL.TEXTURE_1D:
            batch.call("glTexStorage1D", record.target, levels, base.internal_format, size[0])
        case GL.TEXTURE_2D | GL.TEXTURE_CUBE_MAP | GL.TEXTURE_RECTANGLE | GL.TEXTURE_1D_ARRAY:
            batch.call("glTexStorage2D", record.target, levels, base.internal_format, *size[:2])
        case GL.TEXTURE_3D | GL.TEXTURE_2D_ARRAY | GL.TEXTURE_CUBE_MAP_ARRAY:
            batch.call("glTexStorage3D", record.target, levels, base.internal_format, *size)
        case GL.TEXTURE_2D_MULTISAMPLE:
            batch.call(
                "glTexStorage2DMultisample",
                record.target,
                base.samples,
                base.internal_format,
                *size[:2],
                base.fixed_locations,
            )
        case GL.TEXTURE_2D_MULTISAMPLE_ARRAY:
            batch.call(
                "glTexStorage3DMultisample",
                record.target,
                base.samples,
                base.internal_format,
                *size,
                base.fixed_locations,
            )


def restore_texture(site: Site, batch: CallBatch, record: TextureRecord, redefine: bool) -> None:
    """Put contents and parameters back; `redefine` also the sizes and formats of its levels."""
    if record.target == GL.TEXTURE_BUFFER:
        return
    batch.call("glBindTexture", record.target, site.names.get("texture", record.name))
    for image in record.images:
        _upload(site, batch, record, image, define=redefine and not record.immutable_levels)
    set_texture_parameters(site, batch, record)


def _upload(site: Site, batch: CallBatch, record: TextureRecord, image: ImageRecord, define: bool = False) -> None:
    """Fill one level, or define and fill it."""
    call = batch.call
    data = site.frame.blobs.get(image.contents) if image.contents else None
    target, size = image.target, (image.width, image.height, image.depth)
    if record.target == GL.TEXTURE_2D_MULTISAMPLE:
        if define:
            call(
                "glTexImage2DMultisample",
                target,
                image.samples,
                image.internal_format,
                *size[:2],
                image.fixed_locations,
            )
        return
    if record.target == GL.TEXTURE_2D_MULTISAMPLE_ARRAY:
        if define:
            call("glTexImage3DMultisample", target, image.samples, image.internal_format, *size, image.fixed_locations)
        return
    dimensions = dimensions_of(record.target)
    extent = size[:dimensions]
    if image.compressed:
        if data is None:
            return
        if define:
            call(
                f"glCompressedTexImage{dimensions}D",
                target,
                image.level,
                image.internal_format,
                *extent,
                0,
                len(data),
                data,
            )
        else:
            zeros = (0,) * dimensions
            call(
                f"glCompressedTexSubImage{dimensions}D",
                target,
                image.level,
                *zeros,
                *extent,
                image.internal_format,
                len(data),
                data,
            )
    elif define:
        format_, type_ = (image.format, image.type) if image.format else (GL.RGBA, GL.UNSIGNED_BYTE)
        call(f"glTexImage{dimensions}D", target, image.level, image.internal_format, *extent, 0, format_, type_, data)
    elif data is not None:
        zeros = (0,) * dimensions
        call(f"glTexSubImage{dimensions}D", target, image.level, *zeros, *extent, image.format, image.type, data)


def dimensions_of(target: int) -> int:
    if target == GL.TEXTURE_1D:
        return 1
    return 3 if target in (GL.TEXTURE_3D, GL.TEXTURE_2D_ARRAY, GL.TEXTURE_CUBE_MAP_ARRAY) else 2


def set_parameter(batch: CallBatch, command: str, target: int, name: str, values: list[float]) -> None:
    """One texture or sampler parameter, as ints or floats as it needs."""
    if not hasattr(GL, name):
        raise ReplayError(f"unknown texture parameter {name}")
    if name == "TEXTURE_BORDER_COLOR" or any(not float(v).is_integer() or abs(v) > 1 << 30 for v in values):
        batch.call(f"{command}fv", target, getattr(GL, name), struct.pack(f"<{len(values)}f", *values))
    else:
        batch.call(f"{command}iv", target, getattr(GL, name), struct.pack(f"<{len(values)}i", *map(int, values)))
