"""Takes from a process, or from one thread and what it starts, what it does not need: for those that work on files
of strangers.

Landlock says which files may be opened, a seccomp filter which system calls may be made; both are asked of the
kernel by their documented interfaces, and what a kernel does not have is told and not pretended. Imports the
standard library and a list of numbers only, as it must run before anything else is imported: threads that exist
already are not confined.
"""

from __future__ import annotations

import ctypes
import errno
import glob
import os
import platform
import resource
import struct
import subprocess
import sys
import sysconfig
import threading
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from wendascope.system_calls import FILES, OWN, PLAIN, PROGRAMS, THREADS

OFF = "WENDASCOPE_CONFINE"
"""Set to `off`, nothing is confined: for drivers that need more than is allowed here."""

_libc = ctypes.CDLL(None, use_errno=True)
_PR_SET_NO_NEW_PRIVS, _PR_SET_SECCOMP, _SECCOMP_MODE_FILTER = 38, 22, 2

# ---- Landlock (linux/landlock.h): the numbers are the same on every processor ----------------------------

_CREATE_RULESET, _ADD_RULE, _RESTRICT_SELF = 444, 445, 446
_RULESET_VERSION, _PATH_BENEATH = 1, 1
_EXECUTE, _WRITE_FILE, _READ_FILE, _READ_DIR = 1, 2, 4, 8
_TRUNCATE, _IOCTL_DEVICE = 1 << 14, 1 << 15
_OF_FILES = _EXECUTE | _WRITE_FILE | _READ_FILE | _TRUNCATE | _IOCTL_DEVICE
_FIRST_RIGHTS = (1 << 13) - 1
_REFER = 1 << 13
_NETWORK, _SCOPES = 3, 3

_SYSTEM = (
    "/usr",
    "/lib",
    "/lib64",
    "/lib32",
    "/bin",
    "/opt",
    "/nix/store",
    "/run/opengl-driver",
    "/gnu/store",
    "/etc/ld.so.cache",
    "/etc/ld.so.conf",
    "/etc/ld.so.conf.d",
    "/etc/drirc",
    "/etc/glvnd",
    "/etc/egl",
    "/etc/OpenCL",
    "/etc/vulkan",
    "/etc/localtime",
    "/sys/devices",
    "/sys/dev",
    "/sys/class/drm",
    "/sys/bus/pci",
    "/proc/self",
    "/proc/cpuinfo",
    "/proc/meminfo",
    "/proc/stat",
    "/proc/version",
    "/proc/sys/vm",
    "/proc/sys/kernel",
    "/proc/driver/nvidia",
    "/dev/urandom",
    "/dev/random",
    "/dev/zero",
)
_DEVICES = ("/dev/null", "/dev/dri", "/dev/nvidia*", "/dev/mali*", "/dev/kgsl*")
_DRIVER_VARIABLES = (
    "LD_LIBRARY_PATH",
    "LIBGL_DRIVERS_PATH",
    "GBM_BACKENDS_PATH",
    "__EGL_VENDOR_LIBRARY_DIRS",
    "__EGL_VENDOR_LIBRARY_FILENAMES",
    "PYTHONPATH",
)


def program_paths() -> list[str]:
    """Files of this program, of Python and of the drivers, as far as the environment names them."""
    paths = [
        sys.prefix,
        sys.base_prefix,
        sys.exec_prefix,
        *sysconfig.get_paths().values(),
        *sys.path,
        str(Path(__file__).parent),
    ]
    for variable in _DRIVER_VARIABLES:
        paths += os.environ.get(variable, "").split(os.pathsep)
    return [os.path.realpath(path) for path in paths if path]


def landlock_version() -> int:
    """What the kernel has; 0 for none."""
    return int(max(0, _libc.syscall(_CREATE_RULESET, None, ctypes.c_size_t(0), ctypes.c_uint32(_RULESET_VERSION))))


def _restrict_files(readable: Iterable[str], writable: Iterable[str], devices: Iterable[str], programs: bool) -> str:
    version = landlock_version()
    if not version:
        return ""
    handled = (
        _FIRST_RIGHTS
        | (_REFER if version >= 2 else 0)
        | (_TRUNCATE if version >= 3 else 0)
        | (_IOCTL_DEVICE if version >= 5 else 0)
    )
    attributes = struct.pack("<QQQ", handled, _NETWORK if version >= 4 else 0, _SCOPES if version >= 6 else 0)
    size = 24 if version >= 6 else 16 if version >= 4 else 8
    ruleset = _libc.syscall(_CREATE_RULESET, attributes, ctypes.c_size_t(size), ctypes.c_uint32(0))
    if ruleset < 0:
        return ""
    try:
        read = _READ_FILE | _READ_DIR | (_EXECUTE if programs else 0)
        for paths, rights in ((readable, read), (devices, read | _WRITE_FILE | _IOCTL_DEVICE), (writable, handled)):
            for path in paths:
                _allow(ruleset, path, rights & handled)
        done = _libc.syscall(_RESTRICT_SELF, ruleset, ctypes.c_uint32(0)) == 0
    finally:
        os.close(ruleset)
    return f"no other files (Landlock {version})" if done else ""


