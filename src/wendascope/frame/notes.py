"""What people write on a captured frame."""

from __future__ import annotations

import msgspec


class Note(msgspec.Struct):
    """What a user wrote on a capture."""

    text: str
