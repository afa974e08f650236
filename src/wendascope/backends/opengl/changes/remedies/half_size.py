"""Full-screen steps drawn into a target of half or a quarter of the width and height, and scaled up where they were."""

from __future__ import annotations

import struct

import msgspec

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.states import (
    active_texture,
    bind_texture,
    first_colour,
    integers,
    is_on,
    samples,
    viewport,
)
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.formats import named_types
from wendascope.backends.opengl.objects.records import (
    AttributeRecord,
    FramebufferRecord,
    ImageRecord,
    ProgramRecord,
    ShaderRecord,
    TextureRecord,
    VertexArrayRecord,
)
from wendascope.backends.opengl.objects.subroutines import chooses_subroutines
from wendascope.backends.opengl.state.offers import Offers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.glsl.words import replace_words, tokens
from wendascope.registry import GL

_COVERS_ALL = struct.pack("<6f", -1, -1, 3, -1, -1, 3)
_NOT_WITH = (GL.STENCIL_TEST, GL.SCISSOR_TEST, GL.COLOR_LOGIC_OP, GL.FRAMEBUFFER_SRGB)
_NAMES = {GL.STENCIL_TEST: "stencil", GL.SCISSOR_TEST: "scissor"}


@lowers("half-size")
def half_size(change: FrameChange, item: Remedy) -> None:
    """The small target has the place of the step; what it holds is blended, masked, tested by depth and written as the
    step was, at the one depth that the remedy tells.
    """
    if not Offers(change.frame.context)("glBindVertexArray") or not Offers(change.frame.context)("glBindFramebuffer"):
        raise TrialError("this context has no vertex array or framebuffer objects, which scaling up needs")
    depth = float(item.values.get("depth", 0.5))
    scaler = _scaler(change, 2 * depth - 1)
    array = _triangle(change)
    for step in item.steps:
        if is_on(change.frame, int(change.frame.steps.call[step]), GL.DEPTH_TEST) and "depth" not in item.values:
            raise TrialError(f"step {step} is tested by depth, and does not lie at one depth")
        _draw_small(change, step, item.divide, scaler, array)
    for program in sorted({int(change.frame.steps.program[s]) for s in item.steps}):
        _scale_positions(change, program, item)


def _draw_small(change: FrameChange, step: int, divide: int, scaler: int, array: int) -> None:
    frame, call = change.frame, int(change.frame.steps.call[step])
    _check(frame, step)
    x, y, width, height = viewport(frame, call)
    small = _target(change, step, max(width // divide, 1), max(height // divide, 1))
    new = CallBatch()
    framebuffer = change.new.name()
    change.new.objects.framebuffers.append(FramebufferRecord(framebuffer))
    new.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, framebuffer)
    new.call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, small.name, 0)
    new.call("glViewport", 0, 0, small.width, small.height)
    blended, culled, tested = (is_on(frame, call, which) for which in (GL.BLEND, GL.CULL_FACE, GL.DEPTH_TEST))
    if tested:
        new.call("glDisable", GL.DEPTH_TEST)
    if blended:
        new.call("glDisable", GL.BLEND)
    mask = integers(frame, "color_mask", call)
    new.call("glColorMask", 1, 1, 1, 1)
    program = frame.objects.program(int(frame.steps.program[step]))
    if program is not None and chooses_subroutines(program):
        raise TrialError("the program has subroutines, which would have to be chosen again after it")
    after = CallBatch()
    after.call(
        "glBindFramebuffer", GL.DRAW_FRAMEBUFFER, frame.passes.targets[int(frame.passes.of_step[step])].framebuffer
    )
    after.call("glViewport", x, y, width, height)
    after.call("glColorMask", *mask)
    if blended:
        after.call("glEnable", GL.BLEND)
    if tested:
        after.call("glEnable", GL.DEPTH_TEST)
    if culled:
        after.call("glDisable", GL.CULL_FACE)
    sampler = frame.history.number("sampler", call, 0)
    if sampler:
        after.call("glBindSampler", 0, 0)
    after.call("glUseProgram", scaler)
    after.call("glBindVertexArray", array)
    bind_texture(after, 0, GL.TEXTURE_2D, small.name)
    after.call("glDrawArrays", GL.TRIANGLES, 0, 3)
    # as the step left it
    bind_texture(after, 0, GL.TEXTURE_2D, frame.history.number("texture", call, GL.TEXTURE0, GL.TEXTURE_2D))
    after.call("glActiveTexture", active_texture(frame, call))
    if sampler:
        after.call("glBindSampler", 0, sampler)
    after.call("glBindVertexArray", integers(frame, "vertex_array", call)[0])
    after.call("glUseProgram", int(frame.steps.program[step]))
    if culled:
        after.call("glEnable", GL.CULL_FACE)
    change.enclose(step, new, after)


