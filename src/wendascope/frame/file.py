"""The `.wend` file: a SQLite database with the parts of captured frames, and all that was added to them later.

What the parts mean is for the API that the frames were captured from; `docs/file-format.md` says it for each. A file of
several frames is a sequence: `mine.wend#3` is a path to the third of them, wherever a path to a frame is asked for;
`mine.wend` is one to the first.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import os
import sqlite3
import stat
import struct
import types
import weakref
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import numpy as np
import zstandard

from wendascope.errors import DamagedFileError, FileError, NewerFileError
from wendascope.files import check_place, whole_file
from wendascope.frame.apis import module_of
from wendascope.frame.blobs import BlobRef, BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import Frame, Picture
from wendascope.frame.origins import MADE_HERE, remember
from wendascope.frame.parts import Parts
from wendascope.frame.places import place_of
from wendascope.frame.roles import ROLE_RECORD, GivenRole, give_roles

VERSION = 5
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
_MORE_FRAMES = {
    "frame_part": (
        "CREATE TABLE frame_part (frame INTEGER NOT NULL, kind TEXT NOT NULL, name TEXT NOT NULL,"
        " size INTEGER NOT NULL, digest TEXT NOT NULL, stored TEXT NOT NULL, PRIMARY KEY (frame, kind, name))"
    ),
    "frame_added": (
        "CREATE TABLE frame_added (id INTEGER PRIMARY KEY, frame INTEGER NOT NULL, kind TEXT NOT NULL, made_at TEXT NOT"
        " NULL, value TEXT NOT NULL, digest TEXT NOT NULL)"
    ),
}
"""Tables of frames after the first, since version 5. `stored` tells where what a part holds is: nothing where it is
that of the first frame; else the hash of a blob, which is it (`stored` is its digest then), or it combined with the
first frame's by exclusive or.
"""
_CONTENT = "content"
_NOT_ITS_PARTS = "parts of the file are missing or do not belong to it"
_FIRST_SEQUENCES = 5
"""The version from which on a file may hold several frames."""
_T = TypeVar("_T")
_worked_on: dict[tuple[Path, int], str] = {}
"""File and number of a frame -> what told it from all others when it was opened here: results are added to that one."""
_open: weakref.WeakValueDictionary[str, Frame] = weakref.WeakValueDictionary()
"""Frames that somebody has open, by what tells each from all others."""
_BUSY_SECONDS = 5.0
_LOCKED = ("locked", "busy")


def _digest(data: bytes | str) -> str:
    return hashlib.sha256(data.encode() if isinstance(data, str) else data).hexdigest()


# ---- writing -------------------------------------------------------------------------------------


def save(frame: Frame, path: Path) -> None:
    """Write a frame, whole or not at all. Raises FileError when the disk refuses."""
    save_sequence([frame], path)


def save_sequence(frames: Iterable[Frame], path: Path) -> None:
    """Write frames that were taken one after the other, all or none; equal contents are kept once. Raises FileError."""
    with SequenceWriter(path) as writer:
        for frame in frames:
            writer.add(frame)


class SequenceWriter:
    """A file that frames are added to as they are taken; none of them is kept in memory. A context manager: the file is
    there, whole, when the block ends without an error and a frame was added. Raises FileError.
    """

    def __init__(self, path: Path) -> None:
        _check_name(path)
        self._path = path
        self._stack = contextlib.ExitStack()
        self._contents: list[str] = []
        """What tells each frame from all others."""
        self._first: dict[str, dict[str, bytes]] = {}

    def __enter__(self) -> SequenceWriter:
        with self._stack:
            self._scratch = self._stack.enter_context(_unless_empty(self, self._path))
            with self._told():
                self._database = self._stack.enter_context(contextlib.closing(sqlite3.connect(self._scratch)))
                self._database.execute("PRAGMA journal_mode=OFF")
                self._database.execute("PRAGMA synchronous=OFF")
                self._database.execute(f"PRAGMA application_id={APPLICATION_ID}")
                self._database.execute(f"PRAGMA user_version={VERSION}")
                for statement in (*_SCHEMA.values(), *_MORE_FRAMES.values()):
                    self._database.execute(statement)
            self._stack = self._stack.pop_all()
        return self

    def __len__(self) -> int:
        return len(self._contents)

    def add(self, frame: Frame) -> None:
        """Write one more frame. Raises FileError."""
        parts = frame.parts()
        with self._told(), self._database:
            if not self._contents:
                self._contents.append(_write_first(parts, self._database))
                self._first = _by_kind(parts)
            else:
                number = len(self._contents) + 1
                self._contents.append(_write_further(parts, number, self._database, self._first))

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            raise FileError(f"cannot write {self._path}: {error}; free some space or choose another place") from error

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: types.TracebackType | None
    ) -> None:
        self._stack.__exit__(kind, error, trace)
        if error is None:
            for number, content in enumerate(self._contents, 1):
                remember(content, MADE_HERE)
                _worked_on.pop((self._path.absolute(), number), None)


class _NothingAddedError(Exception):
    """So that no empty file takes the place of another one."""


@contextlib.contextmanager
def _unless_empty(writer: SequenceWriter, path: Path) -> Iterator[Path]:
    try:
        with whole_file(path) as scratch:
            yield scratch
            if not len(writer):
                raise _NothingAddedError
    except _NothingAddedError:
        return


def check_new(path: Path) -> None:
    """Raises FileError where no frames can be written to `path`: asked before long work, not after it."""
    _check_name(path)
    check_place(path)


def _check_name(path: Path) -> None:
    if place_of(path)[0] != path:
        raise FileError(
            f"{path.name} is how a frame of a sequence is named, and no name for a file; leave out the # and its number"
        )


def _reason(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error)


def _by_kind(parts: Parts) -> dict[str, dict[str, bytes]]:
    texts = {"meta": parts.meta, "object": parts.objects}
    found = {kind: {name: text.encode() for name, text in of_kind.items()} for kind, of_kind in texts.items()}
    return {"meta": found["meta"], "section": parts.sections, "object": found["object"]}


def _write_first(parts: Parts, database: sqlite3.Connection) -> str:
    compressor = _compressor(parts)
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
    _write_blobs(parts, database, compressor)
    database.execute("INSERT INTO meta VALUES (?, ?, '')", (_CONTENT, content.hexdigest()))
    return content.hexdigest()


def _write_further(
    parts: Parts, number: int, database: sqlite3.Connection, first: Mapping[str, Mapping[str, bytes]]
) -> str:
    """A frame after the first: of its parts what differs."""
    compressor = _compressor(parts)
    content = hashlib.sha256()
    insert = "INSERT INTO frame_part VALUES (?, ?, ?, ?, ?, ?)"
    for kind, of_kind in _by_kind(parts).items():
        for name, data in of_kind.items():
            digest, other = _digest(data), first[kind].get(name)
            stored, kept = digest, data
            if data == other:
                stored = ""
            elif other is not None and len(other) == len(data):
                kept = _either_or(data, other)
                stored = _digest(kept)
            if stored:
                _write_blob(database, compressor, stored, kept)
            database.execute(insert, (number, kind, name, len(data), digest, stored))
            content.update(digest.encode())
    _write_blobs(parts, database, compressor)
    database.execute(insert, (number, _CONTENT, "", 0, content.hexdigest(), ""))
    return content.hexdigest()


def _either_or(a: bytes, b: bytes) -> bytes:
    """Exclusive or of two of one length: 0 wherever they are alike."""
    return bytes((np.frombuffer(a, np.uint8) ^ np.frombuffer(b, np.uint8)).tobytes())


def _compressor(parts: Parts) -> zstandard.ZstdCompressor:
    return zstandard.ZstdCompressor(level=3 if sum(parts.contents.values()) > 64 << 20 else 12)


def _write_blobs(parts: Parts, database: sqlite3.Connection, compressor: zstandard.ZstdCompressor) -> None:
    known = {row[0] for row in database.execute("SELECT hash FROM blob")}
    for name, size in parts.contents.items():
        if name not in known:
            _write_blob(database, compressor, name, parts.blobs.get(BlobRef(name, size)))


def _write_blob(database: sqlite3.Connection, compressor: zstandard.ZstdCompressor, name: str, data: bytes) -> None:
    if database.execute("SELECT 1 FROM blob WHERE hash = ?", (name,)).fetchone() is None:
        database.execute("INSERT INTO blob VALUES (?, ?, ?)", (name, len(data), compressor.compress(data)))


def add(path: Path, kind: str, value: Any) -> None:
    """Keep a measurement, finding, proof or note (a typed record of `kind`) in the file, with its frame. Raises
    FileError.
    """
    text = msgspec.json.encode(value).decode()
    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    file, number = place_of(path)
    row = (kind, now, text, _digest(text))
    try:
        with contextlib.closing(_connect(file, "rw")) as database, database:
            _check_schema(database)  # a trigger of a stranger's would run now
            _check_same(file, number, database)
            if number == 1:
                database.execute("INSERT INTO added (kind, made_at, value, digest) VALUES (?, ?, ?, ?)", row)
            else:
                _check_number(file, database, number)
                query = "INSERT INTO frame_added (frame, kind, made_at, value, digest) VALUES (?, ?, ?, ?, ?)"
                database.execute(query, (number, *row))
    except sqlite3.Error as error:
        raise FileError(
            _locked_text(file)
            if _is_locked(error)
            else f"cannot write to {file}: {_short(error)}; make it writable or free some space"
        ) from error
    except ValueError as error:
        raise DamagedFileError(f"{file} is damaged ({error}); capture the frame again") from error


def _check_same(file: Path, number: int, database: sqlite3.Connection) -> None:
    known = _worked_on.get((file.absolute(), number))
    if known is not None and known != _content(database, number):
        raise FileError(f"{file} was exchanged for another frame meanwhile: nothing was added to it; start again")


def work_on(path: Path) -> None:
    """Results are added to the frame that a path names now, whatever it named before. Raises FileError."""
    file, number = place_of(path)
    _worked_on[file.absolute(), number] = content_of(path)


def _is_locked(error: sqlite3.Error) -> bool:
    return isinstance(error, sqlite3.OperationalError) and any(word in str(error) for word in _LOCKED)


def _locked_text(path: Path) -> str:
    return f"{path} is being written to by another program; wait for that, or end it, and try again"


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


def _connect(path: Path, mode: str = "ro") -> sqlite3.Connection:
    database = sqlite3.connect(f"{path.absolute().as_uri()}?mode={mode}", timeout=_BUSY_SECONDS, uri=True)
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
        if isinstance(error, sqlite3.Error) and _is_locked(error):
            raise FileError(_locked_text(path)) from error
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
    path = place_of(path)[0]
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
    path = place_of(path)[0]
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
    file, number = place_of(path)
    with _opened(path) as database:
        _check_schema(database)
        frame = _read(path, database)
        content = _content(database, number)
    _worked_on.setdefault((file.absolute(), number), content)
    _open[content] = frame
    given = added(path, [ROLE_RECORD], lambda _kind, text: msgspec.json.decode(text, type=GivenRole))
    if given:
        give_roles(frame, given)
    return frame


def captured_picture(path: Path) -> Picture | None:
    """What the program showed, of a file that is not read as a whole yet: its first frame's picture, which is there
    long before the frame of a large file. None of further frames. Raises FileError.
    """
    if place_of(path)[1] != 1:
        return None
    with _opened(path) as database:
        _check_schema(database)
        rows = database.execute("SELECT key, value, digest FROM meta WHERE key IN ('context', 'reference')").fetchall()
        meta = {key: value for key, value, _ in rows}
        query = "SELECT size, digest, data FROM section WHERE name = 'reference'"
        found = database.execute(query).fetchone()
        codec = module_of(msgspec.json.decode(meta["context"], type=ContextInfo).api, "codec")
        if codec is None or found is None:
            return None
        data = _decompress(found[2], found[0])
        for key, value, digest in [*rows, ("reference", data, found[1])]:
            _check(value, digest, key)
        picture: Picture | None = codec.captured_picture(meta, {"reference": data})
        return picture


def content_of(path: Path) -> str:
    """What tells a frame from all others, whatever was added to it; as the file says, and checked when it is loaded.
    Raises FileError.
    """
    with _opened(path) as database:
        return _content(database, place_of(path)[1])


def _content(database: sqlite3.Connection, number: int) -> str:
    if number == 1:
        row = database.execute("SELECT value FROM meta WHERE key = ?", (_CONTENT,)).fetchone()
    else:
        row = database.execute(
            "SELECT digest FROM frame_part WHERE frame = ? AND kind = ?", (number, _CONTENT)
        ).fetchone()
    return str(row[0]) if row else ""


def opened(path: Path) -> Frame:
    """The frame that a path names: as somebody has it open, else opened for this. Raises FileError."""
    return _open.get(content_of(path)) or load(path)


def frame_count(path: Path) -> int:
    """How many frames a file holds. Raises FileError."""
    with _opened(place_of(path)[0]) as database:
        _check_schema(database)
        return _count(database)


def _count(database: sqlite3.Connection) -> int:
    if database.execute("PRAGMA user_version").fetchone()[0] < _FIRST_SEQUENCES:
        return 1
    query = "SELECT COUNT(*), MAX(frame) FROM frame_part WHERE kind = ?"
    further, last = database.execute(query, (_CONTENT,)).fetchone()
    if last is not None and last != further + 1:
        raise ValueError("frames of the sequence are missing")
    return int(further) + 1


def _check_number(file: Path, database: sqlite3.Connection, number: int) -> None:
    count = _count(database)
    if number > count:
        frames = "one frame" if count == 1 else f"{count} frames"
        raise FileError(f"{file} holds {frames}: there is no {file.name}#{number}")


def added(path: Path, kinds: Sequence[str], read: Callable[[str, str], _T]) -> list[_T]:
    """All records of some kinds that were added to a frame, oldest first, as `read` makes them of (kind, JSON). Raises
    FileError.
    """
    marks = ",".join("?" * len(kinds))
    number = place_of(path)[1]
    with _opened(path) as database:
        table, which = ("added", ()) if number == 1 else ("frame_added", (number,))
        more = " AND frame = ?" if which else ""
        query = f"SELECT kind, value, digest FROM {table} WHERE kind IN ({marks}){more} ORDER BY id"
        rows = database.execute(query, (*kinds, *which)).fetchall()
        for kind, value, digest in rows:
            if _digest(value) != digest:
                raise ValueError(f"a {kind} record is damaged")
        return [read(kind, value) for kind, value, _ in rows]


def _check_schema(database: sqlite3.Connection) -> None:
    found = dict(database.execute("SELECT name, sql FROM sqlite_master WHERE sql IS NOT NULL").fetchall())
    sequences = database.execute("PRAGMA user_version").fetchone()[0] >= _FIRST_SEQUENCES
    if found != (_SCHEMA | _MORE_FRAMES if sequences else _SCHEMA):
        raise ValueError("its tables are not those of a captured frame")


def _read(path: Path, database: sqlite3.Connection) -> Frame:
    file, number = place_of(path)
    _check_number(file, database, number)
    meta, sections, objects = _first(database) if number == 1 else _further(database, number)
    contents = dict(database.execute("SELECT hash, size FROM blob").fetchall())
    context = msgspec.json.decode(meta["context"], type=ContextInfo)
    codec = module_of(context.api, "codec")
    if codec is None:
        raise ValueError(f"it is of {context.api[:40]}, which this Wendascope does not know")
    frame: Frame = codec.decode(Parts(meta, sections, objects, _FileBlobs(file), contents))
    return frame


def _first(database: sqlite3.Connection) -> tuple[dict[str, str], dict[str, bytes], dict[str, str]]:
    """Texts, columns and records of the first frame, checked."""
    content = hashlib.sha256()
    stored = ""
    meta: dict[str, str] = {}
    for key, value, digest in database.execute("SELECT key, value, digest FROM meta ORDER BY rowid"):
        if key == _CONTENT:
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
        raise ValueError(_NOT_ITS_PARTS)
    return meta, sections, objects


def _further(database: sqlite3.Connection, number: int) -> tuple[dict[str, str], dict[str, bytes], dict[str, str]]:
    """The same of a frame after the first."""
    content = hashlib.sha256()
    expected = ""
    found: dict[str, dict[str, bytes]] = {"meta": {}, "section": {}, "object": {}}
    query = "SELECT kind, name, size, digest, stored FROM frame_part WHERE frame = ? ORDER BY rowid"
    for kind, name, size, digest, stored in database.execute(query, (number,)).fetchall():
        if kind == _CONTENT:
            expected = digest
            continue
        data = _stored(database, stored, size) if stored else b""
        if stored != digest:  # it is the first frame's, or what differs from that
            first = _part_of_first(database, kind, name)
            if stored and len(first) != len(data):
                raise ValueError(_NOT_ITS_PARTS)
            data = _either_or(data, first) if stored else first
        _check(data, digest, name)
        found[kind][name] = data
        content.update(digest.encode())
    if content.hexdigest() != expected:
        raise ValueError(_NOT_ITS_PARTS)
    meta, objects = ({name: data.decode() for name, data in found[kind].items()} for kind in ("meta", "object"))
    return meta, found["section"], objects


def _stored(database: sqlite3.Connection, name: str, size: int) -> bytes:
    row = database.execute("SELECT data FROM blob WHERE hash = ?", (name,)).fetchone()
    if row is None:
        raise ValueError(_NOT_ITS_PARTS)
    return _decompress(row[0], size)


def _part_of_first(database: sqlite3.Connection, kind: str, name: str) -> bytes:
    """A part of the first frame; whether it is the right one, its digest in the other frame tells."""
    if kind == "section":
        row = database.execute("SELECT data, size FROM section WHERE name = ?", (name,)).fetchone()
        return b"" if row is None else _decompress(*row)
    table, column, of = ("meta", "value", "key") if kind == "meta" else ("object", "records", "class")
    row = database.execute(f"SELECT {column} FROM {table} WHERE {of} = ?", (name,)).fetchone()
    return b"" if row is None else str(row[0]).encode()


def _check(data: bytes | str, digest: str, what: str) -> None:
    if _digest(data) != digest:
        raise ValueError(f"{what} does not match its digest")
