"""Where capture sessions that listen are found: one socket each, in the user's runtime folder, for this user only."""

from __future__ import annotations

import os
import re
import socket
import stat
from pathlib import Path

from wendascope.errors import TargetError, UsageError
from wendascope.files import LONGEST_SOCKET, base_folder

_PROBE_SECONDS, _CONNECT_SECONDS = 0.2, 5.0
_ROOM = 40
"""Bytes that the path of a socket needs beside those of the folder of all, for a name that is not unusually long."""
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,40}")


def runtime_folder() -> Path:
    """The folder of the sockets, made when it is missing. Raises TargetError when it belongs to somebody else."""
    base = base_folder(room=_ROOM)
    own = str(base) == os.environ.get("XDG_RUNTIME_DIR", "")
    folder = base / ("wendascope" if own else f"wendascope-{os.getuid()}")
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        found = folder.lstat()
    except OSError as error:
        raise TargetError(
            f"{folder} is no folder for sockets ({error.strerror}); remove it, or set XDG_RUNTIME_DIR to a folder of"
            " your own"
        ) from error
    if found.st_uid != os.getuid() or not stat.S_ISDIR(found.st_mode):
        raise TargetError(f"{folder} belongs to somebody else; set XDG_RUNTIME_DIR to a folder of your own")
    if stat.S_IMODE(found.st_mode) != 0o700:
        folder.chmod(0o700)
    return folder


def socket_path(name: str) -> Path:
    """Raises UsageError for a name that cannot be one."""
    if not _NAME.fullmatch(name):
        raise UsageError(f"{name!r} is not a session name; use letters, digits, dots and dashes")
    path = runtime_folder() / f"{name}.session"
    if len(os.fsencode(path)) > LONGEST_SOCKET:
        raise UsageError(f"{name} is too long for a session name here; use a shorter one")
    return path


def listening() -> list[str]:
    """Names of the capture sessions that answer. Sockets that nobody listens on any more are removed."""
    found = []
    for path in sorted(runtime_folder().glob("*.session")):
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
            probe.settimeout(_PROBE_SECONDS)
            try:
                probe.connect(str(path))
                found.append(path.name.removesuffix(".session"))
            except TimeoutError:
                found.append(path.name.removesuffix(".session"))  # busy, so there
            except ConnectionRefusedError:
                path.unlink(missing_ok=True)
            except OSError:
                continue
    return found


def listen(name: str) -> socket.socket:
    """A listening socket of that name. Raises UsageError when the name is taken."""
    path = socket_path(name)
    if name in listening():
        raise UsageError(
            f"there is already a capture session called {name}; choose another name or use `wendascope trigger {name}`"
        )
    # it gets its name once it answers: whoever looks for sessions removes those that do not
    unnamed = path.with_suffix(f".{os.getpid()}")
    unnamed.unlink(missing_ok=True)
    server = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    before = os.umask(0o177)  # for this user only from the first moment
    try:
        server.bind(str(unnamed))
    finally:
        os.umask(before)
    server.listen(64)
    unnamed.replace(path)
    return server


def connect(name: str) -> socket.socket:
    """Raises TargetError when no such capture session answers."""
    path = socket_path(name)
    client = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    client.settimeout(_CONNECT_SECONDS)
    try:
        client.connect(str(path))
        client.settimeout(None)
    except OSError as error:
        client.close()
        names = listening()
        there = (
            f"; these are: {', '.join(names)}"
            if names
            else "; start one with `wendascope capture --listen NAME -- PROGRAM`"
        )
        raise TargetError(f"no capture session called {name} is listening{there}") from error
    return client
