"""Calls that set parameters of textures and samplers: which of them change anything."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from wendascope.frame.numbers import Mask
from wendascope.registry import GL

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_BOUND = ("glTexParameteri", "glTexParameterf")
_NAMED = ("glTextureParameteri", "glTextureParameterf")
_PREFIXES = ("glTexParameter", "glTextureParameter", "glSamplerParameter")


def parameter_calls(frame: OpenGLFrame) -> tuple[Mask, Mask]:
    """(calls that set a parameter of a texture or sampler, those of them that give it another value than it has),
    shape (calls,). Programs that set filters right after they bind a texture mostly change nothing.
    """
    calls = frame.calls
    every, changing = np.zeros(len(calls), bool), np.zeros(len(calls), bool)
    for command, rows in calls.by_command():
        if command.name.startswith(_PREFIXES):
            every[rows] = changing[rows] = True
    if not every.any():
        return every, changing
    deleting = calls.calls_of("glDeleteTextures")
    known: dict[int, dict[str, list[float]]] = {t.name: dict(t.parameters) for t in frame.objects.textures}
    defaults = {t.target: t.name for t in frame.objects.textures if t.is_default}
    names = {getattr(GL, name): name for values in known.values() for name in values}
    for call in np.sort(np.concatenate([np.flatnonzero(every), deleting])).tolist():
        name = calls.command(call).name
        texture = 0
        if name == "glDeleteTextures":
            given = calls.argument(call, "textures")
            for gone in np.frombuffer(given, np.uint32).tolist() if isinstance(given, bytes) else ():
                known.pop(gone, None)  # the name may come back as another texture
            continue
        if name in _BOUND:
            target = int(calls.argument(call, "target"))
            unit = frame.history.number("active_texture", call, missing=GL.TEXTURE0)
            texture = frame.history.number("texture", call, unit, target) or defaults.get(target, 0)
        elif name in _NAMED:
            texture = int(calls.argument(call, "texture"))
        parameter = names.get(int(calls.argument(call, "pname")), "")
        if not texture or not parameter or name not in (*_BOUND, *_NAMED):
            known.pop(texture, None)  # what it holds from here on is not followed
            continue
        values = known.setdefault(texture, {})
        value = [float(calls.argument(call, "param"))]
        changing[call] = values.get(parameter) != value
        values[parameter] = value
    return every, changing
