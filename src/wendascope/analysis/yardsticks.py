"""Rules of thumb that findings measure by."""

LOST_TO_SIZE = 0.05
"""Share of triangles too small for any sample, above which a mesh is too fine for its place."""
PARTIAL = 0.10
"""Share of triangles that fill no pixel wholly."""
PIXELS_A_TRIANGLE = 16
"""Pixels that one triangle should cover at least, for the count that would do."""
LARGE_MESH = 2000
"""Triangles from which a mesh counts as large."""
SMALL_PART = 0.3
"""A large mesh of which less than this share lies inside the view is drawn for a small part."""
