"""What a context offers: commands and enumerants, by its version, profile and extensions and the registry."""

from __future__ import annotations

from wendascope.frame.context import ContextInfo
from wendascope.registry import GL, is_offered, tables


class Offers:
    """Answers for one context; every answer is looked up once."""

    def __init__(self, context: ContextInfo) -> None:
        self._api = "es" if context.es else "gl"
        self._number = context.number
        self._core = context.profile == "core"
        self._extensions = frozenset(context.extensions)
        self._known: dict[str, bool] = {}
        self._values: dict[int, bool] = {}

    def __call__(self, name: str) -> bool:
        """Whether the context has a command or enumerant, by its full name."""
        found = self._known.get(name)
        if found is None:
            found = name.startswith("wenda") or is_offered(name, self._api, self._number, self._core, self._extensions)
            self._known[name] = found
        return found

    def value(self, value: int) -> bool:
        """Whether any name of an enumerant's value is offered."""
        found = self._values.get(value)
        if found is None:
            found = self._values[value] = any(self(name) for name in tables().names_of(value))
        return found

    @property
    def draw_target(self) -> int:
        """The framebuffer target that draws go to; OpenGL ES 2 has one for drawing and reading."""
        return GL.DRAW_FRAMEBUFFER if self.value(GL.DRAW_FRAMEBUFFER) else GL.FRAMEBUFFER

    @property
    def read_target(self) -> int:
        return GL.READ_FRAMEBUFFER if self.value(GL.READ_FRAMEBUFFER) else GL.FRAMEBUFFER
