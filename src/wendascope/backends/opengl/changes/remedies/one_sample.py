"""Steps without multisampling: every pixel is covered, or it is not."""

from __future__ import annotations

from wendascope.backends.edit import Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.frame_change import FrameChange, lowers
from wendascope.backends.opengl.changes.states import is_on
from wendascope.backends.opengl.state.offers import Offers
from wendascope.errors import TrialError
from wendascope.frame.remedy import Remedy
from wendascope.registry import GL


@lowers("one-sample")
def one_sample(change: FrameChange, item: Remedy) -> None:
    """Switch multisampling off for some steps. Raises TrialError where the context cannot, or where it is off."""
    frame = change.frame
    if not Offers(frame.context)("GL_MULTISAMPLE") or frame.context.es:
        raise TrialError("this context cannot switch multisampling off")
    found = False
    for step in item.steps:
        if frame.steps.kind_name(step) != "draw" or not is_on(frame, int(frame.steps.call[step]), GL.MULTISAMPLE):
            continue
        found = True
        for call, command in (
            (int(frame.steps.begin[step]), "glDisable"),
            (int(frame.steps.call[step]) + 1, "glEnable"),
        ):
            batch = CallBatch()
            batch.call(command, GL.MULTISAMPLE)
            change.insertions.append(Insertion(call, batch))
    if not found:
        raise TrialError("none of the steps uses multisampling")
