"""The part of a pass that is the same in every frame, drawn once: its image is copied in the place of its draws."""

from __future__ import annotations

import msgspec

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.states import is_on
from wendascope.backends.opengl.objects.records import (
    AttachmentRecord,
    FramebufferRecord,
    ImageRecord,
    RenderbufferRecord,
    TextureRecord,
)
from wendascope.backends.opengl.state.offers import Offers
from wendascope.errors import TrialError
from wendascope.frame.passes import Attachment
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL


@lowers("keep-part")
def keep_part(change: FrameChange, item: Remedy) -> None:
    """Before anything is measured the frame is run with no more of the pass than these steps, and what they come to is
    copied aside. In the changed frame it is copied back in the place of the first of them. The steps have to begin
    with one that replaces all that the target held; those that stay come after them. Raises TrialError.
    """
    frame, steps = change.frame, sorted(item.steps)
    (index, *others) = sorted({int(frame.passes.of_step[step]) for step in steps})
    if others or frame.steps.kind_name(steps[0]) != "clear" or steps[0] != int(frame.passes.first[index]):
        raise TrialError("the steps are not the beginning of one pass that clears its target")
    members = range(int(frame.passes.first[index]), int(frame.passes.end[index]))
    first, last = int(frame.steps.begin[steps[0]]), int(frame.steps.call[steps[-1]]) + 1
    target = frame.passes.targets[index]
    keep, put = _of_window(change, first, last) if not target.framebuffer else _of_images(change, index)
    change.prime_without |= set(members) - set(steps)
    change.prime_insertions.append(Insertion(last, keep, closes=True))
    change.insertions.append(Insertion(first, put))
    for step in steps:
        change.leave_out(step)


def _of_images(change: FrameChange, index: int) -> tuple[CallBatch, CallBatch]:
    """(aside, back) for all images of a target."""
    frame = change.frame
    offers = Offers(frame.context)
    if not offers("glCopyImageSubData"):
        raise TrialError("this context copies no images")
    aside, back = CallBatch(offers), CallBatch(offers)
    attached = {(a.kind, a.name, a.level, a.face, a.layer): a for a in frame.passes.targets[index].attachments}
    for attachment in attached.values():
        if attachment.layered:
            raise TrialError("all layers of an image are drawn at once")
        if attachment.kind == "renderbuffer":
            record = next((r for r in frame.objects.renderbuffers if r.name == attachment.name), None)
            if record is None:
                raise TrialError("an image of the target was made in the frame")
            copy = msgspec.structs.replace(record, name=change.new.name(), contents=None)
            change.new.objects.renderbuffers.append(copy)
            place, size = (GL.RENDERBUFFER, 0, 0, 0, 0), (record.width, record.height, 1)
            there = (copy.name, *place)
        else:
            texture = frame.objects.texture(attachment.name)
            image = _image(texture, attachment) if texture else None
            if texture is None or image is None or image.samples:
                raise TrialError("an image of the target was made in the frame, or has several samples")
            face = attachment.face - GL.TEXTURE_CUBE_MAP_POSITIVE_X if attachment.face else attachment.layer
            place, size = (texture.target, attachment.level, 0, 0, face), (image.width, image.height, 1)
            plain = msgspec.structs.replace(image, target=GL.TEXTURE_2D, level=0, depth=1, contents=None)
            # complete without mip levels: nothing else is copied
            parameters = {"TEXTURE_MIN_FILTER": [float(GL.NEAREST)], "TEXTURE_MAX_LEVEL": [0.0]}
            made = TextureRecord(change.new.name(), GL.TEXTURE_2D, [plain], parameters)
            change.new.objects.textures.append(made)
            there = (made.name, GL.TEXTURE_2D, 0, 0, 0, 0)
        change.added_bytes += 4 * size[0] * size[1]
        here = (attachment.name, *place)
        aside.call("glCopyImageSubData", *here, *there, *size)
        back.call("glCopyImageSubData", *there, *here, *size)
    return aside, back


def _image(texture: TextureRecord, attachment: Attachment) -> ImageRecord | None:
    level, face = attachment.level, attachment.face
    return next((i for i in texture.images if i.level == level and (not face or i.target == face)), None)


def _of_window(change: FrameChange, first: int, last: int) -> tuple[CallBatch, CallBatch]:
    """(aside, back) for the window, by way of a framebuffer with its formats."""
    frame = change.frame
    offers, window = Offers(frame.context), frame.default_framebuffer
    if not offers("glBlitFramebuffer") or window.samples:
        raise TrialError("the window cannot be copied: it has several samples, or the context has no such command")
    framebuffer = change.new.name()
    attached = []
    for point, format_ in window.formats:
        store = RenderbufferRecord(change.new.name(), window.width, window.height, format_, 0)
        change.new.objects.renderbuffers.append(store)
        attached.append(AttachmentRecord(point, "renderbuffer", store.name))
    change.new.objects.framebuffers.append(FramebufferRecord(framebuffer, attached))
    change.added_bytes += 4 * window.width * window.height * len(attached)
    mask = GL.COLOR_BUFFER_BIT | (GL.DEPTH_BUFFER_BIT if window.depth else 0)
    mask |= GL.STENCIL_BUFFER_BIT if window.depth and window.stencil else 0
    size = (0, 0, window.width, window.height)
    batches = []
    for call, bound in ((last, GL.DRAW_FRAMEBUFFER), (first, GL.READ_FRAMEBUFFER)):
        batch = CallBatch(offers)
        tested = is_on(frame, call, GL.SCISSOR_TEST)
        if tested:
            batch.call("glDisable", GL.SCISSOR_TEST)
        other = GL.READ_FRAMEBUFFER if bound == GL.DRAW_FRAMEBUFFER else GL.DRAW_FRAMEBUFFER
        batch.call("glBindFramebuffer", bound, framebuffer)
        batch.call("glBindFramebuffer", other, 0)
        batch.call("glBlitFramebuffer", *size, *size, mask, GL.NEAREST)
        for point in (GL.READ_FRAMEBUFFER, GL.DRAW_FRAMEBUFFER):
            batch.call("glBindFramebuffer", point, frame.history.number("framebuffer", call, point))
        if tested:
            batch.call("glEnable", GL.SCISSOR_TEST)
        batches.append(batch)
    return batches[0], batches[1]
