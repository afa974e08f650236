"""Finds what registers itself: lenses, pages, forms. One file in the right folder is all it takes to add one."""

from __future__ import annotations

import functools
import importlib
import pkgutil


@functools.cache
def import_all(package: str) -> None:
    """Import every module of a package whose name does not begin with an underscore, once."""
    for module in pkgutil.iter_modules(importlib.import_module(package).__path__):
        if not module.name.startswith("_"):
            importlib.import_module(f"{package}.{module.name}")
