"""Rebuilds the objects and the state of a captured frame in the current context.

One file a kind of object; `Rebuilder` puts them in order, and back between runs.
"""

from wendascope.backends.opengl.rebuild._rebuilder import Rebuilder

__all__ = ["Rebuilder"]
