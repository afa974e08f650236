"""Renderbuffers that nobody means: found only where nothing reads, mixes with or clears them."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable

import pytest

from tests.synthetic import draw, frame_of, objects
from wendascope.backends.opengl.calls.packed import CallBatch, stream_of
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import AttachmentRecord, FramebufferRecord, RenderbufferRecord
from wendascope.backends.opengl.tables.unread_stores import unread_stores
from wendascope.frame.blobs import BlobStore
from wendascope.registry import GL

Calls = Callable[[CallBatch], object]
STORES = {("renderbuffer", 1)}


def _nothing(_batch: CallBatch) -> None: ...


def _frame(calls: Calls = _nothing, following: bool = True) -> OpenGLFrame:
    """A draw into a framebuffer with a colour and a depth renderbuffer, what is given, and a draw into the window."""
    blobs, batch = BlobStore(), CallBatch()
    made = objects(blobs)
    made.renderbuffers += [
        RenderbufferRecord(1, 64, 64, GL.RGB8, 0, GL.RGB, GL.UNSIGNED_BYTE),
        RenderbufferRecord(2, 64, 64, GL.DEPTH_COMPONENT24, 0, GL.DEPTH_COMPONENT, GL.UNSIGNED_INT),
    ]
    points = ((GL.COLOR_ATTACHMENT0, 1), (GL.DEPTH_ATTACHMENT, 2))
    made.framebuffers.append(FramebufferRecord(1, [AttachmentRecord(p, "renderbuffer", n) for p, n in points]))
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 1)
    batch.call("glClear", GL.DEPTH_BUFFER_BIT)
    draw(batch, 1, 1, 1)
    calls(batch)
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 0)
    draw(batch, 1, 1, 1)
    frame = frame_of(batch, made, blobs)
    return dataclasses.replace(frame, following=stream_of(batch)) if following else frame


def _blended(batch: CallBatch) -> None:
    batch.call("glEnable", GL.BLEND)
    draw(batch, 1, 1, 1)


def test_a_colour_that_only_makes_the_framebuffer_complete_is_found() -> None:
    assert unread_stores(_frame()) == STORES, "and not the depth, which tests read"
    assert unread_stores(_frame(following=False)) == set(), "nobody knows the frame after"


@pytest.mark.parametrize(
    "calls",
    [
        lambda b: b.call("glClear", GL.COLOR_BUFFER_BIT),
        lambda b: _blended(b),
        lambda b: b.call("glReadPixels", 0, 0, 8, 8, GL.RGBA, GL.UNSIGNED_BYTE, b.out(256)),
        lambda b: (
            b.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, 1),
            b.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, 0),
            b.call("glBlitFramebuffer", 0, 0, 8, 8, 0, 0, 8, 8, GL.COLOR_BUFFER_BIT, GL.NEAREST),
        ),
        lambda b: b.call("glGetTextureHandleARB", 1),
    ],
    ids=["cleared", "blended into", "read back", "blitted from", "a frame that is not followed"],
)
def test_what_is_cleared_mixed_with_or_read_is_meant(calls: Calls) -> None:
    assert unread_stores(_frame(calls)) == set()
