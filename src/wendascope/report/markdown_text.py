"""Texts of a frame in Markdown: only text there, too."""

from __future__ import annotations

from wendascope.texts import visible

_MARKS = frozenset("|`*_[]<>#~!@")


def escaped(text: str) -> str:
    """Text that makes no markup, mentions nobody and ends no cell of a table."""
    shown = visible(text).replace("\\", "\\\\")
    return "".join(f"\\{c}" if c in _MARKS else c for c in shown)
