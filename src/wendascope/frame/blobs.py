"""Contents by their hash, and the numbers that records are made of."""

from __future__ import annotations

import hashlib
from typing import Annotated

import msgspec

Name = Annotated[int, msgspec.Meta(ge=0, lt=1 << 32)]
"""Of an object, as the captured program knows it."""
Number = Annotated[int, msgspec.Meta(ge=-(1 << 63), le=(1 << 63) - 1)]
"""Any other number of a record: what comes from a file fits the machine's own."""


class BlobRef(msgspec.Struct, frozen=True):
    """Contents by SHA-256 (hex) and size in bytes."""

    hash: str
    size: Number


class BlobStore:
    """Contents by hash, so that equal contents are kept once."""

    def __init__(self) -> None:
        self.data: dict[str, bytes] = {}

    def put(self, data: bytes) -> BlobRef:
        """Keep some contents."""
        ref = BlobRef(hashlib.sha256(data).hexdigest(), len(data))
        self.data.setdefault(ref.hash, data)
        return ref

    def get(self, ref: BlobRef) -> bytes:
        """Raises KeyError when the contents are not there."""
        return self.data[ref.hash]
