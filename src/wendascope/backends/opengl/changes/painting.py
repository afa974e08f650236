"""Steps that write other colours than their own, to see whether anybody sees them."""

from __future__ import annotations

from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.states import is_on
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import DRAW_BUFFERS
from wendascope.backends.opengl.tables.step_uses import target_colours
from wendascope.registry import GL


def painted_step(frame: OpenGLFrame, step: int) -> tuple[CallBatch, CallBatch] | None:
    """(before, after): calls that have a step write other colours than its own; None where it writes none or that
    is not known.

    What is there is inverted: so no step that is seen can come out as if it had been left out. Where that does not
    work (floating-point and sRGB targets, OpenGL ES), black is drawn.
    """
    call = int(frame.steps.begin[step])
    if frame.steps.kind_name(step) != "draw":
        return None
    offers = Offers(frame.context)
    on, off = CallBatch(offers), CallBatch(offers)
    logic = is_on(frame, call, GL.COLOR_LOGIC_OP)
    if offers("glLogicOp") and _plain_numbers(frame, step):
        operation = frame.history.value("logic_op", call) or (GL.COPY,)
        on.call("glEnable", GL.COLOR_LOGIC_OP)
        on.call("glLogicOp", GL.INVERT)
        off.call("glLogicOp", operation[0])
        if not logic:
            off.call("glDisable", GL.COLOR_LOGIC_OP)
        return on, off
    factors = [frame.history.value("blend_func", call, i) for i in range(DRAW_BUFFERS)]
    equations = [frame.history.value("blend_equation", call, i) for i in range(DRAW_BUFFERS)]
    flags = [frame.history.value("blend_enabled", call, i) for i in range(DRAW_BUFFERS)]
    if (
        logic
        or factors[0] is None
        or equations[0] is None
        or any(len({v for v in some if v}) > 1 for some in (factors, equations, flags))
    ):
        return None
    on.call("glEnable", GL.BLEND)
    on.call("glBlendEquation", GL.FUNC_ADD)
    on.call("glBlendFunc", GL.ZERO, GL.ZERO)
    off.call("glBlendFuncSeparate", *factors[0])
    off.call("glBlendEquationSeparate", *equations[0])
    if not is_on(frame, call, GL.BLEND):
        off.call("glDisable", GL.BLEND)
    return on, off


def _plain_numbers(frame: OpenGLFrame, step: int) -> bool:
    """Whether all colours of the step's target are fixed-point numbers, which logic operations work on."""
    target = frame.passes.targets[int(frame.passes.of_step[step])]
    fixed, srgb = target_colours(frame, target)
    return fixed if target.framebuffer else not srgb
