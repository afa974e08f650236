"""Calls and steps in words: names, arguments by name, what a step does."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from wendascope.backends.opengl.calls.packed import Raw
from wendascope.registry import GL, Parameter, tables
from wendascope.registry.numbers import HEADER_WORDS

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame

_LONGEST_VALUES = 16
_SPECIAL = {
    "glEnd": "immediate mode",
    "glCallList": "display list",
    "glCallLists": "display lists",
    "glEndList": "display list while made",
    "glDrawPixels": "draw pixels",
    "glBitmap": "bitmap",
}


def argument_text(parameter: Parameter, value: Any) -> str:
    """One argument as a programmer would write it."""
    match value:
        case None:
            return "NULL"
        case Raw(value=offset):
            return f"offset {offset}"
        case bytes():
            return _data_text(parameter, value)
        case list():
            return f"{len(value)} strings"
        case float():
            return f"{value:g}"
    if parameter.kind == "enum":
        return tables().enum_name(value, parameter.group)
    if parameter.kind == "bitfield":
        return tables().bit_names(value, parameter.group)
    if parameter.kind == "bool":
        return "true" if value else "false"
    return str(value)


def _data_text(parameter: Parameter, data: bytes) -> str:
    import numpy as np

    if "char" in parameter.ctype.lower():
        return repr(data.split(b"\0", 1)[0].decode("utf-8", "replace"))
    kinds = {"GLfloat": np.float32, "GLint": np.int32, "GLuint": np.uint32, "GLenum": np.uint32, "GLdouble": np.float64}
    kind = next((dtype for name, dtype in kinds.items() if name in parameter.ctype), None)
    if kind is None or len(data) % np.dtype(kind).itemsize:
        return f"{len(data):,} bytes"
    values = np.frombuffer(data, kind)
    shown = ", ".join(f"{v:g}" for v in values[:_LONGEST_VALUES])
    return f"[{shown}{', ...' if len(values) > _LONGEST_VALUES else ''}]"


def call_arguments(frame: OpenGLFrame, call: int) -> list[tuple[str, str]]:
    """(name, text) of every argument of a call."""
    command = frame.calls.command(call)
    return [(p.name, argument_text(p, frame.calls.argument(call, p.name))) for p in command.parameters]


def step_name(frame: OpenGLFrame, step: int) -> str:
    """A step in a few words: what it does and to how much."""
    steps = frame.steps
    call = int(steps.call[step])
    command = frame.calls.command(call)
    kind = steps.kind_name(step)
    if kind == "draw" and command.name in _SPECIAL:
        count = int(steps.vertices[step])
        return _SPECIAL[command.name] + (
            f", {count:,} vertices" if command.name.startswith(("glCall", "glEnd")) else ""
        )
    if kind == "draw":
        mode = next((p for p in command.parameters if p.name == "mode"), None)
        shape = (
            tables()
            .enum_name(int(frame.calls.argument(call, "mode")), "PrimitiveType")
            .removeprefix("GL_")
            .lower()
            .replace("_", " ")
            if mode
            else ""
        )
        instances = int(steps.instances[step])
        many = f" x {instances:,}" if instances > 1 else ""
        each = int(steps.vertices[step]) // max(instances, 1)
        # triangles are what nearly everything is made of, and go without saying
        return f"draw {each:,} vertices{many}" + (f", {shape}" if shape != "triangles" else "")
    if kind == "clear" and command.name == "glClear":
        bits = int(frame.calls.argument(call, "mask"))
        words = [
            w
            for bit, w in (
                (GL.COLOR_BUFFER_BIT, "colour"),
                (GL.DEPTH_BUFFER_BIT, "depth"),
                (GL.STENCIL_BUFFER_BIT, "stencil"),
            )
            if bits & bit
        ]
        return "clear " + ", ".join(words)
    return {
        "clear": "clear",
        "dispatch": "dispatch compute",
        "blit": "accumulate" if command.name == "glAccum" else "blit framebuffer",
        "copy": "copy",
        "mipmaps": "generate mipmaps",
    }[kind]


def step_names(frame: OpenGLFrame) -> list[str]:
    """The name of every step; steps that read alike are named once."""
    steps, calls = frame.steps, frame.calls
    if not len(steps):
        return []
    known: dict[tuple[int, ...], str] = {}
    first_slot = calls.words[calls.offsets[steps.call] + HEADER_WORDS].tolist()
    ids = calls.ids[steps.call].tolist()
    columns = zip(ids, first_slot, steps.vertices.tolist(), steps.instances.tolist(), strict=True)
    names = []
    for step, key in enumerate(columns):
        if key not in known:
            known[key] = step_name(frame, step)
        names.append(known[key])
    return names


def call_text(frame: OpenGLFrame, call: int) -> str:
    """A call as it would be written, with the names of uniforms in place of their locations."""
    texts = []
    for name, text in call_arguments(frame, call):
        texts.append(_uniform_name(frame, call) or text if name == "location" else text)
    return f"{frame.calls.command(call).name}({', '.join(texts)})"


def _uniform_name(frame: OpenGLFrame, call: int) -> str:
    command = frame.calls.command(call)
    owned = any(p.name == "program" for p in command.parameters)
    program = int(frame.calls.argument(call, "program")) if owned else frame.history.number("program", call)
    record = frame.objects.program(program)
    location = int(frame.calls.argument(call, "location")) & 0xFFFFFFFF
    for uniform in record.uniforms if record else []:
        for k, known in enumerate(uniform.locations):
            if known & 0xFFFFFFFF == location:
                return uniform.name if k == 0 else f"{uniform.name.removesuffix('[0]')}[{k}]"
    return ""
