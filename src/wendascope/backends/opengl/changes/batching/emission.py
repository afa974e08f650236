"""The calls of a batch as they are made, and the same calls as lines that a programmer would write."""

from __future__ import annotations

from collections.abc import Callable

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.formats import uniform_type
from wendascope.backends.opengl.objects.records import UniformRecord
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.words.describe import argument_text
from wendascope.registry import GL, tables


class Emission:
    """Calls in place of a call of a frame. What they change is put back at the end (`undo`)."""

    def __init__(self, frame: OpenGLFrame, last: int) -> None:
        self._frame, self._last = frame, last
        self.offers = Offers(frame.context)
        self.calls = CallBatch(self.offers)
        self.undo: list[Callable[[], None]] = []
        """What puts back what was there, the last first."""
        self.words: dict[int, str] = {}
        """What new objects are called in the code that is shown."""
        self.locations: dict[int, str] = {}
        """What uniforms of the new program are called there."""
        self._lines: list[str] = []

    def finish(self) -> CallBatch:
        """All calls, with those that put back what they changed."""
        for undo in reversed(self.undo):
            undo()
        return self.calls

    @property
    def text(self) -> str:
        """The calls that a programmer would write, a line each."""
        return "\n".join(self._lines)

    def call(self, name: str, *arguments: object, quiet: bool = False) -> None:
        """Make a call; unless it is `quiet`, a programmer would write it as well."""
        self.calls.call(name, *arguments)
        if quiet:
            return
        texts = []
        for parameter, value in zip(tables()[name].parameters, arguments, strict=True):
            if isinstance(value, bytes) and len(value) > 64:
                texts.append(parameter.name)
            elif parameter.name == "location" and isinstance(value, int):
                texts.append(self.locations.get(value, str(value)))
            elif isinstance(value, int) and value in self.words:
                texts.append(self.words[value])
            else:
                texts.append(argument_text(parameter, value))
        self._lines.append(f"{name}({', '.join(texts)});")

    def value(self, pattern: str, i: int = 0, j: int = 0) -> int:
        """Of the state that the steps leave behind."""
        return int(self._frame.history.number(pattern, self._last, i, j))

    def set_uniform(self, uniform: UniformRecord, location: int, count: int, value: bytes) -> None:
        """Set a uniform, or so many of an array."""
        letter, values = uniform_type(uniform.type)
        if len(letter) > 1:
            self.call(f"glUniformMatrix{letter[1:]}{letter[0]}v", location, count, 0, value)
        else:
            self.call(f"glUniform{values}{ {'u': 'ui'}.get(letter, letter) }v", location, count, value)

    def bind_again(self, unit: int, target: int) -> None:
        """What was bound there before: an array that nobody read stays."""
        if target in (GL.TEXTURE_2D, GL.TEXTURE_BUFFER):
            self.call("glActiveTexture", unit, quiet=True)
            self.call("glBindTexture", target, self.value("texture", unit, target), quiet=True)
