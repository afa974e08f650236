"""The `.wend` file: a SQLite database with the parts of a captured frame, and all that was added to it later.

What the parts mean is for the API that the frame was captured from; `docs/file-format.md` says it for each.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import importlib
import os
import sqlite3
import stat
import struct
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import zstandard

from wendascope.errors import DamagedFileError, FileError, NewerFileError
from wendascope.files import whole_file
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import Frame
from wendascope.frame.origins import MADE_HERE, remember
from wendascope.frame.parts import Parts
from wendascope.frame.roles import give_roles

VERSION = 4
APPLICATION_ID = 0x57454E44  # "WEND"
LARGEST_SECTION = 4 << 30
_MOST_RATIO, _MOST_WINDOW, _AT_ONCE, _CHUNK = 40_000, 1 << 27, 256 << 20, 16 << 20
"""Zstandard stores a block of 128 KiB in four bytes at best; windows as its own strongest levels use them."""
_SCHEMA = {
    "meta": "CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL, digest TEXT NOT NULL)",
    "section": (
        "CREATE TABLE section (name TEXT PRIMARY KEY, size INTEGER NOT NULL, digest TEXT NOT NULL, data BLOB NOT NULL)"
    ),
    "object": "CREATE TABLE object (class TEXT PRIMARY KEY, records TEXT NOT NULL, digest TEXT NOT NULL)",
    "blob": "CREATE TABLE blob (hash TEXT PRIMARY KEY, size INTEGER NOT NULL, data BLOB NOT NULL)",
    "added": (
        "CREATE TABLE added (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, made_at TEXT NOT NULL, value TEXT NOT NULL,"
        " digest TEXT NOT NULL)"
    ),
}
_T = TypeVar("_T")


_CODECS = {"OpenGL": "wendascope.opengl.codec", "OpenGL ES": "wendascope.opengl.codec"}
"""API -> module whose `decode(parts)` makes a frame of them; imported when a file needs it, for nothing here knows an
API.
"""


def _digest(data: bytes | str) -> str:
    return hashlib.sha256(data.encode() if isinstance(data, str) else data).hexdigest()


# ---- writing -------------------------------------------------------------------------------------


def save(frame: Frame, path: Path) -> None:
    """Write a frame, whole or not at all. Raises FileError when the disk refuses."""
    try:
        with whole_file(path) as scratch, contextlib.closing(sqlite3.connect(scratch)) as database:
            database.execute("PRAGMA journal_mode=OFF")
            database.execute("PRAGMA synchronous=OFF")
            database.execute(f"PRAGMA application_id={APPLICATION_ID}")
            database.execute(f"PRAGMA user_version={VERSION}")
            with database:
                content = _write(frame, database)
    except sqlite3.Error as error:
        raise FileError(f"cannot write {path}: {error}; free some space or choose another place") from error
    remember(content, MADE_HERE)


def _reason(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error)


def _write(frame: Frame, database: sqlite3.Connection) -> str:
    """Returns what tells the frame from all others."""
    for statement in _SCHEMA.values():
        database.execute(statement)
    parts = frame.parts()
    large = sum(parts.contents.values()) > 64 << 20
    compressor = zstandard.ZstdCompressor(level=3 if large else 12)
    content = hashlib.sha256()
    for key, value in parts.meta.items():
        database.execute("INSERT INTO meta VALUES (?, ?, ?)", (key, value, _digest(value)))
        content.update(_digest(value).encode())
    for name, data in parts.sections.items():
        row = (name, len(data), _digest(data), compressor.compress(data))
        database.execute("INSERT INTO section VALUES (?, ?, ?, ?)", row)
        content.update(_digest(data).encode())
    for field, records in parts.objects.items():
        database.execute("INSERT INTO object VALUES (?, ?, ?)", (field, records, _digest(records)))
        content.update(_digest(records).encode())
    for name, size in parts.contents.items():
        data = compressor.compress(parts.blobs.get(BlobRef(name, size)))
        database.execute("INSERT INTO blob VALUES (?, ?, ?)", (name, size, data))
    database.execute("INSERT INTO meta VALUES ('content', ?, '')", (content.hexdigest(),))
    return content.hexdigest()


def add(path: Path, kind: str, value: Any) -> None:
    """Keep a measurement, finding, proof or note (a typed record of `kind`) in the file. Raises FileError."""
    text = msgspec.json.encode(value).decode()
    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    try:
        with contextlib.closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=rw", uri=True)) as database, database:
            _check_schema(database)  # a trigger of a stranger's would run now
            database.execute(
                "INSERT INTO added (kind, made_at, value, digest) VALUES (?, ?, ?, ?)", (kind, now, text, _digest(text))
            )
    except sqlite3.Error as error:
        raise FileError(f"cannot write to {path}: {error}; make it writable or free some space") from error
    except ValueError as error:
        raise DamagedFileError(f"{path} is damaged ({error}); capture the frame again") from error


# ---- reading -------------------------------------------------------------------------------------


class _FileBlobs(BlobStore):
    """Contents read from the file when they are asked for."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._path = path

    def get(self, ref: BlobRef) -> bytes:
        if ref.hash not in self.data:
            self.data[ref.hash] = self._load(ref)
        return self.data[ref.hash]

    def _load(self, ref: BlobRef) -> bytes:
        with _damage(self._path), contextlib.closing(_connect(self._path)) as database:
            row = database.execute("SELECT data FROM blob WHERE hash = ?", (ref.hash,)).fetchone()
            data = _decompress(row[0], ref.size)
            if _digest(data) != ref.hash:
                raise ValueError("contents do not match their hash")
            return data


