"""The context, or device, that a frame was captured from."""

from __future__ import annotations

import functools

import msgspec

from wendascope.frame.blobs import Number
from wendascope.glsl.preprocessor import Dialect


@functools.lru_cache(64)
def _dialect(es: bool, extensions: tuple[str, ...]) -> Dialect:
    return Dialect(es, frozenset(extensions))


class ContextInfo(msgspec.Struct):
    """The captured context."""

    api: str = "OpenGL"
    """`OpenGL` or `OpenGL ES`."""
    major: Number = 3
    minor: Number = 3
    profile: str = "core"
    """`core`, `compatibility` or `es`."""
    flags: Number = 0
    version: str = ""
    shading_language: str = ""
    renderer: str = ""
    vendor: str = ""
    platform: str = ""
    extensions: list[str] = msgspec.field(default_factory=list)
    limits: dict[str, Number] = msgspec.field(default_factory=dict)

    @property
    def es(self) -> bool:
        """Whether shaders are of the embedded dialect."""
        return self.api == "OpenGL ES"

    @property
    def dialect(self) -> Dialect:
        """What shaders of this context are compiled with."""
        return _dialect(self.es, tuple(self.extensions))

    @property
    def number(self) -> int:
        """Version times ten."""
        return self.major * 10 + self.minor

    @property
    def largest_texture(self) -> int | None:
        """Largest width and height of a texture, in pixels; None where it is not known."""
        return self.limits.get("MAX_TEXTURE_SIZE")

    @property
    def free_memory(self) -> int | None:
        """Bytes of graphics memory that the driver had left for all programs; None where it does not tell."""
        for name in ("GPU_MEMORY_INFO_CURRENT_AVAILABLE_VIDMEM_NVX", "TEXTURE_FREE_MEMORY_ATI"):
            if self.limits.get(name):
                return self.limits[name] * 1024
        return None

    def __str__(self) -> str:
        profile = f" {self.profile}" if self.profile in ("core", "compatibility") else ""
        return f"{self.api} {self.major}.{self.minor}{profile}"
