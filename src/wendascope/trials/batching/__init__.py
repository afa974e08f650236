"""Steps drawn together: shaders rewritten to read data of each draw, vertices put into one buffer, textures into
one array.

All of it is worked out from the captured frame alone; the replay only makes the new objects and runs the new calls.
"""

from wendascope.analysis.remedy import Part
from wendascope.frame.frame import Frame
from wendascope.trials.batching.merging import drawn_indices, vertex_values
from wendascope.trials.batching.new_objects import NewObjects
from wendascope.trials.batching.plan import BatchPlan, Code, plan_batch
from wendascope.trials.lowering import opengl

__all__ = ["BatchPlan", "Code", "NewObjects", "batch_code", "drawn_indices", "plan_batch", "vertex_values"]


def batch_code(frame: Frame, part: Part) -> list[Code]:
    """What a programmer would write to draw some steps as one. Raises TrialError where that cannot be."""
    known = opengl(frame)
    return plan_batch(known, part, NewObjects(known)).code
