"""OpenGL: everything of a captured frame that knows what its calls mean.

Packed calls, the state table and its tracker, objects, and what follows from them: the neutral tables of `frame`.
Imports `frame`, `glsl` and `registry`; only the tap, the replay, measuring and the lowering of edits import it.
"""
