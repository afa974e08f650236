"""Steps drawn together: shaders rewritten to read data of each draw, vertices put into one buffer, textures into one array.

All of it is worked out from the captured frame alone; the replay only makes the new objects and runs the new calls.
"""

from wendascope.trials.batching.plan import BatchPlan, Code, NewObjects, plan_batch

__all__ = ["BatchPlan", "Code", "NewObjects", "plan_batch"]
