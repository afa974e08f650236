"""What a frame does beside drawing: uploads, allocations, compilations, readbacks. Mostly the reason for a hitch."""

from __future__ import annotations

from enum import Enum

import msgspec

from wendascope.texts import memory, plural


class SideKind(Enum):
    """Kinds of such work. The values are what one of them is called."""

    TEXTURE_UPLOAD = "texture upload"
    TEXTURE_ALLOCATION = "texture allocation"
    BUFFER_UPLOAD = "buffer upload"
    COMPILATION = "shader compilation or link"
    MIPMAPS = "mipmap generation"
    READBACK = "readback"
    WAIT = "wait"


class SideWork(msgspec.Struct, frozen=True):
    """All of one kind in one frame."""

    kind: SideKind
    count: int
    bytes: int
    """Handed over with the calls; 0 for kinds that hand nothing over."""
    ms: float
    """CPU time inside the calls as recorded; of waits, how long they blocked."""

    @property
    def text(self) -> str:
        """`12 texture uploads (5.3 MiB)`."""
        several = "shader compilations or links" if self.kind == SideKind.COMPILATION else ""
        amount = plural(self.count, self.kind.value, several)
        return amount + (f" ({memory(self.bytes)})" if self.bytes else "")