def _check(frame: OpenGLFrame, step: int) -> None:
    """Raises TrialError where a step cannot be drawn small and scaled up."""
    call = int(frame.steps.call[step])
    for capability in _NOT_WITH:
        if is_on(frame, call, capability) and (capability != GL.FRAMEBUFFER_SRGB or _srgb(frame, step)):
            test = _NAMES.get(capability)
            raise TrialError(
                f"step {step} is tested by {test}, which a small target does not have"
                if test
                else f"step {step} writes its colours in another way than blending"
            )
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    colours = [a for a in target.attachments if GL.COLOR_ATTACHMENT0 <= a.point <= GL.COLOR_ATTACHMENT0 + 15]
    if len(colours) > 1:
        raise TrialError(f"step {step} draws into several colours at once")
    if samples(frame, step):
        raise TrialError(f"step {step} draws into a multisampled target")
    record = frame.objects.program(int(frame.steps.program[step]))
    shaders = compiled_program(record, frame.context.dialect).shaders if record else []
    words = {t.text for s in shaders if s.type == GL.FRAGMENT_SHADER for t in tokens(s.source)}
    if "discard" in words:
        raise TrialError(f"the shader of step {step} discards fragments, whose edges would not scale")


def _srgb(frame: OpenGLFrame, step: int) -> bool:
    """Whether the first colour of the target is stored that way; elsewhere the switch does nothing."""
    record = first_colour(frame, step)
    if record is None:
        return not frame.passes.targets[int(frame.passes.of_step[step])].framebuffer and frame.default_framebuffer.srgb
    return record.images[0].internal_format in (GL.SRGB8, GL.SRGB8_ALPHA8)


def _target(change: FrameChange, step: int, width: int, height: int) -> TextureRecord:
    frame = change.frame
    internal, type_ = GL.RGBA8, GL.UNSIGNED_BYTE
    record = first_colour(frame, step)
    if record is not None:
        kind, _ = named_types(record.images[0].internal_format)
        if kind in (GL.INT, GL.UNSIGNED_INT):
            raise TrialError(f"step {step} writes whole numbers, which are not scaled up")
        if kind == GL.FLOAT:
            internal, type_ = GL.RGBA16F, GL.HALF_FLOAT
    image = ImageRecord(GL.TEXTURE_2D, 0, width, height, 1, internal, GL.RGBA, type_)
    linear, edge = [float(GL.LINEAR)], [float(GL.CLAMP_TO_EDGE)]
    parameters = {
        "TEXTURE_MIN_FILTER": linear,
        "TEXTURE_MAG_FILTER": linear,
        "TEXTURE_WRAP_S": edge,
        "TEXTURE_WRAP_T": edge,
    }
    made = TextureRecord(change.new.name(), GL.TEXTURE_2D, [image], parameters)
    change.new.objects.textures.append(made)
    change.added_bytes += width * height * (8 if internal == GL.RGBA16F else 4)
    change.added_steps += 1
    return made


def _triangle(change: FrameChange) -> int:
    """A vertex array with one triangle that covers everything."""
    buffer, _ = change.new.buffer(_COVERS_ALL)
    attribute = AttributeRecord(0, True, 2, GL.FLOAT, False, False, False, 8, 0, 0, buffer)
    record = VertexArrayRecord(change.new.name(), [attribute])
    change.new.objects.vertex_arrays.append(record)
    return record.name


def _scaler(change: FrameChange, z: float) -> int:
    """The program that lays the small picture over the large one, at a depth from -1 to 1."""
    context = change.frame.context
    modern = context.number >= (30 if context.es else 31)
    head = (
        ("#version 300 es\nprecision highp float;\n" if context.es else "#version 140\n")
        if modern
        else ("precision mediump float;\n" if context.es else "#version 110\n")
    )
    attribute, out, into = ("in", "out", "in") if modern else ("attribute", "varying", "varying")
    vertex = (
        f"{head}{attribute} vec2 place;\n{out} vec2 at;\nvoid main() {{ at = place * 0.5 + 0.5; gl_Position ="
        f" vec4(place, {z!r}, 1.0); }}\n"
    )
    write = (
        ("out vec4 colour;\n", "colour = texture(small, at);")
        if modern
        else ("", "gl_FragColor = texture2D(small, at);")
    )
    fragment = f"{head}uniform sampler2D small;\n{into} vec2 at;\n{write[0]}void main() {{ {write[1]} }}\n"
    shaders = [ShaderRecord(GL.VERTEX_SHADER, vertex), ShaderRecord(GL.FRAGMENT_SHADER, fragment)]
    made = ProgramRecord(change.new.name(), shaders, linked=True, attributes={"place": 0})
    change.new.objects.programs.append(made)
    return made.name


def _scale_positions(change: FrameChange, program: int, item: Remedy) -> None:
    """`gl_FragCoord` counts in pixels of the large target. Raises TrialError where other steps use the program too."""
    record = change.program(program)
    scaled = f"(gl_FragCoord * vec4({item.divide}.0, {item.divide}.0, 1.0, 1.0))"
    changed = [
        replace_words(s.source, {"gl_FragCoord": scaled}) if s.type == GL.FRAGMENT_SHADER else s.source
        for s in record.shaders
    ]
    if changed == [s.source for s in record.shaders]:
        return
    steps = change.frame.steps
    if any(int(steps.program[s]) == program and s not in item.steps for s in range(len(steps))):
        raise TrialError("its shader reads gl_FragCoord and is used by other steps too")
    shaders = [msgspec.structs.replace(s, source=text) for s, text in zip(record.shaders, changed, strict=True)]
    change.replace_program(program, msgspec.structs.replace(record, shaders=shaders))
