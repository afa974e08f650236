"""Counting in a stencil buffer that the program itself uses: its test is worked out beforehand, then it is put back."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.instruments.own_draw import OwnDraw
from wendascope.backends.opengl.instruments.target_reader import TargetReader
from wendascope.backends.opengl.running.draw_state import DrawState, StencilFace
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.slots import Slot
from wendascope.registry import GL

_FRAGMENT = "out vec4 colour;\nvoid main() { colour = vec4(0.0); }\n"
_BOTH = GL.DEPTH_BUFFER_BIT | GL.STENCIL_BUFFER_BIT
_REF_PASSES = (GL.EQUAL, GL.LEQUAL, GL.GEQUAL, GL.ALWAYS)
"""Functions that a stencil value equal to the reference passes."""


def _can_change_itself(face: StencilFace) -> bool:
    """Whether fragments of one step can change the test of later ones of the same step."""
    if face.func in (GL.ALWAYS, GL.NEVER):
        return False
    kept = (face.passes == GL.KEEP) and (face.depth_fail == GL.KEEP) and (face.fail == GL.KEEP)
    return not kept and bool(face.write_mask & face.value_mask & 0xFF)


_MASK_DRAW: Slot[OwnDraw] = Slot("mask draw")


class StencilCopy:
    """Depth and stencil of a target, kept while they serve to count."""

    def __init__(self, session: ReplaySession, reader: TargetReader, state: DrawState) -> None:
        self._session, self._reader, self._state = session, reader, state

    def save(self) -> None:
        """Keep depth and stencil as they are."""
        self._copy = self._reader.depth_stencil_copy()
        self._blit(self._state.value("DRAW_FRAMEBUFFER_BINDING"), self._copy, True)

    def restore(self, depth: bool = True) -> None:
        """Put them back; without `depth`, stencil alone."""
        self._blit(self._copy, self._state.value("DRAW_FRAMEBUFFER_BINDING"), depth)

    def _blit(self, source: int, destination: int, depth: bool) -> None:
        state, batch = self._state, CallBatch(self._session.offers)
        call = batch.call
        size = (0, 0, *self._reader.size)
        has_depth = self._reader.own_depth or self._reader.window
        call("glDisable", GL.SCISSOR_TEST)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, source)
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, destination)
        call("glBlitFramebuffer", *size, *size, _BOTH if depth and has_depth else GL.STENCIL_BUFFER_BIT, GL.NEAREST)
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, state.value("READ_FRAMEBUFFER_BINDING"))
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, state.value("DRAW_FRAMEBUFFER_BINDING"))
        if state.on("SCISSOR_TEST"):
            call("glEnable", GL.SCISSOR_TEST)
        self._session.run_batch(batch)


class StencilMask(StencilCopy):
    """For one step: `save`, `mark`, count, `restore`. `refused` says why it cannot be done."""

    def __init__(self, session: ReplaySession, reader: TargetReader, state: DrawState) -> None:
        super().__init__(session, reader, state)
        front, back = state.stencil(False), state.stencil(True)
        culled = state.value("CULL_FACE_MODE") if state.on("CULL_FACE") else 0
        faces = [f for f, hidden in ((front, GL.FRONT), (back, GL.BACK)) if culled not in (hidden, GL.FRONT_AND_BACK)]
        self.refused = ""
        tests = {(f.func, f.ref, f.value_mask) for f in faces if f.func != GL.ALWAYS} | (
            {(GL.ALWAYS, 0, 0)} if any(f.func == GL.ALWAYS for f in faces) else set()
        )
        if len(tests) > 1:
            self.refused = "steps whose stencil test differs between front and back faces are not counted"
        elif not OwnDraw.offered(session) or not session.offers("glBlitFramebuffer"):
            self.refused = "steps that use the stencil test are not counted in contexts before OpenGL 3"
        elif reader.layers > 1:
            self.refused = "steps that use the stencil test on layered targets are not counted"
        self._face = faces[0] if faces else front
        self.changes_itself = any(_can_change_itself(f) for f in faces)

    def mark(self) -> None:
        """Stencil becomes 0 where the step's test passes and 255 where it fails.

        A first draw sets one of the two classes to the reference value, which no pixel of the other class has; two or
        three more bring both to what is wanted.
        """
        session, state = self._session, self._state
        draw = session.slots.get(_MASK_DRAW, lambda: OwnDraw(session, _FRAGMENT))
        batch = CallBatch(session.offers)
        call = batch.call
        masked = any(state.values("COLOR_WRITEMASK"))
        draw.begin(batch, state, (0, 0, *self._reader.size))
        if masked:
            call("glColorMask", 0, 0, 0, 0)
        call("glEnable", GL.STENCIL_TEST)
        call("glStencilMask", 0xFF)
        face = self._face
        ref, mask = face.ref & 0xFF, face.value_mask & 0xFF
        # a value equal to the reference passes these functions, so what fails has other values (and the reverse)
        ref_is_pass = face.func in _REF_PASSES
        call("glStencilFunc", face.func, ref, mask)
        call("glStencilOp", *((GL.KEEP, GL.KEEP, GL.REPLACE) if ref_is_pass else (GL.REPLACE, GL.KEEP, GL.KEEP)))
        draw.draw(batch)
        if ref == 0:  # the class at the reference becomes 255, the other 0
            call("glStencilFunc", GL.EQUAL, 0, 0xFF)
            call("glStencilOp", GL.ZERO, GL.KEEP, GL.INVERT)
            draw.draw(batch)
            ref_class_is_255 = True
        else:  # the other class becomes 0, then 255, and the class at the reference 0
            call("glStencilFunc", GL.EQUAL, ref, 0xFF)
            call("glStencilOp", GL.ZERO, GL.KEEP, GL.KEEP)
            draw.draw(batch)
            call("glStencilFunc", GL.EQUAL, 0, 0xFF)
            call("glStencilOp", GL.ZERO, GL.KEEP, GL.INVERT)
            draw.draw(batch)
            ref_class_is_255 = False
        if ref_is_pass == ref_class_is_255:
            call("glStencilFunc", GL.ALWAYS, 0, 0xFF)
            call("glStencilOp", GL.KEEP, GL.KEEP, GL.INVERT)
            draw.draw(batch)
        if masked:
            call("glColorMask", *state.values("COLOR_WRITEMASK"))
        draw.end(batch, state)
        session.run_batch(batch)
