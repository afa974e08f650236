"""Takes from a process, or from one thread and what it starts, what it does not need: for those that work on files
of strangers.

Landlock says which files may be opened, a seccomp filter which system calls may be made; both are asked of the
kernel by their documented interfaces, and what a kernel does not have is told and not pretended. Imports the
standard library only, as it must run before anything else is imported: threads that exist already are not confined.
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
    return max(0, _libc.syscall(_CREATE_RULESET, None, ctypes.c_size_t(0), ctypes.c_uint32(_RULESET_VERSION)))


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
# name -> number on x86_64 and on aarch64 (asm/unistd_64.h, asm-generic/unistd.h); -1 where there is none
_CALLS = {
    "execve": (59, 221),
    "execveat": (322, 281),
    "fork": (57, -1),
    "vfork": (58, -1),
    "ptrace": (101, 117),
    "process_vm_readv": (310, 270),
    "process_vm_writev": (311, 271),
    "socket": (41, 198),
    "connect": (42, 203),
    "bind": (49, 200),
    "listen": (50, 201),
    "accept": (43, 202),
    "accept4": (288, 242),
    "mount": (165, 40),
    "umount2": (166, 39),
    "pivot_root": (155, 41),
    "chroot": (161, 51),
    "unshare": (272, 97),
    "setns": (308, 268),
    "bpf": (321, 280),
    "perf_event_open": (298, 241),
    "io_uring_setup": (425, 425),
    "userfaultfd": (323, 282),
    "add_key": (248, 217),
    "request_key": (249, 218),
    "keyctl": (250, 219),
    "kexec_load": (246, 104),
    "init_module": (175, 105),
    "finit_module": (313, 273),
    "open_by_handle_at": (304, 265),
    "pidfd_getfd": (438, 438),
    "pidfd_send_signal": (424, 424),
    "process_madvise": (440, 440),
    "chmod": (90, -1),
    "fchmodat": (268, 53),
    "chown": (92, -1),
    "fchownat": (260, 54),
    "utimensat": (280, 88),
    "setxattr": (188, 5),
    "truncate": (76, 45),
    "fchmod": (91, 52),
    "fchmodat2": (452, 452),
    "fchown": (93, 55),
    "lchown": (94, -1),
    "fsetxattr": (190, 7),
    "lsetxattr": (189, 6),
    "removexattr": (197, 14),
}
_STARTS_PROGRAMS = ("execve", "execveat", "fork", "vfork")
_LOAD, _EQUAL, _AT_LEAST, _ANY_BIT, _RETURN = 0x20, 0x15, 0x35, 0x45, 0x06
_ALLOW, _ERROR, _KILL = 0x7FFF0000, 0x00050000, 0x80000000
_NUMBER, _ARCHITECTURE, _FIRST_ARGUMENT = 0, 4, 16
_CLONE_THREAD = 0x00010000


def _filter(programs: bool) -> bytes | None:
    """Instructions that refuse the calls above, new processes, and signals to others; None for a processor that is
    not known.
    """
    machine = platform.machine()
    if machine not in _ARCHITECTURES or sys.byteorder != "little":
        return None
    column = list(_ARCHITECTURES).index(machine)
    refuse = _ERROR | errno.EPERM
    rows: list[tuple[int, int, int, int]] = [
        (_LOAD, 0, 0, _ARCHITECTURE),
        (_EQUAL, 1, 0, _ARCHITECTURES[machine]),
        (_RETURN, 0, 0, _KILL),
        (_LOAD, 0, 0, _NUMBER),
    ]
    if machine == "x86_64":
        rows += [(_AT_LEAST, 0, 1, 0x40000000), (_RETURN, 0, 0, refuse)]  # numbers of another calling convention
    for name, numbers in _CALLS.items():
        if numbers[column] >= 0 and not (programs and name in _STARTS_PROGRAMS):
            rows += [(_EQUAL, 0, 1, numbers[column]), (_RETURN, 0, 0, refuse)]
    clone, clone3 = ((56, 435), (220, 435))[column]
    about_processes = ((62, 200, 234, 302), (129, 130, 131, 261))[column]  # kill, tkill, tgkill, prlimit64
    if not programs:
        rows += [
            (_EQUAL, 0, 1, clone3),
            (_RETURN, 0, 0, _ERROR | errno.ENOSYS),  # its flags lie in memory; the C library then takes clone
            (_EQUAL, 0, 4, clone),
            (_LOAD, 0, 0, _FIRST_ARGUMENT),
            (_ANY_BIT, 1, 0, _CLONE_THREAD),
            (_RETURN, 0, 0, refuse),
            (_RETURN, 0, 0, _ALLOW),
        ]
    for number in about_processes:
        # a program that is started has another number than this process, which it must not harm either
        own = [
            (_EQUAL, 1, 0, 0xFFFFFFFF if programs else os.getpid()),
            (_RETURN, 0, 0, refuse),
            (_RETURN, 0, 0, _ALLOW),
        ]
        if number == about_processes[-1]:
            own.insert(0, (_EQUAL, 2, 0, 0))  # 0 means the caller here, and not its whole group
        rows += [(_EQUAL, 0, 1 + len(own), number), (_LOAD, 0, 0, _FIRST_ARGUMENT), *own]
    rows.append((_RETURN, 0, 0, _ALLOW))
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
    what = "no network, no signals to others" + ("" if programs else ", no new programs")
    return f"{what} (seccomp)" if done else ""


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
    resource.setrlimit(resource.RLIMIT_AS, (limit, hard))
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
