"""Why nothing comes from a program: what the system tells of its processes, in words that say what to do."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from wendascope.registry import native_library

_OPENGL = re.compile(r"lib(GL|GLX|EGL|GLESv[12]|GLESv1_CM|OpenGL)(_\w+)?\.so")
_VULKAN = re.compile(r"libvulkan\.so|libvk_swiftshader\.so")
_ELF, _CLASS_32, _INTERPRETER = b"\x7fELF", 1, 3
SOCKET = "WENDASCOPE_SOCKET"


@dataclass(frozen=True)
class Process:
    """One running process, as far as the system tells. What it does not tell is empty."""

    pid: int
    name: str
    libraries: frozenset[str]
    """Names of the shared libraries that are loaded."""
    preloads: bool
    """Whether its environment still asks for the tap."""
    privileged: bool
    """Whether it runs as another user than the one who started it."""
    sees_tap: bool
    """Whether the tap's file is there in the root that it has."""
    sees_socket: bool
    form: str
    """`32-bit`, `static` or empty."""

    @property
    def has_opengl(self) -> bool:
        return any(map(_OPENGL.match, self.libraries))

    @property
    def has_vulkan(self) -> bool:
        return any(map(_VULKAN.match, self.libraries))

    @property
    def has_tap(self) -> bool:
        return native_library().name in self.libraries


def processes_of(socket: str, first: int) -> list[Process]:
    """The process that was started, what came of it, and whatever else was given this socket, in the order of their
    numbers.
    """
    parents = {pid: parent for pid, parent, _ in _running()}
    found = {first} & parents.keys()
    while more := {pid for pid, parent in parents.items() if parent in found} - found:
        found |= more
    found |= {pid for pid in parents if _environment(pid).get(SOCKET) == socket}
    return [_process(pid, socket) for pid in sorted(found)]


def living(socket: str, anywhere: bool = False) -> list[int]:
    """Processes that have this socket in their environment and still run: of our session, since what left the session
    is a service that the program started, and no part of it; or `anywhere`.
    """
    ours = os.getsid(0)
    return [
        pid
        for pid, _, session in _running()
        if (anywhere or session == ours) and _environment(pid).get(SOCKET) == socket
    ]


def reason_for(processes: list[Process]) -> str:
    """Why no context was seen, where that is certain; empty where it may still come."""
    for process in processes:
        if process.has_opengl and not process.has_tap:
            return f"{process.name} (process {process.pid}) draws with OpenGL without the tap: {_missing(process)}"
        if process.has_opengl and not process.sees_socket:
            return (
                f"{process.name} (process {process.pid}) runs in a sandbox with a temporary folder of its own, in which"
                " the tap finds nobody to talk to; let the sandbox share the temporary folder, or start the program"
                " without it"
            )
    for process in processes:
        if process.has_vulkan and not any(p.has_opengl for p in processes):
            return (
                f"{process.name} (process {process.pid}) draws with Vulkan, of which nothing is captured yet; if it has"
                " an option for OpenGL, start it with that"
            )
    for process in processes:
        if process.form == "32-bit":
            return f"{process.name} is a 32-bit program, and the tap is one of 64 bits: start a 64-bit build of it"
    return ""


def guess_for(processes: list[Process]) -> str:
    """What may be the reason, where none is certain."""
    if not processes:
        return "it has ended"
    if any(process.has_opengl for process in processes):
        return "it has loaded OpenGL and not used it yet: it may need more time, or a display (DISPLAY)"
    static = next((process for process in processes if process.form == "static"), None)
    if static is not None:
        return f"{static.name} is linked statically, so that nothing can be loaded into it"
    return "no process of it has loaded OpenGL: it draws with something else, in software, or not at all"


def _missing(process: Process) -> str:
    if process.privileged:
        return "it runs with another user's rights, for which the system loads nothing beside it; start it as that user"
    if not process.preloads:
        return (
            "its environment was cleared on the way (LD_PRELOAD is gone); start the program itself, not what clears it"
        )
    if not process.sees_tap:
        return (
            f"it runs in a sandbox that does not have {native_library()}; start it without, or let the sandbox see it"
        )
    if process.form == "32-bit":
        return "it is a 32-bit program"
    return "it was loaded another way than by the system's loader"


def _running() -> Iterator[tuple[int, int, int]]:
    """(process, its parent, its session) of all that run."""
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            with contextlib.suppress(OSError, ValueError, IndexError):
                state, parent, _, session = (entry / "stat").read_text().rpartition(")")[2].split()[:4]
                if state not in "ZX":
                    yield int(entry.name), int(parent), int(session)


def _environment(pid: int) -> dict[str, str]:
    with contextlib.suppress(OSError):
        items = Path(f"/proc/{pid}/environ").read_bytes().split(b"\0")
        return {os.fsdecode(k): os.fsdecode(v) for k, _, v in (item.partition(b"=") for item in items)}
    return {}


def _process(pid: int, socket: str) -> Process:
    folder = Path(f"/proc/{pid}")
    name, libraries, privileged, form = "?", frozenset[str](), False, ""
    with contextlib.suppress(OSError):
        name = (folder / "comm").read_text().strip()
    with contextlib.suppress(OSError):
        mapped = (line.split(maxsplit=5) for line in (folder / "maps").read_text(errors="replace").splitlines())
        libraries = frozenset(Path(row[5]).name for row in mapped if len(row) == 6 and ".so" in row[5])
    with contextlib.suppress(OSError):
        users = next(line.split()[1:3] for line in (folder / "status").read_text().splitlines() if line[:4] == "Uid:")
        privileged = users[0] != users[1]
    with contextlib.suppress(OSError):
        form = program_form(folder / "exe")
    root = f"/proc/{pid}/root"
    return Process(
        pid,
        name,
        libraries,
        native_library().name in _environment(pid).get("LD_PRELOAD", ""),
        privileged,
        Path(f"{root}{native_library()}").exists(),
        Path(f"{root}{socket}").exists(),
        form,
    )


def program_form(path: Path) -> str:
    """`32-bit`, `static` or empty, by the header of a program. Raises OSError."""
    with path.open("rb") as file:
        head = file.read(64)
        if head[:4] != _ELF or len(head) < 64:
            return ""
        if head[4] == _CLASS_32:
            return "32-bit"
        at, size, count = (int.from_bytes(head[a:b], "little") for a, b in ((32, 40), (54, 56), (56, 58)))
        file.seek(at)
        table = file.read(size * min(count, 64))
    kinds = [int.from_bytes(table[k : k + 4], "little") for k in range(0, len(table), max(size, 1))]
    return "" if _INTERPRETER in kinds else "static"
