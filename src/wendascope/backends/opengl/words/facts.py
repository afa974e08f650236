"""The facts of a step: everything that decides what it does, in sections of label and text."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wendascope.backends.opengl.state.state_table import PATTERNS, decoded
from wendascope.backends.opengl.tables.inputs import texture_inputs
from wendascope.backends.opengl.tables.vertex_inputs import vertex_inputs
from wendascope.backends.opengl.words.describe import call_arguments, step_name
from wendascope.frame.frame import Section
from wendascope.registry import GL, tables

if TYPE_CHECKING:
    from wendascope.backends.opengl.frame import OpenGLFrame
    from wendascope.frame.passes import Attachment


def step_facts(frame: OpenGLFrame, step: int) -> list[Section]:
    """Sections in the order in which a reader wants them. Reads no contents and needs no GPU."""
    sections = [
        _call(frame, step),
        _geometry(frame, step),
        _program(frame, step),
        _textures(frame, step),
        _target(frame, step),
    ]
    if frame.steps.kind_name(step) in ("draw", "clear"):
        sections += [_blend(frame, step), _depth(frame, step), _raster(frame, step)]
    return [section for section in sections if section.rows]


def _enum(value: int, group: str | None = None) -> str:
    return tables().enum_name(value, group).removeprefix("GL_")


def _call(frame: OpenGLFrame, step: int) -> Section:
    call = int(frame.steps.call[step])
    section = Section(f"Call {call:,}: {frame.calls.command(call).name}")
    section.rows = call_arguments(frame, call)
    groups = frame.steps.group[step]
    if groups:
        section.rows.append(("debug group", " > ".join(groups)))
    return section


def _geometry(frame: OpenGLFrame, step: int) -> Section:
    steps = frame.steps
    if steps.kind_name(step) != "draw":
        return Section("Geometry")
    section = Section("Geometry", [("what", step_name(frame, step))])
    section.rows += [
        ("vertices", f"{int(steps.vertices[step]):,}"),
        ("triangles", f"{int(steps.triangles[step]):,}"),
        ("instances", f"{int(steps.instances[step]):,}"),
    ]
    name = _value(frame, step, "vertex_array")
    array = frame.objects.vertex_array(name)
    section.rows.append(("vertex array", f"{name}{' ' + array.label if array and array.label else ''}"))
    if array:
        for a in array.attributes:
            if a.enabled:
                per = f", one every {a.divisor} instances" if a.divisor else ""
                section.rows.append(
                    (
                        f"attribute {a.index}",
                        f"{a.size} x {_enum(a.type)} from buffer {a.buffer}, stride {a.stride}{per}",
                    )
                )
        if array.element_buffer:
            section.rows.append(("indices", f"buffer {array.element_buffer}"))
    return section


def mesh_label(frame: OpenGLFrame, step: int) -> str:
    """The label of the vertex array, else of the buffer of its first attribute."""
    array = frame.objects.vertex_array(_value(frame, step, "vertex_array"))
    if array is None or array.label:
        return array.label if array else ""
    buffer = next((frame.objects.buffer(a.buffer) for a in array.attributes if a.enabled and a.buffer), None)
    return buffer.label if buffer else ""


def _program(frame: OpenGLFrame, step: int) -> Section:
    name = int(frame.steps.program[step])
    if frame.steps.kind_name(step) not in ("draw", "dispatch"):
        return Section("Program")
    record = frame.objects.program(name)
    section = Section("Program", [("program", frame.program_name(name))])
    if record is None:
        return section
    for shader in record.shaders:
        kind = _enum(shader.type, "ShaderType").removesuffix("_SHADER").lower().replace("_", " ")
        section.rows.append((f"{kind} shader", f"{len(shader.source.splitlines())} lines"))
    call = int(frame.steps.call[step])
    for block, (_, binding) in record.blocks.items():
        bound = frame.history.value("indexed_buffer", call, GL.UNIFORM_BUFFER, binding)
        section.rows.append((f"block {block}", f"binding {binding}, buffer {bound[0] if bound else 0}"))
    return section


def _textures(frame: OpenGLFrame, step: int) -> Section:
    section = Section("Textures read")
    for item in texture_inputs(frame, step):
        record = frame.objects.texture(item.texture)
        if record is None or not record.images:
            text = "none bound" if item.texture == 0 else f"texture {item.texture}"
        else:
            image = record.images[0]
            depth = f" x {image.depth}" if image.depth > 1 else ""
            levels = f", {record.levels} levels" if record.levels > 1 else ""
            name = record.label or f"texture {item.texture}"
            text = (
                f"{name}, {image.width} x {image.height}{depth}"
                f" {_enum(image.internal_format, 'InternalFormat')}{levels}"
            )
        section.rows.append((f"{item.uniform} (unit {item.unit})", text))
    return section


def container_name(frame: OpenGLFrame, name: int) -> str:
    """What the program calls a framebuffer, vertex array, pipeline or query, which contexts do not share."""
    for number, other in reversed(list(enumerate(frame.other_contexts, 2))):
        if name >= other.first_name:
            return f"{name - other.first_name} of context {number}"
    return str(name)


def _target(frame: OpenGLFrame, step: int) -> Section:
    passes = frame.passes
    index = int(passes.of_step[step])
    target = passes.targets[index]
    role = frame.pass_roles[index]
    section = Section("Target", [("pass", passes.names[index]), ("size", f"{target.width} x {target.height}")])
    section.rows.append(("role", f"{role.role.value}: {' '.join(role.evidence)}"))
    if target.framebuffer == 0:
        window = frame.default_framebuffer
        section.rows.append(
            ("window", f"red {window.red} green {window.green} blue {window.blue} alpha {window.alpha} bits")
        )
        section.rows.append(("depth and stencil", f"{window.depth} and {window.stencil} bits"))
        if window.samples:
            section.rows.append(("samples", str(window.samples)))
    else:
        section.rows.append(("framebuffer", container_name(frame, target.framebuffer)))
        for attachment in target.attachments:
            section.rows.append(
                (
                    _enum(attachment.point, "FramebufferAttachment").lower().replace("_", " "),
                    _attached(frame, attachment),
                )
            )
    return section


def _attached(frame: OpenGLFrame, attachment: Attachment) -> str:
    if attachment.kind == "texture":
        texture = frame.objects.texture(attachment.name)
        image = next((i for i in texture.images if i.level == attachment.level), None) if texture else None
        what = f"{_enum(image.internal_format, 'InternalFormat')} {image.width} x {image.height}" if image else ""
        return f"texture {attachment.name} {what}".strip()
    record = next((r for r in frame.objects.renderbuffers if r.name == attachment.name), None)
    what = f"{_enum(record.internal_format, 'InternalFormat')} {record.width} x {record.height}" if record else ""
    return f"renderbuffer {attachment.name} {what}".strip()


def _value(frame: OpenGLFrame, step: int, pattern: str, i: int = 0, j: int = 0) -> int:
    found = frame.history.value(pattern, int(frame.steps.call[step]), i, j)
    return found[0] if found else 0


def pattern_text(frame: OpenGLFrame, step: int, pattern: str, i: int = 0, j: int = 0) -> str:
    """The values of one state key at a step, in words; `not known` where the snapshot had none."""
    found = frame.history.value_in_kinds(pattern, int(frame.steps.call[step]), i, j)
    if found is None:
        return "not known"
    row = PATTERNS[pattern]
    words = [_one(kind, value) for kind, value in zip(row.kinds, found, strict=False)]
    if row.labels:
        return ", ".join(f"{label} {word}" for label, word in zip(row.labels, words, strict=False))
    return ", ".join(words)


def rectangle(frame: OpenGLFrame, step: int, pattern: str) -> tuple[float, float, float, float]:
    """x, y, width and height of the first viewport or scissor at a step; all 0 where it is not known."""
    found = frame.history.value_in_kinds(pattern, int(frame.steps.call[step]))
    if found is None:
        return 0.0, 0.0, 0.0, 0.0
    x, y, width, height = (float(decoded(kind, raw)) for kind, raw in zip(PATTERNS[pattern].kinds, found, strict=False))
    return x, y, width, height


def _one(kind: str, raw: int) -> str:
    import struct

    match kind:
        case "e":
            return _enum(raw)
        case "b":
            return "on" if raw else "off"
        case "f":
            return f"{struct.unpack('<f', struct.pack('<I', raw & 0xFFFFFFFF))[0]:g}"
        case "d":
            return f"{struct.unpack('<d', struct.pack('<Q', raw & (1 << 64) - 1))[0]:g}"
    signed = raw - (1 << 64) if raw >> 63 else raw
    return str(signed)


def _on(frame: OpenGLFrame, step: int, cap: int) -> bool:
    return _value(frame, step, "capability", cap) == 1


def _switch(on: bool) -> str:
    return "on" if on else "off"


def _blend(frame: OpenGLFrame, step: int) -> Section:
    on = _value(frame, step, "blend_enabled") == 1
    section = Section("Blending and colour", [("blending", _switch(on))])
    if on:
        section.rows += [
            ("factors", pattern_text(frame, step, "blend_func")),
            ("equation", pattern_text(frame, step, "blend_equation")),
        ]
    section.rows.append(("written channels", pattern_text(frame, step, "color_mask")))
    return section


def _depth(frame: OpenGLFrame, step: int) -> Section:
    on, stencil = _on(frame, step, GL.DEPTH_TEST), _on(frame, step, GL.STENCIL_TEST)
    section = Section("Depth and stencil", [("depth test", _switch(on))])
    if on:
        section.rows += [
            ("passes when", pattern_text(frame, step, "depth_func")),
            ("depth written", pattern_text(frame, step, "depth_mask")),
        ]
    section.rows.append(("stencil test", _switch(stencil)))
    if stencil:
        section.rows += [
            ("stencil function", pattern_text(frame, step, "stencil_func", GL.FRONT)),
            ("stencil operations", pattern_text(frame, step, "stencil_op", GL.FRONT)),
        ]
    return section


def _raster(frame: OpenGLFrame, step: int) -> Section:
    culling = _on(frame, step, GL.CULL_FACE)
    section = Section("Rasterising", [("viewport", pattern_text(frame, step, "viewport"))])
    scissor = _value(frame, step, "scissor_test_enabled") == 1
    section.rows.append(("scissor", pattern_text(frame, step, "scissor") if scissor else "off"))
    faces = (
        f"{pattern_text(frame, step, 'cull_face_mode')}, front is {pattern_text(frame, step, 'front_face')}"
        if culling
        else "off"
    )
    section.rows += [("faces culled", faces), ("polygons drawn as", pattern_text(frame, step, "polygon_mode"))]
    if _on(frame, step, GL.POLYGON_OFFSET_FILL):
        section.rows.append(("polygon offset", pattern_text(frame, step, "polygon_offset")))
    return section


def setting_text(frame: OpenGLFrame, step: int, key: str) -> str:
    """What a step has of one key that keeps draws apart, in a few words; empty for keys that are no state."""
    match key:
        case "texture":
            return _texture_names(frame, step)
        case "blend":
            if _value(frame, step, "blend_enabled") != 1:
                return "no blending"
            return pattern_text(frame, step, "blend_func")
        case "depth":
            if not _on(frame, step, GL.DEPTH_TEST):
                return "no depth test"
            written = "" if _value(frame, step, "depth_mask") else ", not written"
            return f"depth {pattern_text(frame, step, 'depth_func').lower()}{written}"
        case "raster":
            culled = pattern_text(frame, step, "cull_face_mode").lower() if _on(frame, step, GL.CULL_FACE) else "no"
            return f"{culled} faces culled"
        case "scissor or stencil":
            clipped = _value(frame, step, "scissor_test_enabled") == 1
            return f"clipped to {pattern_text(frame, step, 'scissor')}" if clipped else "not clipped"
        case "viewport":
            x, y, width, height = rectangle(frame, step, "viewport")
            return f"{width:g} x {height:g} at {x:g}, {y:g}"
        case "layout":
            inputs = [row for row in vertex_inputs(frame, step) if row.name]
            return " + ".join(f"{row.name} x {row.size}" for row in inputs) or "no attributes"
    return ""


def _texture_names(frame: OpenGLFrame, step: int) -> str:
    names = []
    for item in texture_inputs(frame, step):
        record = frame.objects.texture(item.texture)
        names.append((record.label if record else "") or f"texture {item.texture}")
    return " + ".join(names) or "no texture"
