"""Files that are written whole or not at all, and that replace nothing but files."""

from __future__ import annotations

import contextlib
import fcntl
import glob
import os
import re
import shutil
import stat
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from wendascope.errors import FileError

_NULL_DEVICE = os.makedev(1, 3)
LONGEST_SOCKET = 107
"""Bytes of the path of a Unix socket."""
_PREFIX, _LOCK = "wendascope-own-", "owner"
_UNLOCKED = ".new.partial"
_BEING_MADE_SECONDS = 60.0
"""A folder or file without a lock may be one that is being made."""


def write_files(folder: Path, contents: Mapping[str, bytes]) -> list[Path]:
    """Write files by their names into a folder, which is made. Returns their paths. Raises FileError."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"cannot make the folder {folder}: {error.strerror}; choose another") from error
    for name, data in contents.items():
        write_atomically(folder / name, lambda scratch, data=data: scratch.write_bytes(data))  # type: ignore[misc]
    return [folder / name for name in contents]


def write_atomically(path: Path, write: Callable[[Path], object]) -> None:
    """Let `write` fill a temporary file, then give it its name. A pipe or terminal gets what was written. Raises
    FileError.
    """
    with whole_file(path, streams=True) as scratch:
        write(scratch)


def check_place(path: Path, streams: bool = False) -> None:
    """Raises FileError where a file cannot be written to `path`: asked before long work, not after it."""
    _place(path, streams)


@contextlib.contextmanager
def whole_file(path: Path, streams: bool = False) -> Iterator[Path]:
    """A new empty file beside `path`, which takes its place when the block ends without an error.

    Only regular files are replaced: a link is followed to its file, and owner and mode of what was there stay. With
    `streams`, what was written goes into a pipe, a terminal or the null device. Raises FileError.
    """
    before = _place(path, streams)
    scratch, handle = None, -1
    try:
        if before is not None and not stat.S_ISREG(before.st_mode):
            handle, name = tempfile.mkstemp(prefix="wendascope-")
            scratch = Path(name)
            yield scratch
            with scratch.open("rb") as data, path.open("wb", buffering=0) as stream:
                shutil.copyfileobj(data, stream)
            return
        real = Path(os.path.realpath(path))
        real.parent.mkdir(parents=True, exist_ok=True)
        prefix = f".{real.name[:100]}."
        for left in real.parent.glob(f"{glob.escape(prefix)}*.partial"):
            with contextlib.suppress(OSError):
                young = time.time() - left.stat().st_mtime < _BEING_MADE_SECONDS
                if not (left.name.endswith(_UNLOCKED) and young) and _is_left(left, time.time()):
                    left.unlink()
        handle, name = tempfile.mkstemp(prefix=prefix, suffix=_UNLOCKED, dir=real.parent)
        scratch = Path(name)
        fcntl.flock(handle, fcntl.LOCK_EX)
        scratch = scratch.replace(f"{name.removesuffix(_UNLOCKED)}.partial")  # from now on its lock tells
        os.fchmod(handle, stat.S_IMODE(before.st_mode) if before else 0o666 & ~_umask())
        if before is not None and (before.st_uid, before.st_gid) != (os.geteuid(), os.getegid()):
            with contextlib.suppress(PermissionError):
                os.fchown(handle, before.st_uid, before.st_gid)
        yield scratch
        with scratch.open("rb+") as written:
            os.fsync(written.fileno())
        scratch.replace(real)
    except OSError as error:
        raise FileError(
            f"cannot write {path}: {error.strerror or error}; free some space or choose another place"
        ) from error
    finally:
        if scratch is not None:
            with contextlib.suppress(OSError):
                scratch.unlink(missing_ok=True)
        if handle >= 0:
            os.close(handle)  # and with it the lock that says that somebody is writing


def _place(path: Path, streams: bool) -> os.stat_result | None:
    """What is at `path` now. Raises FileError where it must stay as it is."""
    try:
        link = path.lstat()
        if stat.S_ISLNK(link.st_mode) and link.st_uid not in (0, os.geteuid()):
            raise FileError(f"{path} is a link that somebody else made; choose another place")
        found = path.stat()
    except FileNotFoundError:
        return None
    except OSError as error:
        raise FileError(f"cannot write {path}: {error.strerror}; choose another place") from error
    kind = stat.S_IFMT(found.st_mode)
    if kind == stat.S_IFREG:
        if not os.access(path, os.W_OK):
            raise FileError(f"cannot write {path}: it is read-only; make it writable or choose another place")
        return found
    if streams and (
        kind == stat.S_IFIFO or (kind == stat.S_IFCHR and (found.st_rdev == _NULL_DEVICE or _is_terminal(path)))
    ):
        return found
    names = {stat.S_IFDIR: "a folder", stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket"}
    raise FileError(f"{path} is {names.get(kind, 'a device')}, and no file can take its place; choose another")


def _is_terminal(path: Path) -> bool:
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOCTTY | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        return os.isatty(handle)
    finally:
        os.close(handle)


# ---- folders that go with their owner --------------------------------------------------------------


def base_folder(room: int = 0) -> Path:
    """Where sockets and scratch files of this user go: the first folder that there is, that can be written to, and
    whose paths leave `room` bytes for the rest of the path of a socket. Raises FileError.
    """
    tried = [
        os.environ.get("XDG_RUNTIME_DIR", ""),
        os.environ.get("TMPDIR", ""),
        tempfile.gettempdir(),
        "/tmp",
        "/var/tmp",
    ]
    for name in tried:
        if (
            name
            and Path(name).is_absolute()
            and Path(name).is_dir()
            and os.access(name, os.W_OK | os.X_OK)
            and len(os.fsencode(name)) + room <= LONGEST_SOCKET
        ):
            return Path(name)
    raise FileError(
        "no folder for sockets can be written to; set XDG_RUNTIME_DIR to a folder of your own with a short path"
    )


class OwnFolder:
    """A folder for this user and this process only. One whose process died without removing it is removed by the
    next that is made.
    """

    def __init__(self) -> None:
        base = base_folder(room=40)
        sweep(base)
        try:
            self.path = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=base))  # mode 0700
            made = self.path / f"{_LOCK}.new"  # whoever sweeps meanwhile must not find a lock that nobody holds
            self._lock = os.open(made, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            fcntl.flock(self._lock, fcntl.LOCK_EX)
            made.rename(self.path / _LOCK)
        except OSError as error:
            raise FileError(
                f"cannot make a folder in {base}: {error.strerror}; set XDG_RUNTIME_DIR to another"
            ) from error

    def __enter__(self) -> Path:
        return self.path

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        if self._lock >= 0:
            shutil.rmtree(self.path, ignore_errors=True)
            os.close(self._lock)
            self._lock = -1


def sweep(base: Path) -> int:
    """Remove folders whose owner is gone. Returns how many."""
    swept = 0
    with contextlib.suppress(OSError):
        for folder in base.glob(f"{_PREFIX}*"):
            with contextlib.suppress(OSError):
                found = folder.lstat()
                if (
                    not stat.S_ISDIR(found.st_mode)
                    or found.st_uid != os.geteuid()
                    or not _is_left(folder / _LOCK, found.st_mtime)
                ):
                    continue
                shutil.rmtree(folder, ignore_errors=True)
                swept += 1
    return swept


def _is_left(lock: Path, made: float) -> bool:
    """Whether nobody holds the lock any more. It goes with its process, whatever ended that."""
    try:
        handle = os.open(lock, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except FileNotFoundError:
        return time.time() - made > _BEING_MADE_SECONDS
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    finally:
        os.close(handle)
    return True


def _umask() -> int:
    """Read without setting it, which would be seen by other threads."""
    found = re.search(r"^Umask:\s*([0-7]+)", Path("/proc/self/status").read_text(), re.M)
    return int(found[1], 8) if found else 0o022
