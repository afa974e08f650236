"""Builds the tap with the package. Everything else stands in pyproject.toml."""

import sys
from pathlib import Path

from setuptools import setup
from setuptools.command.bdist_wheel import bdist_wheel
from setuptools.command.build_py import build_py

sys.path.insert(0, str(Path(__file__).parent / "src"))


class BuildTap(build_py):
    """Generates and compiles the native library before the Python files are gathered."""

    def run(self) -> None:
        from wendascope.registry.build import build

        build()
        super().run()


class PlatformWheel(bdist_wheel):
    """Any Python 3, one platform: the package holds a native library, and no extension module."""

    def finalize_options(self) -> None:
        super().finalize_options()
        self.root_is_pure = False

    def get_tag(self) -> tuple[str, str, str]:
        return "py3", "none", super().get_tag()[2]


setup(cmdclass={"build_py": BuildTap, "bdist_wheel": PlatformWheel})
