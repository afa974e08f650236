"""The state and contents that a frame has before one of its calls, to be had again without drawing what comes before.

What the steps before have drawn is kept once, in copies on the device. State comes from the calls before, of which
only those are run that draw nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import msgspec
import numpy as np

from wendascope.backends.doors import Prepared, Writes
from wendascope.backends.edit import Edit
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import TextureRecord
from wendascope.backends.opengl.running.session import PreparedCalls, ReplaySession
from wendascope.backends.opengl.tables.written import Written
from wendascope.frame.steps import KINDS
from wendascope.registry import GL, Role

_FACES = range(GL.TEXTURE_CUBE_MAP_POSITIVE_X, GL.TEXTURE_CUBE_MAP_POSITIVE_X + 6)
_ELSEWHERE = ("dispatch",)
"""Kinds of steps whose results are not followed."""


def step_calls(frame: OpenGLFrame, step: int) -> tuple[int, int]:
    """The calls [first, end) that are left out when a step is: it and what comes with it."""
    first = int(frame.steps.begin[step])
    while first and frame.calls.command(first - 1).has(Role.WITH_DRAW):
        first -= 1
    return first, int(frame.steps.call[step]) + 1


@dataclass(frozen=True)
class _Image:
    """One image of a texture or renderbuffer: where it lies for glCopyImageSubData, and its size."""

    kind: str
    name: int
    target: int
    level: int
    z: int
    size: tuple[int, int, int]


class SpanStart:
    """One call of a session's frame at which runs can begin. Made by running the frame up to there."""

    def __init__(self, session: ReplaySession, call: int) -> None:
        self.call = call
        self._session = session
        self._drop = np.zeros(len(session.frame.calls), bool)
        before = np.flatnonzero(session.frame.steps.call < call).tolist()
        for step in before:
            first, end = step_calls(session.frame, step)
            self._drop[first:end] = True
        self._copies: list[tuple[_Image, int]] = []
        """Images with the names of their copies here."""
        self._window = 0
        self.kept = bool(before) and not self._hindrance(before)
        self.bytes = 0
        if self.kept:
            self._keep()

    # ---- what can be kept ----------------------------------------------------------------------------

    def _hindrance(self, before: list[int]) -> str:
        """Why the steps before have to be run each time; empty where they need not be."""
        session, frame = self._session, self._session.frame
        kinds = {KINDS[int(kind)] for kind in frame.steps.kind[before].tolist()}
        written = session.written
        if kinds & set(_ELSEWHERE) or len(frame.calls.calls_of("glBeginTransformFeedback")):
            return "shaders write elsewhere than into targets"
        if self._ever_bound("image", lambda _: True) or self._ever_bound(
            "indexed_buffer", lambda point: point not in (GL.UNIFORM_BUFFER, GL.TRANSFORM_FEEDBACK_BUFFER)
        ):
            return "shaders write images or buffers"
        if not session.offers("glCopyImageSubData") or frame.context.es:
            return "the context copies no images"
        if written.redefined_textures or session.other_windows or len(frame.lists):
            return "textures are redefined, windows change, or lists are called"
        if frame.default_framebuffer.samples or {t.view_of for t in frame.objects.textures} & written.textures:
            return "the window has several samples, or textures are seen through views"
        known = {t.name for t in frame.objects.textures} | {r.name for r in frame.objects.renderbuffers}
        return "" if written.textures | written.renderbuffers <= known else "targets are made in the frame"

    def _ever_bound(self, pattern: str, counts: Callable[[int], bool]) -> bool:
        history, every = self._session.frame.history, np.arange(len(self._session.frame.calls))
        return any(bool(history.column(pattern, every, *key).any()) for key in history.keys(pattern) if counts(key[0]))

    def _images(self) -> Iterator[_Image]:
        written, objects = self._session.written, self._session.frame.objects
        for texture in objects.textures:
            if texture.name in written.textures:
                for image in texture.images:
                    face = image.target - GL.TEXTURE_CUBE_MAP_POSITIVE_X if image.target in _FACES else 0
                    size = (image.width, image.height, image.depth)
                    yield _Image("texture", texture.name, texture.target, image.level, face, size)
        for buffer in objects.renderbuffers:
            if buffer.name in written.renderbuffers:
                yield _Image("renderbuffer", buffer.name, GL.RENDERBUFFER, 0, 0, (buffer.width, buffer.height, 1))

    # ---- keeping ---------------------------------------------------------------------------------------

    def _keep(self) -> None:
        session, objects = self._session, self._session.frame.objects
        images = [image for image in self._images() if min(image.size) > 0]
        names = sorted({image.name for image in images if image.kind == "texture"})
        fresh = dict(zip(names, session.fresh_names("texture", len(names)), strict=True))
        others = sorted({image.name for image in images if image.kind == "renderbuffer"})
        stores = dict(zip(others, session.fresh_names("renderbuffer", len(others)), strict=True))
        session.define_images(
            [_emptied(t, fresh[t.name]) for t in objects.textures if t.name in fresh],
            [msgspec.structs.replace(r, name=stores[r.name]) for r in objects.renderbuffers if r.name in stores],
        )
        self._copies = [
            (image, session.names.get(image.kind, (fresh if image.kind == "texture" else stores)[image.name]))
            for image in images
        ]
        self._window = self._window_copy()
        session.run(session.prepare(Edit(keep_until=self.call)))
        session.run_batch(self._copy(keep=True))
        session.run_batch(self._blit(keep=True))
        session.drain()
        self.bytes = 4 * sum(w * h * d for w, h, d in (image.size for image in images))

    def _window_copy(self) -> int:
        """A framebuffer with the formats of the window."""
        session, window = self._session, self._session.frame.default_framebuffer
        batch = CallBatch(session.offers)
        framebuffer, stores = batch.out(4), batch.out(8)
        batch.call("glGenFramebuffers", 1, framebuffer)
        batch.call("glGenRenderbuffers", 2, stores)
        session.run_batch(batch)
        batch = CallBatch(session.offers)
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, framebuffer.uints()[0])
        for store, (point, format_) in zip(stores.uints(), window.formats, strict=False):
            batch.call("glBindRenderbuffer", GL.RENDERBUFFER, store)
            batch.call("glRenderbufferStorage", GL.RENDERBUFFER, format_, window.width, window.height)
            batch.call("glFramebufferRenderbuffer", GL.FRAMEBUFFER, point, GL.RENDERBUFFER, store)
        session.run_batch(batch)
        return framebuffer.uints()[0]

    def _copy(self, keep: bool, only: Written | None = None) -> CallBatch:
        """Copies of all images (or of those that only this writes), there or back. They leave no state behind."""
        session = self._session
        batch = CallBatch(session.offers)
        for image, copy in self._copies:
            if only and image.name not in (only.textures if image.kind == "texture" else only.renderbuffers):
                continue
            ends = [session.names.get(image.kind, image.name), copy]
            if not keep:
                ends.reverse()
            place = (image.target, image.level, 0, 0, image.z)
            batch.call("glCopyImageSubData", ends[0], *place, ends[1], *place, *image.size)
        return batch

    def _blit(self, keep: bool) -> CallBatch:
        """The window, there or back. State is other afterwards."""
        window = self._session.frame.default_framebuffer
        batch = CallBatch(self._session.offers)
        for capability in (GL.SCISSOR_TEST, GL.FRAMEBUFFER_SRGB, GL.RASTERIZER_DISCARD):
            if self._session.offers.value(capability):
                batch.call("glDisable", capability)
        ends = (0, self._window) if keep else (self._window, 0)
        batch.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, ends[0])
        batch.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, ends[1])
        back = GL.FRONT if self._session.single else GL.BACK
        batch.call("glReadBuffer", back if keep else GL.COLOR_ATTACHMENT0)
        batch.call("glDrawBuffer", GL.COLOR_ATTACHMENT0 if keep else back)
        size = (0, 0, window.width, window.height)
        masks = [GL.COLOR_BUFFER_BIT]
        if window.depth:
            masks.append(GL.DEPTH_BUFFER_BIT | (GL.STENCIL_BUFFER_BIT if window.stencil else 0))
        for mask in masks:
            batch.call("glBlitFramebuffer", *size, *size, mask, GL.NEAREST)
        return batch

    # ---- beginning there ---------------------------------------------------------------------------------

    def approach(self, edit: Edit) -> PreparedCalls:
        """The calls before, as an edit has them, that have to run ahead of each run of the span."""
        drop = self._drop if self.kept else np.zeros(len(self._drop), bool)
        if edit.drop is not None:
            drop = drop | edit.drop
        ahead = [i for i in edit.insertions if i.before < self.call or (i.before == self.call and i.closes)]
        return self._session.prepare(Edit(ahead, drop, self.call))

    def enter(self, approach: Prepared, only: Writes | None = None) -> None:
        """Be where the frame is before the call; `only` names what else was written since the last time, where that
        is known. Raises ReplayError.
        """
        session = self._session
        assert only is None or isinstance(only, Written)
        if not self.kept:
            session.run(approach)
        else:
            session.restore(self._blit(keep=False), images=False)
            session.run_part(approach, 0, len(approach))
            session.run_batch(self._copy(keep=False, only=only))
        session.drain()

    def close(self) -> None:
        """Give the copies back."""
        names: dict[str, list[int]] = {"texture": [], "renderbuffer": []}
        for image, copy in self._copies:
            if copy not in names[image.kind]:
                names[image.kind].append(copy)
        batch = CallBatch(self._session.offers)
        for kind, command in (("texture", "glDeleteTextures"), ("renderbuffer", "glDeleteRenderbuffers")):
            if names[kind]:
                batch.call(command, len(names[kind]), np.array(names[kind], np.uint32).tobytes())
        self._session.run_batch(batch)
        self._copies, self.kept = [], False


def _emptied(texture: TextureRecord, name: int) -> TextureRecord:
    images = [msgspec.structs.replace(image, contents=None) for image in texture.images]
    return msgspec.structs.replace(texture, name=name, images=images)
