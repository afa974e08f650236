"""Builds the tap: generates its C code from the registry and compiles it.

Run by `make setup` through `setup.py`; `python -m wendascope.registry.build` does it again, and
compiles only what changed.
"""

from __future__ import annotations

import hashlib
import os
import shlex
import subprocess
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from wendascope.registry._tables import BUILT
from wendascope.registry.generate import generate

NATIVE = Path(__file__).parent.parent / "tap" / "native"
_FLAGS = [
    "-std=gnu11",
    "-O2",
    "-fPIC",
    "-fvisibility=hidden",
    "-ftls-model=initial-exec",
    "-Wall",
    "-Wextra",
    "-Werror",
    "-Wno-unused-parameter",
]


def compiler() -> list[str]:
    """The C compiler with its own options: `CC` where that is set, else gcc."""
    return shlex.split(os.environ.get("CC", "")) or ["gcc"]


def build(folder: Path = BUILT, extra: Sequence[str] = ()) -> Path:
    """Generate and compile into `folder`, with further flags for the compiler; returns the library.

    Raises CalledProcessError when the compiler refuses, FileNotFoundError when there is none.
    """
    objects = folder / "objects"
    objects.mkdir(parents=True, exist_ok=True)
    generate(folder)
    headers = b"".join(path.read_bytes() for path in (NATIVE / "tap.h", folder / "generated.h"))
    sources = [*sorted(NATIVE.glob("*.c")), *sorted(folder.glob("generated_*.c"))]

    def compile_one(source: Path) -> Path:
        key = hashlib.sha256(
            headers + source.read_bytes() + " ".join([*compiler(), *_FLAGS, *extra]).encode()
        ).hexdigest()[:24]
        target = objects / f"{source.stem}-{key}.o"
        if not target.exists():
            scratch = target.with_suffix(".new")
            command = [
                *compiler(),
                *_FLAGS,
                *extra,
                "-I",
                str(NATIVE),
                "-I",
                str(folder),
                "-c",
                str(source),
                "-o",
                str(scratch),
            ]
            subprocess.run(command, check=True)
            scratch.replace(target)
        return target

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        wanted = list(pool.map(compile_one, sources))
    for stale in set(objects.glob("*.o")) - set(wanted):
        stale.unlink()
    library = folder / "libwendatap.so"
    scratch = library.with_suffix(".new")
    link = [
        *compiler(),
        "-shared",
        *extra,
        "-o",
        str(scratch),
        *map(str, wanted),
        "-ldl",
        "-lpthread",
        "-Wl,-soname,libwendatap.so",
    ]
    subprocess.run(link, check=True)
    scratch.replace(library)
    return library


if __name__ == "__main__":
    print(f"built {build()}")
