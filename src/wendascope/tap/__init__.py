"""The Python side of the tap: starting a target, talking to it, taking its snapshot.

`native/` holds the C library. May import `frame`, `registry` and `errors`; never `replay` or Qt.
"""
