"""Renderbuffers and the window: what they held can only be put back by drawing, here by a blit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.objects.formats import attachment_of, pixel_size
from wendascope.backends.opengl.objects.records import RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.rebuild._site import Site
from wendascope.errors import ReplayError
from wendascope.registry import GL

WINDOW_COLOUR, WINDOW_DEPTH = ("window", 0), ("window", 1)


@dataclass
class BlitSource:
    """A framebuffer that holds contents which can only be put back by drawing: renderbuffers and the window."""

    framebuffer: int
    destination: int  # framebuffer name kept for the destination; used when `attached`
    point: int
    mask: int
    width: int
    height: int
    attached: bool = False

    def attach_destination(self, site: Site, name: int, texture: bool) -> None:
        """`name` is that of a multisample texture or a renderbuffer here."""
        batch = site.batch()
        batch.call("glBindFramebuffer", site.offers.draw_target, self.destination)
        if texture:
            batch.call(
                "glFramebufferTexture2D", site.offers.draw_target, self.point, GL.TEXTURE_2D_MULTISAMPLE, name, 0
            )
        else:
            batch.call("glFramebufferRenderbuffer", site.offers.draw_target, self.point, GL.RENDERBUFFER, name)
        site.executor.run(batch)
        self.attached = True

    def blit(self, batch: CallBatch) -> None:
        call = batch.call
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, self.framebuffer)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self.destination if self.attached else 0)
        if not self.attached:
            call("glDrawBuffer", GL.FRONT)  # the window here has that one at least
            call("glDrawBuffer", GL.BACK)
        for cap in (GL.SCISSOR_TEST, GL.FRAMEBUFFER_SRGB, GL.RASTERIZER_DISCARD):
            call("glDisable", cap)
        size = (0, 0, self.width, self.height)
        call("glBlitFramebuffer", *size, *size, self.mask, GL.NEAREST)
        call("glBindFramebuffer", GL.FRAMEBUFFER, 0)


def blit_sources(site: Site) -> dict[tuple[str, int], BlitSource]:
    """What renderbuffers, multisample textures (by captured name) and the window are filled from."""
    sources: dict[tuple[str, int], BlitSource] = {}
    if not site.offers("glBlitFramebuffer"):
        return sources
    for r in site.frame.objects.renderbuffers:
        if r.contents:
            sources["renderbuffer", r.name] = renderbuffer_source(site, r)
    for t in site.frame.objects.textures:
        if t.target == GL.TEXTURE_2D_MULTISAMPLE and t.images and t.images[0].contents:
            sources["texture", t.name] = multisample_source(site, t)
    window = site.frame.default_framebuffer
    size = (window.width, window.height)
    if window.color:
        sources[WINDOW_COLOUR] = _blit_source(
            site, site.frame.blobs.get(window.color), GL.RGBA8, GL.RGBA, GL.UNSIGNED_BYTE, *size
        )
    if window.depth_contents and window.stencil_contents:
        data = _depth_stencil(
            site.frame.blobs.get(window.depth_contents), site.frame.blobs.get(window.stencil_contents)
        )
        sources[WINDOW_DEPTH] = _blit_source(
            site, data, GL.DEPTH24_STENCIL8, GL.DEPTH_STENCIL, GL.UNSIGNED_INT_24_8, *size
        )
    elif window.depth_contents:
        depth_format = (
            GL.DEPTH_COMPONENT16
            if window.depth <= 16
            else GL.DEPTH_COMPONENT24
            if window.depth <= 24
            else GL.DEPTH_COMPONENT32
        )
        data = site.frame.blobs.get(window.depth_contents)
        sources[WINDOW_DEPTH] = _blit_source(site, data, depth_format, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT, *size)
    return sources


def renderbuffer_source(site: Site, record: RenderbufferRecord) -> BlitSource:
    """What a renderbuffer with contents is filled from. Raises ReplayError."""
    assert record.contents is not None
    data = site.frame.blobs.get(record.contents)
    size = record.width, record.height
    source = _blit_source(site, data, record.internal_format, record.format, record.type, *size)
    source.attach_destination(site, site.names.get("renderbuffer", record.name), texture=False)
    return source


def multisample_source(site: Site, record: TextureRecord) -> BlitSource:
    """What a multisample texture with contents is filled from. Raises ReplayError."""
    image = record.images[0]
    assert image.contents is not None
    data = site.frame.blobs.get(image.contents)
    size = image.width, image.height
    source = _blit_source(site, data, image.internal_format, image.format, image.type, *size)
    source.attach_destination(site, site.names.get("texture", record.name), texture=True)
    return source


def _blit_source(
    site: Site, data: bytes, internal_format: int, format_: int, type_: int, width: int, height: int
) -> BlitSource:
    if len(data) != width * height * pixel_size(format_, type_):
        raise ReplayError("contents of a framebuffer have the wrong size")
    names = CallBatch()
    texture, framebuffers = names.out(4), names.out(8)
    names.call("glGenTextures", 1, texture)
    names.call("glGenFramebuffers", 2, framebuffers)
    site.executor.run(names)
    source, destination = framebuffers.uints()
    point, mask = attachment_of(format_)
    batch = site.upload_batch()
    call = batch.call
    call("glBindTexture", GL.TEXTURE_2D, texture.uints()[0])
    call("glTexImage2D", GL.TEXTURE_2D, 0, internal_format, width, height, 0, format_, type_, data)
    call("glTexParameteri", GL.TEXTURE_2D, GL.TEXTURE_MAX_LEVEL, 0)
    call("glBindFramebuffer", GL.READ_FRAMEBUFFER, source)
    call("glFramebufferTexture2D", GL.READ_FRAMEBUFFER, point, GL.TEXTURE_2D, texture.uints()[0], 0)
    site.executor.run(batch)
    return BlitSource(source, destination, point, mask, width, height)


def _depth_stencil(depth: bytes, stencil: bytes) -> bytes:
    """Depth as 32-bit integers and stencil bytes, put together as 24-bit depth with stencil."""
    high = np.frombuffer(depth, np.uint32) & np.uint32(0xFFFFFF00)
    return bytes((high | np.frombuffer(stencil, np.uint8)).astype(np.uint32).tobytes())