def _allow(ruleset: int, path: str, rights: int) -> None:
    try:
        fd = os.open(path, os.O_PATH | os.O_CLOEXEC)
    except OSError:
        return  # what is not there needs no rule
    try:
        folder = os.path.isdir(f"/proc/self/fd/{fd}")  # noqa: PTH112 - no Path needed this early
        rule = struct.pack("<Qi", rights if folder else rights & _OF_FILES, fd)
        _libc.syscall(_ADD_RULE, ruleset, ctypes.c_uint32(_PATH_BENEATH), rule, ctypes.c_uint32(0))
    finally:
        os.close(fd)


# ---- seccomp (linux/seccomp.h, linux/filter.h) ------------------------------------------------------------

_ARCHITECTURES = {"x86_64": 0xC000003E, "aarch64": 0xC00000B7}
_CAPSET = {"x86_64": 126, "aarch64": 91}
_LOAD, _EQUAL, _AT_LEAST, _ANY_BIT, _RETURN = 0x20, 0x15, 0x35, 0x45, 0x06
_ALLOW, _ERROR, _KILL = 0x7FFF0000, 0x00050000, 0x80000000
_NUMBER, _ARCHITECTURE, _FIRST_ARGUMENT, _SECOND_ARGUMENT = 0, 4, 16, 24
_CLONE_THREAD = 0x00010000


_TTY_INJECTS, _TTY_COMMAND = 0x5412, 0x541C
"""Requests of terminals (asm-generic/ioctls.h) that type into them or copy from them, for whoever reads them next."""


def _filter(programs: bool) -> bytes | None:
    """Instructions that allow what a program does with what is its own, and nothing else; None for a processor that is
    not known.
    """
    machine = platform.machine()
    if machine not in _ARCHITECTURES or sys.byteorder != "little":
        return None
    column = list(_ARCHITECTURES).index(machine)
    refuse, allow = (_RETURN, 0, 0, _ERROR | errno.EPERM), (_RETURN, 0, 0, _ALLOW)
    missing = (_RETURN, 0, 0, _ERROR | errno.ENOSYS)
    rows: list[tuple[int, int, int, int]] = [
        (_LOAD, 0, 0, _ARCHITECTURE),
        (_EQUAL, 1, 0, _ARCHITECTURES[machine]),
        (_RETURN, 0, 0, _KILL),
        (_LOAD, 0, 0, _NUMBER),
    ]
    if machine == "x86_64":
        rows += [(_AT_LEAST, 0, 1, 0x40000000), refuse]  # numbers of another calling convention

    def of(number: int, then: list[tuple[int, int, int, int]]) -> None:
        """Whenever it is that call, what follows decides."""
        if number >= 0:
            rows.extend([(_EQUAL, 0, len(then), number), *then])

    groups = (PLAIN, FILES, PROGRAMS) if programs else (PLAIN,)
    of(PLAIN["ioctl"][column], [
        (_LOAD, 0, 0, _SECOND_ARGUMENT), (_EQUAL, 1, 0, _TTY_INJECTS), (_EQUAL, 0, 1, _TTY_COMMAND), refuse, allow,
    ])  # fmt: skip
    for name, numbers in OWN.items():
        # a program that is started has another number than this process, which it must not harm either
        first = [(_EQUAL, 2, 0, 0)] if name == "prlimit64" else []  # 0 means the caller there, and not its group
        own = (_EQUAL, 1, 0, 0xFFFFFFFF if programs else os.getpid())
        of(numbers[column], [(_LOAD, 0, 0, _FIRST_ARGUMENT), *first, own, refuse, allow])
    if programs:
        for numbers in THREADS.values():
            of(numbers[column], [allow])
    else:
        # the flags of clone3 lie in memory; the C library then takes clone
        of(THREADS["clone3"][column], [missing])
        of(THREADS["clone"][column], [(_LOAD, 0, 0, _FIRST_ARGUMENT), (_ANY_BIT, 1, 0, _CLONE_THREAD), refuse, allow])
        for numbers in PROGRAMS.values():
            of(numbers[column], [refuse])
    for numbers in (numbers for group in groups for numbers in group.values()):
        of(numbers[column], [allow])
    rows.append(refuse)
    return b"".join(struct.pack("<HBBI", *row) for row in rows)


