"""Builds the tap with the package, and puts the guide into it. Everything else stands in pyproject.toml."""

import shutil
import sys
from pathlib import Path

from setuptools import Distribution, setup
from setuptools.command.bdist_wheel import bdist_wheel
from setuptools.command.build_py import build_py

sys.path.insert(0, str(Path(__file__).parent / "src"))


class BuildTap(build_py):
    """Generates and compiles the native library before the Python files are gathered."""

    def run(self) -> None:
        from wendascope.registry.build import build

        build()
        super().run()
        if not self.editable_mode:
            self._add_guide()

    def _add_guide(self) -> None:
        """What the window shows as help lies outside of the package, where people read it without one."""
        docs, into = Path(__file__).parent / "docs", Path(self.build_lib) / "wendascope" / "docs"
        shutil.rmtree(into, ignore_errors=True)
        for folder in ("guide", "screenshots", "examples"):
            shutil.copytree(docs / folder, into / folder)
        for page in ("api.md", "ci.md", "file-format.md"):
            shutil.copy(docs / page, into / page)


class WithLibrary(Distribution):
    """The package is of one platform, though it has no extension module."""

    def has_ext_modules(self) -> bool:
        return True


class PlatformWheel(bdist_wheel):
    """Any Python 3, one platform: nothing that is compiled knows Python."""

    def get_tag(self) -> tuple[str, str, str]:
        return "py3", "none", super().get_tag()[2]


setup(distclass=WithLibrary, cmdclass={"build_py": BuildTap, "bdist_wheel": PlatformWheel})
