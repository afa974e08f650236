"""Where frame files come from: those made here are known by their contents, the others are a stranger's."""

from __future__ import annotations

import contextlib
import functools
import os
import sqlite3
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

MADE_HERE, SEEN = "made here", "seen"
"""This user wrote the frame on this machine; or opened it before and was told that it is a stranger's."""
_MOST_BYTES = 8 << 20


def _list() -> Path:
    return Path(platformdirs.user_state_path("wendascope")) / "frames"


def remember(content: str, how: str) -> None:
    """Note where a frame comes from. Where nothing can be noted, it counts as a stranger's."""
    with contextlib.suppress(OSError):
        path = _list()
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        if path.exists() and path.stat().st_size > _MOST_BYTES:
            kept = path.read_bytes()[-_MOST_BYTES // 2 :]
            path.write_bytes(kept[kept.find(b"\n") + 1 :])
        handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        try:
            os.write(handle, f"{content} {how}\n".encode())
        finally:
            os.close(handle)


def origin(content: str) -> str:
    """MADE_HERE, SEEN, or nothing for a frame that was never opened here."""
    if content in _shipped():
        return MADE_HERE
    found = ""
    with contextlib.suppress(OSError, UnicodeDecodeError):
        for line in _list().read_text().splitlines():
            known, _, how = line.partition(" ")
            if known == content and found != MADE_HERE and how in (MADE_HERE, SEEN):
                found = how
    return found


def introduction(frame: Frame, content: str) -> str:
    """What to say of a frame of a stranger when it is opened for the first time; nothing of all others, and nothing
    the next time.
    """
    if origin(content):
        return ""
    remember(content, SEEN)
    programs = sum(program.runs for program in frame.programs.values())
    plural = "" if programs == 1 else "s"
    return (
        f"This frame was not captured here. To show it, {programs} GPU program{plural} that came with it "
        f"{'are' if plural else 'is'} compiled and {frame.call_count:,} calls are run, in a separate process."
    )


@functools.cache
def _shipped() -> frozenset[str]:
    """The frames that come with Wendascope."""
    contents = set()
    for path in (Path(__file__).parent.parent / "demo" / "data").glob("*.wend"):
        with contextlib.closing(sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True)) as database:
            contents.add(str(database.execute("SELECT value FROM meta WHERE key = 'content'").fetchone()[0]))
            if database.execute("SELECT 1 FROM sqlite_master WHERE name = 'frame_part'").fetchone():
                rows = database.execute("SELECT digest FROM frame_part WHERE kind = 'content'").fetchall()
                contents |= {str(row[0]) for row in rows}
    return frozenset(contents)