def _connect(path: Path) -> sqlite3.Connection:
    database = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)
    database.execute("PRAGMA trusted_schema=OFF")
    database.execute("PRAGMA cell_size_check=ON")
    return database


@contextlib.contextmanager
def _damage(path: Path) -> Iterator[None]:
    """Anything that reading can stumble over, as one error."""
    try:
        yield
    except FileError:
        raise
    except MemoryError as error:
        raise FileError(f"{path} needs more memory than there is; close other programs") from error
    except OSError as error:
        raise FileError(f"cannot read {path}: {_reason(error)}") from error
    except Exception as error:
        raise DamagedFileError(f"{path} is damaged ({_short(error)}); capture the frame again") from error


def _short(error: Exception) -> str:
    text = str(error).splitlines()[0] if str(error) else type(error).__name__
    return text[:120]


def _decompress(data: bytes, size: int) -> bytes:
    """Where much is claimed, memory grows with what is really there."""
    if not 0 <= size <= min(LARGEST_SECTION, _MOST_RATIO * len(data)):
        raise ValueError("a section is too large")
    if zstandard.frame_content_size(data) != size:
        raise ValueError("a section has the wrong size")
    if size <= _AT_ONCE:
        return zstandard.ZstdDecompressor(max_window_size=_MOST_WINDOW).decompress(data, max_output_size=size)
    whole = bytearray()
    with zstandard.ZstdDecompressor(max_window_size=_MOST_WINDOW).stream_reader(data) as reader:
        while chunk := reader.read(_CHUNK):
            whole += chunk
            if len(whole) > size:
                raise ValueError("a section has the wrong size")
    if len(whole) != size:
        raise ValueError("a section has the wrong size")
    return bytes(whole)


