"""Where sittings that listen are found: one socket each, in the user's runtime folder, for this user only."""

from __future__ import annotations

import os
import re
import socket
import stat
import tempfile
from pathlib import Path

from wendascope.errors import TargetError, UsageError

_PROBE_SECONDS, _CONNECT_SECONDS = 0.2, 5.0
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,40}")


def runtime_folder() -> Path:
    """The folder of the sockets, made when it is missing. Raises TargetError when it belongs to somebody else."""
    base = os.environ.get("XDG_RUNTIME_DIR", "")
    inside = Path(base) if base and os.access(base, os.W_OK) else Path(tempfile.gettempdir())
    folder = inside / ("wendascope" if base and inside == Path(base) else f"wendascope-{os.getuid()}")
    folder.mkdir(mode=0o700, exist_ok=True)
    found = folder.lstat()
    if found.st_uid != os.getuid() or not stat.S_ISDIR(found.st_mode):
        raise TargetError(f"{folder} belongs to somebody else; set XDG_RUNTIME_DIR to a folder of your own")
    folder.chmod(0o700)
    return folder


def socket_path(name: str) -> Path:
    """Raises UsageError for a name that cannot be one."""
    if not _NAME.fullmatch(name):
        raise UsageError(f"{name!r} cannot name a sitting; use letters, digits, dots and dashes")
    return runtime_folder() / f"{name}.sitting"


def listening() -> list[str]:
    """Names of the sittings that answer. Sockets that nobody listens on any more are removed."""
    found = []
    for path in sorted(runtime_folder().glob("*.sitting")):
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
            probe.settimeout(_PROBE_SECONDS)
            try:
                probe.connect(str(path))
                found.append(path.name.removesuffix(".sitting"))
            except TimeoutError:
                found.append(path.name.removesuffix(".sitting"))  # busy, so there
            except ConnectionRefusedError:
                path.unlink(missing_ok=True)
            except OSError:
                continue
    return found


def listen(name: str) -> socket.socket:
    """A listening socket of that name. Raises UsageError when the name is taken."""
    path = socket_path(name)
    if name in listening():
        raise UsageError(f"there is already a sitting called {name}; choose another name or use `wendascope trigger {name}`")
    path.unlink(missing_ok=True)
    server = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    before = os.umask(0o177)  # for this user only from the first moment
    try:
        server.bind(str(path))
    finally:
        os.umask(before)
    server.listen(64)
    return server


def connect(name: str) -> socket.socket:
    """Raises TargetError when no such sitting answers."""
    path = socket_path(name)
    client = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    client.settimeout(_CONNECT_SECONDS)
    try:
        client.connect(str(path))
        client.settimeout(None)
    except OSError as error:
        client.close()
        names = listening()
        there = f"; these are: {', '.join(names)}" if names else "; start one with `wendascope capture --listen NAME -- PROGRAM`"
        raise TargetError(f"no sitting called {name} is listening{there}") from error
    return client
