"""JSON as it leaves for terminals and other programs."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from wendascope.texts import visible


def json_text(value: Any, indent: int = 2) -> str:
    """A record, or plain values, as JSON, on one line with `indent` -1. Characters that a terminal would act on are
    written as JSON escapes them; names of bytes that are no text with what `visible` makes of these.
    """
    try:
        data = msgspec.json.encode(value)
    except UnicodeEncodeError:
        data = msgspec.json.encode(_spoken(msgspec.to_builtins(value)))
    text = msgspec.json.format(data, indent=indent).decode()
    if text.isascii() and "\x7f" not in text:
        return text
    return "".join(c if c == "\n" or visible(c) == c else _escaped(c) for c in text)


def _escaped(c: str) -> str:
    return "\\u007f" if c == "\x7f" else json.dumps(c)[1:-1]


def _spoken(value: Any) -> Any:
    if isinstance(value, dict):
        return {_spoken(key): _spoken(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_spoken(item) for item in value]
    return visible(value) if isinstance(value, str) else value
