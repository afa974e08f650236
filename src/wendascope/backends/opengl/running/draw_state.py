"""The state that decides what becomes of a step's fragments, asked of the context itself.

The state tracker knows it from the calls; asking also holds for display lists and pushed attributes.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, Out
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.registry import GL, Role

_FLAGS = (
    "STENCIL_TEST", "DEPTH_TEST", "SCISSOR_TEST", "CULL_FACE", "RASTERIZER_DISCARD", "COLOR_LOGIC_OP", "ALPHA_TEST",
    "SAMPLE_ALPHA_TO_COVERAGE", "DEPTH_CLAMP", "MULTISAMPLE",
)  # fmt: skip
_VALUES = {
    "STENCIL_FUNC": 1,
    "STENCIL_REF": 1,
    "STENCIL_VALUE_MASK": 1,
    "STENCIL_FAIL": 1,
    "STENCIL_PASS_DEPTH_FAIL": 1,
    "STENCIL_PASS_DEPTH_PASS": 1,
    "STENCIL_WRITEMASK": 1,
    "STENCIL_BACK_FUNC": 1,
    "STENCIL_BACK_REF": 1,
    "STENCIL_BACK_VALUE_MASK": 1,
    "STENCIL_BACK_FAIL": 1,
    "STENCIL_BACK_PASS_DEPTH_FAIL": 1,
    "STENCIL_BACK_PASS_DEPTH_PASS": 1,
    "STENCIL_BACK_WRITEMASK": 1,
    "DEPTH_FUNC": 1,
    "DEPTH_WRITEMASK": 1,
    "SCISSOR_BOX": 4,
    "CULL_FACE_MODE": 1,
    "FRONT_FACE": 1,
    "COLOR_WRITEMASK": 4,
    "BLEND_SRC_RGB": 1,
    "BLEND_DST_RGB": 1,
    "BLEND_SRC_ALPHA": 1,
    "BLEND_DST_ALPHA": 1,
    "BLEND_EQUATION_RGB": 1,
    "BLEND_EQUATION_ALPHA": 1,
    "DRAW_FRAMEBUFFER_BINDING": 1,
    "READ_FRAMEBUFFER_BINDING": 1,
    "CURRENT_PROGRAM": 1,
    "DRAW_BUFFER0": 1,
    "VIEWPORT": 4,
    "CLIP_ORIGIN": 1,
    "CLIP_DEPTH_MODE": 1,
    "POLYGON_MODE": 2,
    "SAMPLES": 1,
    "PIXEL_PACK_BUFFER_BINDING": 1,
    "PACK_ALIGNMENT": 1,
    "PACK_ROW_LENGTH": 1,
    "PACK_SKIP_ROWS": 1,
    "PACK_SKIP_PIXELS": 1,
    "PACK_SWAP_BYTES": 1,
    "READ_BUFFER": 1,
    "VERTEX_ARRAY_BINDING": 1,
    "ARRAY_BUFFER_BINDING": 1,
    "ACTIVE_TEXTURE": 1,
    "TEXTURE_BINDING_2D_MULTISAMPLE": 1,
    "TEXTURE_BINDING_2D_ARRAY": 1,
    "RENDERBUFFER_BINDING": 1,
}
_DEFAULTS = {
    "DRAW_BUFFER0": (GL.BACK,), "CLIP_ORIGIN": (GL.LOWER_LEFT,), "CLIP_DEPTH_MODE": (GL.NEGATIVE_ONE_TO_ONE,),
    "POLYGON_MODE": (GL.FILL, GL.FILL), "PACK_ALIGNMENT": (4,),
}  # fmt: skip
"""What holds where a context does not have the question."""
_BLENDED_BUFFERS = 8


@dataclass(frozen=True)
class StencilFace:
    """The stencil state of one face, in the order of glStencilFunc and glStencilOp."""

    func: int
    ref: int
    value_mask: int
    fail: int
    depth_fail: int
    passes: int
    write_mask: int


class DrawState:
    """State as one step finds it; GL names without their prefix, in lower case."""

    def __init__(
        self,
        flags: dict[str, bool],
        values: dict[str, tuple[int, ...]],
        depth_range: tuple[float, ...],
        blended: tuple[bool, ...],
    ) -> None:
        self._flags = flags
        self._values = values
        self.depth_range = depth_range
        self._blended = blended

    # ---- what `doors.DrawState` says of it ---------------------------------------------------------------

    @property
    def depth_test(self) -> bool:
        return self.on("DEPTH_TEST")

    @property
    def depth_write(self) -> bool:
        return bool(self.value("DEPTH_WRITEMASK"))

    @property
    def depth_func(self) -> int:
        return self.value("DEPTH_FUNC")

    @property
    def stencil_test(self) -> bool:
        return self.on("STENCIL_TEST")

    @property
    def late_tests(self) -> bool:
        return self.on("ALPHA_TEST") or self.on("SAMPLE_ALPHA_TO_COVERAGE")

    @property
    def rasterises(self) -> bool:
        return not self.on("RASTERIZER_DISCARD")

    @property
    def filled(self) -> bool:
        return self.value("POLYGON_MODE") == GL.FILL

    @property
    def viewport(self) -> tuple[int, int, int, int]:
        return self._box("VIEWPORT")

    @property
    def scissor(self) -> tuple[int, int, int, int] | None:
        return self._box("SCISSOR_BOX") if self.on("SCISSOR_TEST") else None

    def _box(self, name: str) -> tuple[int, int, int, int]:
        x, y, width, height = self._values[name]
        return x, y, width, height

    @property
    def culls(self) -> tuple[bool, bool]:
        side = self.value("CULL_FACE_MODE") if self.on("CULL_FACE") else 0
        return side in (GL.FRONT, GL.FRONT_AND_BACK), side in (GL.BACK, GL.FRONT_AND_BACK)

    @property
    def front_clockwise(self) -> bool:
        return self.value("FRONT_FACE") == GL.CW

    @property
    def upper_left(self) -> bool:
        return self.value("CLIP_ORIGIN") == GL.UPPER_LEFT

    @property
    def zero_to_one(self) -> bool:
        return self.value("CLIP_DEPTH_MODE") == GL.ZERO_TO_ONE

    @property
    def depth_clamp(self) -> bool:
        return self.on("DEPTH_CLAMP")

    # ---- by names of OpenGL --------------------------------------------------------------------------------

    def on(self, capability: str) -> bool:
        return self._flags[capability]

    def value(self, name: str) -> int:
        return self._values[name][0]

    def values(self, name: str) -> tuple[int, ...]:
        return self._values[name]

    def stencil(self, back: bool) -> StencilFace:
        side = "STENCIL_BACK_" if back else "STENCIL_"
        names = ("FUNC", "REF", "VALUE_MASK", "FAIL", "PASS_DEPTH_FAIL", "PASS_DEPTH_PASS", "WRITEMASK")
        return StencilFace(*(self._values[side + name][0] for name in names))

    @property
    def blends(self) -> bool:
        return self._blended[0]

    @property
    def writes_colour(self) -> bool:
        return any(self._values["COLOR_WRITEMASK"]) and self._values["DRAW_BUFFER0"][0] != GL.NONE

    @property
    def opaque(self) -> bool:
        """Whether a fragment replaces what was there: no blending, no logic operation, no masked channel."""
        if not all(self._values["COLOR_WRITEMASK"][:3]) or self.on("COLOR_LOGIC_OP"):
            return False
        if not any(self._blended):
            return True
        add = {self.value("BLEND_EQUATION_RGB"), self.value("BLEND_EQUATION_ALPHA")} == {GL.FUNC_ADD}
        factors = (
            self.value("BLEND_SRC_RGB"),
            self.value("BLEND_DST_RGB"),
            self.value("BLEND_SRC_ALPHA"),
            self.value("BLEND_DST_ALPHA"),
        )
        return add and factors == (GL.ONE, GL.ZERO, GL.ONE, GL.ZERO)


_LEAVES_STATE = Role.DRAW | Role.SETS_UNIFORM | Role.VERTEX | Role.PLAIN_VERTEX | Role.OF_VERTEX


def may_change(calls: CallStream) -> npt.NDArray[np.bool_]:
    """Calls that may change what `DrawState` tells, shape (n,): all but those that draw or give data to draws."""
    leaving = calls.having(_LEAVES_STATE)
    leaving[calls.calls_of("glBegin", "wendaClientArray")] = True
    leaving[calls.calls_of("glCallList", "glCallLists")] = False
    return ~leaving


_OF_STENCIL = re.compile(
    r"Stencil|Framebuffer|Renderbuffer|glDrawBuffer|gl(Push|Pop)(Client)?Attrib|glCallLists?$|wendaDrawable"
)


def may_change_stencil(calls: CallStream) -> npt.NDArray[np.bool_]:
    """Calls that may change how stencil counts, or where, shape (n,)."""
    changing = np.zeros(len(calls), bool)
    for command, rows in calls.by_command():
        if _OF_STENCIL.search(command.name):
            changing[rows] = True
        elif re.match(r"gl(Enable|Disable)(i|Indexed\w*)?$", command.canonical):
            changing[rows] = calls.column(rows, command.parameters[0].slot) == GL.STENCIL_TEST
    return changing


class StateReader:
    """Asks the context of a session for its draw state; the question is packed once, and what is answered alike is one
    state.
    """

    def __init__(self, session: ReplaySession) -> None:
        offers = session.offers
        self._batch = CallBatch(offers)
        self._flags = {
            name: self._batch.call("glIsEnabled", getattr(GL, name)) for name in _FLAGS if offers("GL_" + name)
        }
        if offers("glIsEnabledi"):
            self._blended = [self._batch.call("glIsEnabledi", GL.BLEND, i) for i in range(_BLENDED_BUFFERS)]
        else:
            self._blended = [self._batch.call("glIsEnabled", GL.BLEND)]
        self._values = {
            name: self._ask("glGetIntegerv", name, count) for name, count in _VALUES.items() if offers("GL_" + name)
        }
        self._depth_range = self._ask("glGetFloatv", "DEPTH_RANGE", 2)
        self._packed = session.packed(self._batch)
        self._known: dict[bytes, DrawState] = {}

    def _ask(self, command: str, name: str, count: int) -> Out:
        out = self._batch.out(4 * count)
        self._batch.call(command, getattr(GL, name), out)
        return out

    def read(self) -> DrawState:
        self._packed.run()
        answer = self._packed.answer
        if answer not in self._known:
            self._packed.finish()
            self._known[answer] = self._state()
        return self._known[answer]

    def _state(self) -> DrawState:
        flags = dict.fromkeys(_FLAGS, False) | {name: bool(result.value) for name, result in self._flags.items()}
        values = {name: _DEFAULTS.get(name, (0,) * count) for name, count in _VALUES.items()}
        values |= {name: tuple(out.ints()) for name, out in self._values.items()}
        if "READ_FRAMEBUFFER_BINDING" not in self._values:
            values["READ_FRAMEBUFFER_BINDING"] = values["DRAW_FRAMEBUFFER_BINDING"]
        return DrawState(
            flags, values, tuple(self._depth_range.floats()), tuple(bool(result.value) for result in self._blended)
        )
