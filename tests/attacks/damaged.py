"""Damaged frame files: bytes changed at random, and records changed with all digests made true again."""

from __future__ import annotations

import contextlib
import hashlib
import json
import random
import sqlite3
import struct
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import zstandard

from tests.attacks import Tally
from tests.conftest import load_opengl
from wendascope.frame.summary import summarise

SLOWEST_SECONDS = 20.0
Rows = sqlite3.Connection
Damage = Callable[[random.Random, Path], None]


# ---- bytes ------------------------------------------------------------------------------------------


def _bytes(change: Callable[[random.Random, bytearray], bytearray]) -> Damage:
    def damage(chance: random.Random, path: Path) -> None:
        path.write_bytes(change(chance, bytearray(path.read_bytes())))

    return damage


def _flip(chance: random.Random, data: bytearray) -> bytearray:
    for _ in range(chance.choice((1, 1, 4, 64))):
        data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
    return data


def _noise(chance: random.Random, data: bytearray) -> bytearray:
    at = chance.randrange(len(data))
    data[at : at + chance.choice((8, 512, 4096))] = chance.randbytes(chance.choice((8, 512, 4096)))
    return data


def _blank(chance: random.Random, data: bytearray) -> bytearray:
    at = chance.randrange(len(data))
    data[at : at + 4096] = bytes(len(data[at : at + 4096]))
    return data


def _cut(chance: random.Random, data: bytearray) -> bytearray:
    return data[: chance.randrange(len(data))]


