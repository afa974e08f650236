"""Steps drawn together: shaders rewritten to read data of each draw, vertices put into one buffer, textures into
one array.

All of it is worked out from the captured frame alone; the replay only makes the new objects and runs the new calls.
"""

from wendascope.backends.opengl.changes.batching.merging import drawn_indices, vertex_values
from wendascope.backends.opengl.changes.batching.new_objects import NewObjects
from wendascope.backends.opengl.changes.batching.plan import BatchPlan, plan_batch

__all__ = ["BatchPlan", "NewObjects", "drawn_indices", "plan_batch", "vertex_values"]
