"""Builds the tap with the package. Everything else stands in pyproject.toml."""

import sys
from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

sys.path.insert(0, str(Path(__file__).parent / "src"))


class BuildTap(build_py):
    """Generates and compiles the native library before the Python files are gathered."""

    def run(self) -> None:
        from wendascope.registry.build import build

        build()
        super().run()


setup(cmdclass={"build_py": BuildTap})
