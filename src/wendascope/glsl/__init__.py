"""The shading language: words, global declarations, other versions, layouts in memory, the reference compiler.

Knows nothing of captured frames. Imports `registry` for the numbers of types and stages.
"""