def _swap_pages(chance: random.Random, data: bytearray) -> bytearray:
    a, b = (4096 * chance.randrange(max(1, len(data) // 4096)) for _ in range(2))
    data[a : a + 4096], data[b : b + 4096] = data[b : b + 4096], data[a : a + 4096]
    return data


def _grow(chance: random.Random, data: bytearray) -> bytearray:
    return data + chance.randbytes(chance.choice((1, 4096, 100_000)))


# ---- records, with digests that fit ------------------------------------------------------------------

_STRANGE: tuple[Any, ...] = (
    0,
    -1,
    1,
    2**31,
    -(2**31),
    2**32 - 1,
    2**53,
    2**63 - 1,
    2**64 - 1,
    10**400,
    -(10**400),
    0.5,
    float("1e308"),
    "",
    "x" * 10_000,
    "\0",
    "gl",
    None,
    True,
    [],
    {},
    [[]],
    [0] * 5000,
    {"a": 1},
)


def _digest(data: bytes | str) -> str:
    return hashlib.sha256(data.encode() if isinstance(data, str) else data).hexdigest()


@contextlib.contextmanager
def _changing(path: Path) -> Any:
    """A connection; what is changed in it gets true digests at the end."""
    with contextlib.closing(sqlite3.connect(path)) as database:
        yield database
        with contextlib.suppress(sqlite3.Error, zstandard.ZstdError, MemoryError):
            content = hashlib.sha256()
            for key, value in database.execute(
                "SELECT key, value FROM meta WHERE key != 'content' ORDER BY rowid"
            ).fetchall():
                database.execute("UPDATE meta SET digest = ? WHERE key = ?", (_digest(value), key))
                content.update(_digest(value).encode())
            for name, data in database.execute("SELECT name, data FROM section ORDER BY rowid").fetchall():
                digest = _digest(zstandard.ZstdDecompressor().decompress(data))
                database.execute("UPDATE section SET digest = ? WHERE name = ?", (digest, name))
                content.update(digest.encode())
            for name, records in database.execute("SELECT class, records FROM object ORDER BY rowid").fetchall():
                database.execute("UPDATE object SET digest = ? WHERE class = ?", (_digest(records), name))
                content.update(_digest(records).encode())
            database.execute("UPDATE meta SET value = ? WHERE key = 'content'", (content.hexdigest(),))
        database.commit()


def _mutated(chance: random.Random, value: Any, deep: int = 0) -> Any:
    """The value with one place in it changed."""
    if isinstance(value, dict) and value and chance.random() < 0.93:
        key = chance.choice(list(value))
        if chance.random() < 0.1:
            return {k: v for k, v in value.items() if k != key}
        return {**value, key: _mutated(chance, value[key], deep + 1)}
    if isinstance(value, list) and value and chance.random() < 0.93:
        at = chance.randrange(len(value))
        if chance.random() < 0.1:
            return value[:at] + value[at + 1 :]
        return [*value[:at], _mutated(chance, value[at], deep + 1), *value[at + 1 :]]
    if isinstance(value, int) and not isinstance(value, bool) and chance.random() < 0.6:
        return (
            value + chance.choice((1, -1, 4, 1 << 16, 1 << 31, 1 << 40))
            if chance.random() < 0.7
            else value ^ (1 << chance.randrange(34))
        )
    return chance.choice(_STRANGE)


def _records(table: str, key: str, column: str) -> Damage:
    def damage(chance: random.Random, path: Path) -> None:
        with _changing(path) as database:
            rows = [r for r in database.execute(f"SELECT {key}, {column} FROM {table}").fetchall() if r[0] != "content"]
            name, text = chance.choice(rows)
            with contextlib.suppress(ValueError):
                changed = json.loads(text)
                for _ in range(chance.choice((1, 1, 3))):
                    changed = _mutated(chance, changed)
                text = json.dumps(changed)
            database.execute(f"UPDATE {table} SET {column} = ? WHERE {key} = ?", (text, name))

    return damage


def _section(change: Callable[[random.Random, bytearray], bytearray], *names: str) -> Damage:
    def damage(chance: random.Random, path: Path) -> None:
        with _changing(path) as database:
            present = [n for (n,) in database.execute("SELECT name FROM section") if not names or n in names]
            name = chance.choice(present)
            (stored,) = database.execute("SELECT data FROM section WHERE name = ?", (name,)).fetchone()
            data = bytearray(zstandard.ZstdDecompressor().decompress(stored))
            data = change(chance, data) if data else data
            database.execute(
                "UPDATE section SET size = ?, data = ? WHERE name = ?",
                (len(data), zstandard.ZstdCompressor().compress(bytes(data)), name),
            )

    return damage


def _words(chance: random.Random, data: bytearray) -> bytearray:
    """Argument slots, headers and offsets of packed calls, one at a time."""
    words = np.frombuffer(data, np.uint64).copy() if len(data) % 8 == 0 else np.zeros(0, np.uint64)
    for _ in range(chance.choice((1, 2, 8))):
        if len(words):
            at = chance.randrange(len(words))
            words[at] = chance.choice(
                (
                    0,
                    1,
                    7,
                    1 << 32,
                    1 << 60,
                    3 << 60,
                    (1 << 64) - 1,
                    chance.getrandbits(64),
                    int(words[at]) ^ (1 << chance.randrange(64)),
                )
            )
    return bytearray(words.tobytes()) if len(words) else data


def _blob(chance: random.Random, path: Path) -> None:
    with _changing(path) as database:
        hashes = [h for (h,) in database.execute("SELECT hash FROM blob")]
        name = chance.choice(hashes)
        what = chance.randrange(4)
        if what == 0:
            database.execute(
                "UPDATE blob SET size = ? WHERE hash = ?",
                (chance.choice((0, 1, 1 << 32, 1 << 40, 2**63 - 1, -5)), name),
            )
        elif what == 1:
            database.execute("UPDATE blob SET data = ? WHERE hash = ?", (chance.randbytes(64), name))
        elif what == 2:
            bomb = zstandard.ZstdCompressor(level=19).compress(bytes(1 << 24))
            database.execute(
                "UPDATE blob SET data = ?, size = ? WHERE hash = ?", (bomb, chance.choice((16, 1 << 24)), name)
            )
        else:
            database.execute("DELETE FROM blob WHERE hash = ?", (name,))


def _tables(chance: random.Random, path: Path) -> None:
    statements = (
        "DROP TABLE added",
        "DELETE FROM section",
        "UPDATE section SET data = x''",
        "UPDATE section SET size = 4294967296",
        "DELETE FROM meta WHERE key = 'state'",
        "INSERT INTO added (kind, made_at, value, digest) VALUES ('survey', '', '{}', '')",
        "UPDATE object SET records = 'null'",
        "UPDATE meta SET value = 5",
        "UPDATE section SET name = 1",
        "CREATE INDEX more ON added (kind)",
        "UPDATE object SET records = '[' || records || ']'",
        "UPDATE meta SET value = x'00'",
        "UPDATE section SET size = -1 WHERE name = 'arena'",
        "UPDATE blob SET hash = NULL",
    )
    with _changing(path) as database, contextlib.suppress(sqlite3.Error):
        database.execute(chance.choice(statements))


def _header(chance: random.Random, path: Path) -> None:
    data = bytearray(path.read_bytes())
    struct.pack_into(
        ">I",
        data,
        chance.choice((16, 24, 28, 32, 36, 40, 44, 52, 56, 60, 64, 92, 96)),
        chance.choice((0, 1, 2, 3, 1 << 31, (1 << 32) - 1)),
    )
    path.write_bytes(data)


KINDS: dict[str, Damage] = {
    "bits": _bytes(_flip),
    "noise": _bytes(_noise),
    "blank": _bytes(_blank),
    "cut": _bytes(_cut),
    "pages swapped": _bytes(_swap_pages),
    "more bytes": _bytes(_grow),
    "header": _header,
    "meta records": _records("meta", "key", "value"),
    "object records": _records("object", "class", "records"),
    "section bytes": _section(_flip),
    "call words": _section(_words, "calls", "setup_calls", "lists_calls", "following_calls"),
    "call offsets": _section(_words, "offsets", "setup_offsets"),
    "section size": _section(_cut),
    "blobs": _blob,
    "tables": _tables,
}


_DEEP = ("object records", "meta records", "call words", "section bytes")
"""Kinds that change what a frame means, and not only its bytes."""

# ---- trying ----------------------------------------------------------------------------------------


def use(path: Path) -> None:
    """Open a file as `show` does, and read all its contents. Raises WendascopeError."""
    frame = load_opengl(path)
    for ref in frame.objects.blob_refs():
        frame.blobs.get(ref)
    summarise(frame)


def attack(files: list[Path], tries: int, folder: Path, seed: int = 1, keep: int = 0) -> tuple[Tally, list[Path]]:
    """Damage the files in all ways in turn, and open each. Also returns up to `keep` files that opened though they
    were changed.
    """
    tally = Tally()
    opened: list[Any] = []
    scratch = folder / "damaged.wend"
    for number in range(tries):
        chance = random.Random(seed * 1_000_003 + number)
        name = list(KINDS)[number % len(KINDS)]
        original = files[number // len(KINDS) % len(files)].read_bytes()
        scratch.write_bytes(original)
        KINDS[name](chance, scratch)
        with tally.trying(f"try {number}, {name}", "refused in one line", SLOWEST_SECONDS) as this:
            use(scratch)
            tally.note("opened")
        if not this.error and len(opened) < keep and name in _DEEP and scratch.read_bytes() != original:
            opened.append(folder / f"opened-{number}.wend")
            opened[-1].write_bytes(scratch.read_bytes())
    return tally, opened


def clear_added(path: Path) -> None:
    """Leave out what was measured, so that damage hits the frame."""
    with contextlib.closing(sqlite3.connect(path)) as database:
        with database:
            database.execute("DELETE FROM added")
        database.execute("VACUUM")