def _restrict_calls(programs: bool) -> str:
    code = _filter(programs)
    if code is None:
        return ""
    buffer = ctypes.create_string_buffer(code, len(code))
    program = struct.pack("<HxxxxxxQ", len(code) // 8, ctypes.addressof(buffer))
    done = (
        _libc.prctl(
            _PR_SET_SECCOMP, ctypes.c_ulong(_SECCOMP_MODE_FILTER), program, ctypes.c_ulong(0), ctypes.c_ulong(0)
        )
        == 0
    )
    what = "no network, nothing of other processes" + ("" if programs else ", no new programs")
    return f"only system calls on a list: {what} (seccomp)" if done else ""


# ---- capabilities (linux/capability.h) --------------------------------------------------------------------------

_CAPABILITY_VERSION, _READ_FILES, _DROP_BOUND = 0x20080522, 2, 24


def _drop_capabilities() -> str:
    """Of root's rights only that to read files stays: which ones, Landlock says."""
    if os.geteuid() != 0:
        return ""
    for number in range(64):
        if number != _READ_FILES:
            _libc.prctl(_DROP_BOUND, ctypes.c_ulong(number), *[ctypes.c_ulong(0)] * 3)
    header = struct.pack("<Ii", _CAPABILITY_VERSION, 0)
    kept = 1 << _READ_FILES
    done = _libc.syscall(_CAPSET[platform.machine()], header, struct.pack("<6I", kept, kept, 0, 0, 0, 0)) == 0
    return "none of root's rights but reading" if done else ""


_TRIED = {
    # name -> its number on both processors, and arguments that do nothing where it is allowed
    "queues signals to other processes": ((129, 138), (1 << 30, 0, 0)),
    "changes the times of files": ((280, 88), (-100, 0, 0, 0)),
    "changes attributes of files": ((188, 5), (0, 0, 0, 0, 0)),
    "changes priorities of other processes": ((141, 140), (0, 1 << 30, 0)),
    "moves other processes to other processors": ((203, 122), (1 << 30, 0, 0)),
    "attaches shared memory of others": ((30, 196), (-1, 0, 0)),
    "watches files": ((254, -1), (0, -1, 0, 0)),
    "reads memory of other processes": ((310, 270), (1 << 30, 0, 0, 0, 0, 0)),
    "traces other processes": ((101, 117), (16, 1 << 30, 0, 0)),
    "mounts": ((165, 40), (0, 0, 0, 0, 0)),
    "loads programs into the kernel": ((321, 280), (-1, 0, 0)),
    "asks for kernel rings": ((425, 425), (0, 0)),
}


def tries() -> dict[str, bool]:
    """What a confined process should not be able to do, by system call: whether it can, tried on nothing."""
    machine = platform.machine()
    if machine not in _ARCHITECTURES:
        return {}
    column = list(_ARCHITECTURES).index(machine)
    found = {}
    for what, (numbers, arguments) in _TRIED.items():
        if numbers[column] >= 0:
            ctypes.set_errno(0)
            failed = _libc.syscall(numbers[column], *[ctypes.c_long(a) for a in arguments]) < 0
            found[what] = not failed or ctypes.get_errno() not in (errno.EPERM, errno.ENOSYS)
    return found


# ---- both ---------------------------------------------------------------------------------------------------


def confine(readable: Iterable[str] = (), writable: Iterable[str] = (), programs: bool = False) -> list[str]:
    """Confine this thread and all that it starts, for good. Returns what is in force, in words; nothing where it is
    switched off.

    Files of the program and of the drivers can be read, and those named; only what is `writable` can be written.
    New programs run only with `programs`.
    """
    if os.environ.get(OFF) == "off":
        return []
    if (
        _libc.prctl(_PR_SET_NO_NEW_PRIVS, ctypes.c_ulong(1), ctypes.c_ulong(0), ctypes.c_ulong(0), ctypes.c_ulong(0))
        != 0
    ):
        return []
    devices = [path for pattern in _DEVICES for path in glob.glob(pattern)]  # noqa: PTH207 - no Path needed this early
    parts = [
        _restrict_files([*_SYSTEM, *program_paths(), *readable], writable, devices, programs),
        _drop_capabilities() if platform.machine() in _CAPSET else "",
        _restrict_calls(programs),
    ]
    return [part for part in parts if part]


def limit_memory(share: float = 0.75) -> int:
    """Let this process have that share of the machine's memory at most, and leave no core file. Returns the limit,
    bytes.
    """
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    limit = int(os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") * share)
    limit = limit if hard == resource.RLIM_INFINITY else min(limit, hard)
    resource.setrlimit(resource.RLIMIT_AS, (limit, limit))  # for good
    return limit


def start_confined(command: list[str], folder: str, **options: Any) -> subprocess.Popen[bytes]:
    """Start a program that can read the system's files and `folder`, and write into `folder` only. Raises OSError.

    A thread of its own is confined for that, since what is given up is never got back.
    """
    started: list[subprocess.Popen[bytes] | OSError] = []

    def start() -> None:
        try:
            confine([folder, os.path.dirname(os.path.realpath(command[0]))], [folder], programs=True)  # noqa: PTH120 - as above
            started.append(subprocess.Popen(command, **options))
        except OSError as error:
            started.append(error)

    thread = threading.Thread(target=start, name="start a confined program")
    thread.start()
    thread.join()
    if isinstance(started[0], OSError):
        raise started[0]
    return started[0]
