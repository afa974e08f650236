"""The parts that a frame is kept in: what a file holds, whatever the API."""

from __future__ import annotations

from dataclasses import dataclass

from wendascope.frame.blobs import BlobStore


@dataclass
class Parts:
    """Texts, columns and records of one frame; their order is that in the file."""

    meta: dict[str, str]
    """JSON by name; `context` is a `ContextInfo`."""
    sections: dict[str, bytes]
    """Columns and pictures by name."""
    objects: dict[str, str]
    """Class of objects -> their records as JSON."""
    blobs: BlobStore
    contents: dict[str, int]
    """Hash -> size in bytes of everything in `blobs`."""
