"""The `.wend` file: one captured frame and what was measured on it, as a SQLite database.

`docs/file-format.md` specifies it. Reading trusts nothing: schema, digests, lengths, ids and blob
references are checked, and anything wrong is one `DamagedFileError`.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import os
import sqlite3
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import numpy as np
import zstandard

from wendascope.errors import DamagedFileError, FileError, NewerFileError
from wendascope.frame.formats import pixel_size
from wendascope.frame.frame import Frame, Heartbeat, Metadata, Picture
from wendascope.frame.objects import BlobRef, BlobStore, ContextInfo, DefaultFramebuffer, Objects
from wendascope.frame.packed import CallStream, merge_streams
from wendascope.frame.state_table import PATTERNS
from wendascope.registry import tables

VERSION = 2
APPLICATION_ID = 0x57454E44  # "WEND"
LARGEST_SECTION = 4 << 30
_MOST_PIXELS = 1 << 28
_SCHEMA = {
    "meta": "CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL, digest TEXT NOT NULL)",
    "section": "CREATE TABLE section (name TEXT PRIMARY KEY, size INTEGER NOT NULL, digest TEXT NOT NULL, data BLOB NOT NULL)",
    "object": "CREATE TABLE object (class TEXT PRIMARY KEY, records TEXT NOT NULL, digest TEXT NOT NULL)",
    "blob": "CREATE TABLE blob (hash TEXT PRIMARY KEY, size INTEGER NOT NULL, data BLOB NOT NULL)",
    "added": "CREATE TABLE added (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, made_at TEXT NOT NULL, value TEXT NOT NULL, digest TEXT NOT NULL)",
}
_T = TypeVar("_T")


class _Reference(msgspec.Struct):
    width: int
    height: int
    framebuffer: int


def _digest(data: bytes | str) -> str:
    return hashlib.sha256(data.encode() if isinstance(data, str) else data).hexdigest()


# ---- writing -------------------------------------------------------------------------------------


def save(frame: Frame, path: Path) -> None:
    """Write a frame, whole or not at all. Raises FileError when the disk refuses."""
    scratch = path.with_name(f".{path.name}.{os.getpid()}.partial")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with contextlib.closing(sqlite3.connect(scratch)) as database:
            database.execute("PRAGMA journal_mode=OFF")
            database.execute("PRAGMA synchronous=OFF")
            database.execute(f"PRAGMA application_id={APPLICATION_ID}")
            database.execute(f"PRAGMA user_version={VERSION}")
            with database:
                _write(frame, database)
        with scratch.open("rb+") as written:
            os.fsync(written.fileno())
        scratch.replace(path)
    except (OSError, sqlite3.Error) as error:
        raise FileError(f"cannot write {path}: {_reason(error)}; free some space or choose another place with --out") from error
    finally:
        with contextlib.suppress(OSError):
            scratch.unlink(missing_ok=True)


def _reason(error: Exception) -> str:
    return (error.strerror or str(error)) if isinstance(error, OSError) else str(error)


def _write(frame: Frame, database: sqlite3.Connection) -> None:
    for statement in _SCHEMA.values():
        database.execute(statement)
    encode = msgspec.json.encode
    streams = {"": frame.calls, "setup_": frame.setup, "lists_": frame.lists}
    local = np.unique(np.concatenate([stream.ids for stream in streams.values()]))
    sections: dict[str, bytes] = {}
    for prefix, stream in streams.items():
        words = stream.words.copy()
        heads = words[stream.offsets]
        words[stream.offsets] = (heads & ~np.uint64(0xFFFF)) | np.searchsorted(local, stream.ids).astype(np.uint64)
        sections |= {f"{prefix}calls": words.tobytes(), f"{prefix}offsets": stream.offsets.tobytes(), f"{prefix}arena": stream.arena.tobytes()}
    meta = {
        "metadata": encode(frame.metadata).decode(),
        "context": encode(frame.context).decode(),
        "default_framebuffer": encode(frame.default_framebuffer).decode(),
        "state": encode({p: [[*key, *v] for key, v in keys.items()] for p, keys in frame.state.items()}).decode(),
        "commands": encode([tables().commands[i].name for i in local.tolist()]).decode(),
        "heartbeats": encode(frame.heartbeats).decode(),
        "caveats": encode(frame.caveats).decode(),
    }
    if frame.reference is not None:
        reference = _Reference(frame.reference.width, frame.reference.height, frame.reference_framebuffer)
        meta["reference"] = encode(reference).decode()
        sections["reference"] = np.ascontiguousarray(frame.reference.pixels).tobytes()
    if frame.reference_depth is not None:
        sections["reference_depth"] = frame.reference_depth
    refs = {ref.hash: ref for ref in _all_refs(frame.objects, frame.default_framebuffer)}
    large = sum(ref.size for ref in refs.values()) > 64 << 20
    compressor = zstandard.ZstdCompressor(level=3 if large else 12)
    content = hashlib.sha256()
    for key, value in meta.items():
        database.execute("INSERT INTO meta VALUES (?, ?, ?)", (key, value, _digest(value)))
        content.update(_digest(value).encode())
    for name, data in sections.items():
        database.execute("INSERT INTO section VALUES (?, ?, ?, ?)", (name, len(data), _digest(data), compressor.compress(data)))
        content.update(_digest(data).encode())
    for field in Objects.__struct_fields__:
        records = encode(getattr(frame.objects, field)).decode()
        database.execute("INSERT INTO object VALUES (?, ?, ?)", (field, records, _digest(records)))
        content.update(_digest(records).encode())
    for ref in refs.values():
        database.execute("INSERT INTO blob VALUES (?, ?, ?)", (ref.hash, ref.size, compressor.compress(frame.blobs.get(ref))))
    database.execute("INSERT INTO meta VALUES ('content', ?, '')", (content.hexdigest(),))


def add(path: Path, kind: str, value: Any) -> None:
    """Keep a measurement, finding, proof or note (a typed record of `kind`) in the file. Raises FileError."""
    text = msgspec.json.encode(value).decode()
    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
    try:
        with contextlib.closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=rw", uri=True)) as database, database:
            database.execute("INSERT INTO added (kind, made_at, value, digest) VALUES (?, ?, ?, ?)", (kind, now, text, _digest(text)))
    except sqlite3.Error as error:
        raise FileError(f"cannot write to {path}: {error}; make it writable or free some space") from error


# ---- reading -------------------------------------------------------------------------------------


class _FileBlobs(BlobStore):
    """Contents read from the file when they are asked for."""

    def __init__(self, path: Path, known: dict[str, int]) -> None:
        super().__init__()
        self._path = path
        self._known = known

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
    except (FileError, MemoryError):
        raise
    except OSError as error:
        raise FileError(f"cannot read {path}: {_reason(error)}") from error
    except Exception as error:
        raise DamagedFileError(f"{path} is damaged ({_short(error)}); capture the frame again") from error


def _short(error: Exception) -> str:
    text = str(error).splitlines()[0] if str(error) else type(error).__name__
    return text[:120]


def _decompress(data: bytes, size: int) -> bytes:
    if not 0 <= size <= LARGEST_SECTION:
        raise ValueError("a section is too large")
    if zstandard.frame_content_size(data) != size:
        raise ValueError("a section has the wrong size")
    return zstandard.ZstdDecompressor().decompress(data, max_output_size=size)


def check_header(path: Path) -> None:
    """Raises FileError unless the file is there, ours and of a version that this program reads."""
    try:
        with path.open("rb") as file:
            head = file.read(100)
    except OSError as error:
        raise FileError(f"cannot read {path}: {_reason(error)}") from error
    if len(head) < 100 or head[:16] != b"SQLite format 3\0" or struct.unpack_from(">I", head, 68)[0] != APPLICATION_ID:
        raise DamagedFileError(f"{path} is not a Wendascope file; open one made by `wendascope capture`")
    page, pages = struct.unpack_from(">H", head, 16)[0], struct.unpack_from(">I", head, 28)[0]
    if path.stat().st_size < (65536 if page == 1 else page) * pages:
        raise DamagedFileError(f"{path} is cut short; capture the frame again")
    version = struct.unpack_from(">I", head, 60)[0]
    if version > VERSION:
        raise NewerFileError(f"{path} has format {version}, this Wendascope reads up to {VERSION}; update Wendascope to open it")


def load(path: Path) -> Frame:
    """Open a frame. Raises FileError; contents are read and checked when they are first used."""
    check_header(path)
    with _damage(path), contextlib.closing(_connect(path)) as database:
        _check_schema(database)
        return _read(path, database)


def added(path: Path, kind: str, type_: type[_T]) -> list[_T]:
    """All records of a kind that were added to the file, oldest first. Raises FileError."""
    check_header(path)
    with _damage(path), contextlib.closing(_connect(path)) as database:
        rows = database.execute("SELECT value, digest FROM added WHERE kind = ? ORDER BY id", (kind,)).fetchall()
        for value, digest in rows:
            if _digest(value) != digest:
                raise ValueError(f"a {kind} record is damaged")
        return [msgspec.json.decode(value, type=type_) for value, _ in rows]


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
    records = {}
    for class_name, text, digest in database.execute("SELECT class, records, digest FROM object ORDER BY rowid"):
        _check(text, digest, class_name)
        content.update(digest.encode())
        records[class_name] = text
    if content.hexdigest() != stored:
        raise ValueError("parts of the file are missing or do not belong to it")
    objects = msgspec.json.decode("{" + ",".join(f'"{k}":{v}' for k, v in records.items()) + "}", type=Objects)
    known = dict(database.execute("SELECT hash, size FROM blob").fetchall())
    decode = msgspec.json.decode
    default = decode(meta["default_framebuffer"], type=DefaultFramebuffer)
    _check_objects(objects, default, known)
    commands = decode(meta["commands"], type=list[str])
    extra = [_calls(sections, commands, prefix) if f"{prefix}calls" in sections else merge_streams([]) for prefix in ("setup_", "lists_")]
    frame = Frame(
        metadata=decode(meta["metadata"], type=Metadata),
        context=decode(meta["context"], type=ContextInfo),
        default_framebuffer=default,
        state=_state(decode(meta["state"], type=dict[str, list[list[int]]])),
        objects=objects,
        blobs=_FileBlobs(path, known),
        calls=_calls(sections, commands, ""),
        setup=extra[0],
        lists=extra[1],
        heartbeats=decode(meta["heartbeats"], type=list[Heartbeat]),
        caveats=decode(meta["caveats"], type=list[str]),
    )
    if "reference" in meta:
        reference = decode(meta["reference"], type=_Reference)
        if len(sections["reference"]) != reference.width * reference.height * 4 or reference.width <= 0 or reference.height <= 0:
            raise ValueError("the reference picture has the wrong size")
        frame.reference = Picture.from_bytes(sections["reference"], reference.width, reference.height)
        frame.reference_framebuffer = reference.framebuffer
    if "reference_depth" in sections:
        if len(sections["reference_depth"]) != default.width * default.height * 4:
            raise ValueError("the depth of the reference picture has the wrong size")
        frame.reference_depth = sections["reference_depth"]
    return frame


def _check(data: bytes | str, digest: str, what: str) -> None:
    if _digest(data) != digest:
        raise ValueError(f"{what} does not match its digest")


def _state(stored: dict[str, list[list[int]]]) -> dict[str, dict[tuple[int, int], tuple[int, ...]]]:
    state: dict[str, dict[tuple[int, int], tuple[int, ...]]] = {}
    for pattern, rows in stored.items():
        if pattern not in PATTERNS:
            raise ValueError(f"unknown state {pattern}")
        width = len(PATTERNS[pattern].kinds)
        for i, j, *values in rows:
            if len(values) > width or any(not -(1 << 63) <= v < 1 << 64 for v in (i, j, *values)):
                raise ValueError(f"bad value of state {pattern}")
            state.setdefault(pattern, {})[i, j] = tuple(values)
    return state


def _calls(sections: dict[str, bytes], commands: list[str], prefix: str) -> CallStream:
    by_name = tables().by_name
    unknown = [name for name in commands if name not in by_name]
    if unknown:
        raise ValueError(f"it calls {unknown[0]}, which does not exist")
    words = np.frombuffer(sections[f"{prefix}calls"], np.uint64).copy()
    offsets = np.frombuffer(sections[f"{prefix}offsets"], np.int64)
    if len(offsets):
        ends = np.append(offsets[1:], len(words))
        if offsets[0] != 0 or np.any(ends <= offsets) or ends[-1] != len(words):
            raise ValueError("the calls are not where their index says")
        heads = words[offsets]
        local = (heads & np.uint64(0xFFFF)).astype(np.int64)
        if int(local.max()) >= len(commands):
            raise ValueError("a call names no command")
        ids = np.array([by_name[name].id for name in commands], np.uint64)
        words[offsets] = (heads & ~np.uint64(0xFFFF)) | ids[local]
    elif len(words):
        raise ValueError("the calls are not where their index says")
    stream = CallStream(words, np.frombuffer(sections[f"{prefix}arena"], np.uint8), offsets)
    stream.validate()
    return stream


def _all_refs(objects: Objects, default: DefaultFramebuffer) -> list[BlobRef]:
    extra = (default.color, default.depth_contents, default.stencil_contents)
    return objects.blob_refs() + [ref for ref in extra if ref is not None]


def _check_objects(objects: Objects, default: DefaultFramebuffer, known: dict[str, int]) -> None:
    """Sizes must agree with contents: what is uploaded later is as long as GL will read."""
    for ref in _all_refs(objects, default):
        if known.get(ref.hash) != ref.size:
            raise ValueError("contents are missing")
    for buffer in objects.buffers:
        _expect(buffer.contents, buffer.size, f"buffer {buffer.name}")
    for texture in objects.textures:
        for image in texture.images:
            if image.contents is not None and not image.compressed:
                pixels = image.width * image.height * image.depth
                _expect(image.contents, _pixels(pixels) * pixel_size(image.format, image.type), f"texture {texture.name}")
    for renderbuffer in objects.renderbuffers:
        if renderbuffer.contents is not None:
            size = _pixels(renderbuffer.width * renderbuffer.height) * pixel_size(renderbuffer.format, renderbuffer.type)
            _expect(renderbuffer.contents, size, f"renderbuffer {renderbuffer.name}")
    pixels = _pixels(default.width * default.height)
    for contents, size in ((default.color, 4), (default.depth_contents, 4), (default.stencil_contents, 1)):
        _expect(contents, pixels * size, "the window")
    for program in objects.programs:
        for uniform in program.uniforms:
            if len(uniform.locations) > 65536:
                raise ValueError(f"program {program.name} has too many uniforms")


def _pixels(count: int) -> int:
    if not 0 <= count <= _MOST_PIXELS:
        raise ValueError("an image is too large")
    return count


def _expect(ref: BlobRef | None, size: int, what: str) -> None:
    if ref is not None and ref.size != size:
        raise ValueError(f"contents of {what} have the wrong size")
