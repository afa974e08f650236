"""Which package knows the frames of which graphics interface: the one table of them, asked for by name.

Nothing here imports one; whoever needs a part of such a package asks for that module when it does.
"""

from __future__ import annotations

import importlib
from types import ModuleType

PACKAGES = {"OpenGL": "wendascope.backends.opengl", "OpenGL ES": "wendascope.backends.opengl"}
"""API of a frame -> package with a module `codec` (parts of files, see `frame.file`) and one `backend` (see
`backends.Backend`).
"""


def module_of(api: str, name: str) -> ModuleType | None:
    """A module of the package that knows an API; None where no package does."""
    package = PACKAGES.get(api)
    return None if package is None else importlib.import_module(f"{package}.{name}")
