"""Numbers and words as they are put into sentences, in one place."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

_PART = re.compile(r"(.*?) \(?(\d+)/(\d+)\)?")

_MARKS = re.compile(
    "[\x00-\x1f\x7f-\x9f\xad\u0600-\u0605\u061c\u06dd\u070f\u0890\u0891\u08e2\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f"
    "\ud800-\udfff\ufeff\ufff0-\ufffb\U000110bd\U000110cd\U00013430-\U0001343f\U0001bca0-\U0001bca3"
    "\U0001d173-\U0001d17a\U000e0000-\U000e0fff]"
)
"""Characters that change how others are shown, or that are none: control and format characters, ends of lines, bytes
that are no text. Those that join letters are none of them.
"""
_NAMED = {"\n": "\\n", "\r": "\\r", "\t": "\\t"}
_MARKDOWN = re.compile(r"([\\`*_{}\[\]<>#|~])")


def _spelled(found: re.Match[str]) -> str:
    code = ord(found[0])
    byte = code - 0xDC00 if 0xDC80 <= code <= 0xDCFF else code  # what Python makes of a byte that is no text
    if byte < 0x100:
        return _NAMED.get(found[0], f"\\x{byte:02x}")
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def visible(text: object) -> str:
    """The text of one line, as it leaves for a terminal, a table or a window: what strangers put into names does
    nothing there. Characters that would are spelled as Python does, `\\x1b`.
    """
    return _MARKS.sub(_spelled, str(text))


def readable(text: str) -> str:
    """A name that the system gave, to be kept: bytes in it that are no text are spelled."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def visible_lines(text: str) -> str:
    """The same of a text of several lines, where their ends are meant."""
    return "\n".join(map(visible, text.split("\n")))


def markdown(text: str) -> str:
    """A text that means nothing but itself in Markdown."""
    return _MARKDOWN.sub(r"\\\1", visible(text))


def cell(value: object) -> object:
    """A value of a table that others open: what a spreadsheet would take for a formula begins with an apostrophe."""
    if not isinstance(value, str):
        return value
    plain = visible(value)
    return f"'{plain}" if value.startswith(("=", "+", "-", "@", "\t", "\r")) else plain


def plural(count: float, noun: str, several: str = "") -> str:
    """A number with its noun: `1 page`, `1,204 draws`, `3 batches` with `several` for what takes more than an s."""
    return f"{count:,.0f} {noun if round(count) == 1 else several or noun + 's'}"


def verb(count: float, one: str, several: str) -> str:
    """The form of a verb that goes with a number."""
    return one if round(count) == 1 else several


def capital(text: str) -> str:
    """With a large first letter, the rest as it is; names in code (`glFinish`, `lamps[5]`, `v_depth`) stay what they
    are.
    """
    first = text.split(" ", 1)[0]
    command = text[:2] in ("gl", "eg") and any(letter.isupper() for letter in first)
    return text if command or "_" in first or "[" in first else text[:1].upper() + text[1:]


def sentence(text: str) -> str:
    """With a large first letter and a full stop, unless it ends with a mark already; nothing of nothing."""
    return capital(text) + ("" if not text or text.endswith((".", "!", "?", ":")) else ".")


def listed(words: Iterable[object], last: str = "and") -> str:
    """`a`, `a and b`, `a, b and c`."""
    parts = [str(word) for word in words]
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} {last} {parts[-1]}" if parts else ""


def joined_parts(names: Sequence[str]) -> list[str]:
    """Names of which those of all parts of one thing are one: `shadow 1/2`, `shadow 2/2` are `shadow (2 parts)`."""
    whole: dict[tuple[str, int], list[str]] = {}
    for name in names:
        found = _PART.fullmatch(name)
        if found:
            whole.setdefault((found[1], int(found[3])), []).append(name)
    joined = {
        part: f"{of} ({count} parts)"
        for (of, count), parts in whole.items()
        if len(set(parts)) == count > 1
        for part in parts
    }
    return list(dict.fromkeys(joined.get(name, name) for name in names))


def share(part: float, places: int = 0) -> str:
    """A part of 1 as per cent: `55 %`."""
    return f"{100 * part:.{places}f} %"


def large(number: float) -> str:
    """A large count as it is said: `10.2 million`, `48,300`."""
    return f"{number / 1e6:.1f} million" if number >= 1e6 else f"{number:,.0f}"


def three_digits(value: float) -> str:
    """A measured value with three significant digits, and no exponent: `0.0123`, `4.56`, `1,230`."""
    if value == 0:
        return "0"
    places = max(0, 2 - _magnitude(value))
    return f"{value:,.{places}f}" if abs(value) < 1000 else f"{round(value, 2 - _magnitude(value)):,.0f}"


def _magnitude(value: float) -> int:
    return int(f"{abs(value):.2e}".partition("e")[2])


def interval(median: float, low: float, high: float, unit: str = "ms") -> str:
    """A median with its interval: `4.56 ms (4.31 to 4.80)`."""
    return f"{three_digits(median)} {unit} ({three_digits(low)} to {three_digits(high)})"


def memory(size: float) -> str:
    """Bytes in the unit that suits them: `812 bytes`, `4.56 KiB`, `123 MiB`."""
    for unit in ("bytes", "KiB", "MiB"):
        if abs(size) < 1024 or unit == "MiB":
            return f"{size:,.0f} {unit}" if unit == "bytes" else f"{three_digits(size)} {unit}"
        size /= 1024
    raise AssertionError


def memory_change(size: int) -> str:
    """By how many bytes memory grew or shrank: `+4.56 KiB`, `-812 bytes`."""
    return f"{'+' if size > 0 else '-' if size < 0 else ''}{memory(abs(size))}"