def check_header(path: Path) -> os.stat_result:
    """Which file it is. Raises FileError unless it is there, ours and of a version that this program reads."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)  # a pipe would be waited for
        try:
            found = os.fstat(handle)
            if not stat.S_ISREG(found.st_mode):
                raise DamagedFileError(f"{path} is not a file; open one made by `wendascope capture`")
            head = os.pread(handle, 100, 0)
        finally:
            os.close(handle)
    except OSError as error:
        raise FileError(f"cannot read {path}: {_reason(error)}") from error
    if len(head) < 100 or head[:16] != b"SQLite format 3\0" or struct.unpack_from(">I", head, 68)[0] != APPLICATION_ID:
        raise DamagedFileError(f"{path} is not a Wendascope file; open one made by `wendascope capture`")
    page, pages = struct.unpack_from(">H", head, 16)[0], struct.unpack_from(">I", head, 28)[0]
    if found.st_size < (65536 if page == 1 else page) * pages:
        raise DamagedFileError(f"{path} is cut short; capture the frame again")
    version = struct.unpack_from(">I", head, 60)[0]
    if version > VERSION:
        raise NewerFileError(
            f"{path} has format {version}, this Wendascope reads up to {VERSION}; update Wendascope to open it"
        )
    return found


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[sqlite3.Connection]:
    """The database of a file whose header was looked at, and no other that was put in its place meanwhile. Raises
    FileError.
    """
    looked_at = check_header(path)
    with _damage(path), contextlib.closing(_connect(path)) as database:
        database.execute("SELECT 1 FROM sqlite_master").fetchone()  # only now it is opened
        now = path.stat()
        if (now.st_dev, now.st_ino) != (looked_at.st_dev, looked_at.st_ino):
            raise FileError(f"{path} was exchanged while it was being opened; open it again")
        yield database


def load(path: Path) -> Frame:
    """Open a frame, with the roles that its user gave passes. Raises FileError; contents are read and checked when
    they are first used.
    """
    from wendascope import records  # which stands on this module

    with _opened(path) as database:
        _check_schema(database)
        frame = _read(path, database)
    given = records.GIVEN_ROLE.all(path)
    if given:
        give_roles(frame, given)
    return frame


def content_of(path: Path) -> str:
    """What tells the frame in a file from all others, whatever was added to it; as the file says, and checked when
    it is loaded. Raises FileError.
    """
    with _opened(path) as database:
        row = database.execute("SELECT value FROM meta WHERE key = 'content'").fetchone()
        return str(row[0]) if row else ""


def added(path: Path, kinds: Sequence[str], read: Callable[[str, str], _T]) -> list[_T]:
    """All records of some kinds that were added to the file, oldest first, as `read` makes them of (kind, JSON). Raises
    FileError.
    """
    marks = ",".join("?" * len(kinds))
    with _opened(path) as database:
        query = f"SELECT kind, value, digest FROM added WHERE kind IN ({marks}) ORDER BY id"
        rows = database.execute(query, kinds).fetchall()
        for kind, value, digest in rows:
            if _digest(value) != digest:
                raise ValueError(f"a {kind} record is damaged")
        return [read(kind, value) for kind, value, _ in rows]


def _check_schema(database: sqlite3.Connection) -> None:
    found = dict(database.execute("SELECT name, sql FROM sqlite_master WHERE sql IS NOT NULL").fetchall())
    if found != _SCHEMA:
        raise ValueError("its tables are not those of a captured frame")


def _read(path: Path, database: sqlite3.Connection) -> Frame:
    content = hashlib.sha256()
    stored = ""
    meta: dict[str, str] = {}
    for key, value, digest in database.execute("SELECT key, value, digest FROM meta ORDER BY rowid"):
        if key == "content":
            stored = value
            continue
        _check(value, digest, key)
        content.update(digest.encode())
        meta[key] = value
    sections = {}
    for name, size, digest, data in database.execute("SELECT name, size, digest, data FROM section ORDER BY rowid"):
        sections[name] = _decompress(data, size)
        _check(sections[name], digest, name)
        content.update(digest.encode())
    objects = {}
    for class_name, text, digest in database.execute("SELECT class, records, digest FROM object ORDER BY rowid"):
        _check(text, digest, class_name)
        content.update(digest.encode())
        objects[class_name] = text
    if content.hexdigest() != stored:
        raise ValueError("parts of the file are missing or do not belong to it")
    contents = dict(database.execute("SELECT hash, size FROM blob").fetchall())
    context = msgspec.json.decode(meta["context"], type=ContextInfo)
    if context.api not in _CODECS:
        raise ValueError(f"it is of {context.api[:40]}, which this Wendascope does not know")
    codec = importlib.import_module(_CODECS[context.api])
    frame: Frame = codec.decode(Parts(meta, sections, objects, _FileBlobs(path), contents))
    return frame


def _check(data: bytes | str, digest: str, what: str) -> None:
    if _digest(data) != digest:
        raise ValueError(f"{what} does not match its digest")
