"""A view drawn at half the width and height, and scaled up into its image when it is finished."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.states import first_colour, is_on, samples, scissor, viewport
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.formats import named_types
from wendascope.backends.opengl.objects.records import FramebufferRecord, ImageRecord, TextureRecord
from wendascope.backends.opengl.state.offers import Offers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.frame.uses import Primitive
from wendascope.glsl.words import words_of
from wendascope.registry import GL


@lowers("smaller-view")
def smaller_view(change: FrameChange, item: Remedy) -> None:
    """Every draw of the view has a viewport of a part of its size, in the corner of the same image; after the last one
    the part is copied aside and scaled over the whole. So all that reads the image finds it as before, but coarser.
    """
    frame = change.frame
    steps = sorted(item.steps)
    image = _check(frame, steps)
    for step in steps:
        call = int(frame.steps.call[step])
        before, after = CallBatch(), CallBatch()
        if frame.steps.kind_name(step) == "draw":
            x, y, width, height = viewport(frame, call)
            before.call("glViewport", *_part((x, y, width, height), item.divide))
            after.call("glViewport", x, y, width, height)
        if is_on(frame, call, GL.SCISSOR_TEST):
            x, y, width, height = scissor(frame, call)
            before.call("glScissor", *_part((x, y, width, height), item.divide))
            after.call("glScissor", x, y, width, height)
        if step == steps[-1]:
            _scale_up(change, step, image, item.divide, after)
        if before.starts or after.starts:
            change.enclose(step, before, after)


def _part(place: tuple[int, int, int, int], divide: int) -> tuple[int, int, int, int]:
    x, y, width, height = place
    return x // divide, y // divide, max(width // divide, 1), max(height // divide, 1)


def _check(frame: OpenGLFrame, steps: list[int]) -> ImageRecord:
    """The image of the view. Raises TrialError where it cannot be drawn small and scaled up."""
    if not steps or not Offers(frame.context)("glBlitFramebuffer"):
        raise TrialError("this context cannot scale one framebuffer into another")
    targets = [frame.passes.targets[index] for index in sorted({int(frame.passes.of_step[step]) for step in steps})]
    target = targets[0]
    colours = [a for a in target.attachments if a.is_colour]
    if len({t.framebuffer for t in targets}) > 1 or not target.framebuffer or len(colours) != 1:
        raise TrialError("the view is not drawn into one framebuffer with one colour")
    record = first_colour(frame, steps[0])
    if record is None or colours[0].level or samples(frame, steps[0]):
        raise TrialError("the view is not drawn into a plain texture of one sample")
    if named_types(record.images[0].internal_format)[0] in (GL.INT, GL.UNSIGNED_INT):
        raise TrialError("the view holds whole numbers, which are not scaled up")
    for step in steps:
        if frame.steps.kind_name(step) not in ("draw", "clear"):
            raise TrialError(f"step {step} neither draws nor clears")
        if frame.steps.kind_name(step) == "draw" and int(frame.uses.primitive[step]) != Primitive.TRIANGLES:
            raise TrialError(f"step {step} draws points or lines, whose width is counted in pixels")
    for program in {int(frame.steps.program[step]) for step in steps}:
        found = frame.objects.program(program)
        sources = compiled_program(found, frame.context.dialect).shaders if found else []
        if any("gl_FragCoord" in words_of(s.source) for s in sources):
            raise TrialError(f"the shader of program {program} reads gl_FragCoord")
    return record.images[0]


def _scale_up(change: FrameChange, step: int, image: ImageRecord, divide: int, batch: CallBatch) -> None:
    """From the corner of the view's image over all of it, by way of another one."""
    frame, call = change.frame, int(change.frame.steps.call[step])
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    _, _, width, height = _part((0, 0, target.width, target.height), divide)
    copy = ImageRecord(GL.TEXTURE_2D, 0, width, height, 1, image.internal_format, image.format, image.type)
    texture = TextureRecord(change.new.name(), GL.TEXTURE_2D, [copy])
    change.new.objects.textures.append(texture)
    framebuffer = change.new.name()
    change.new.objects.framebuffers.append(FramebufferRecord(framebuffer))
    change.added_bytes += 4 * width * height
    tested = is_on(frame, call, GL.SCISSOR_TEST)
    if tested:
        batch.call("glDisable", GL.SCISSOR_TEST)
    batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, framebuffer)
    batch.call("glFramebufferTexture2D", GL.DRAW_FRAMEBUFFER, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, texture.name, 0)
    part = (0, 0, width, height)
    batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, target.framebuffer)
    batch.call("glBlitFramebuffer", *part, *part, GL.COLOR_BUFFER_BIT, GL.NEAREST)
    batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, framebuffer)
    batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, target.framebuffer)
    batch.call("glBlitFramebuffer", *part, 0, 0, target.width, target.height, GL.COLOR_BUFFER_BIT, GL.LINEAR)
    for bound in (GL.READ_FRAMEBUFFER, GL.DRAW_FRAMEBUFFER):
        batch.call("glBindFramebuffer", bound, frame.history.number("framebuffer", call, bound))
    if tested:
        batch.call("glEnable", GL.SCISSOR_TEST)
