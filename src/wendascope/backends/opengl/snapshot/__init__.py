"""The snapshot of a context: its state, its objects and their contents, by ordinary GL queries.

Runs against anything that executes GL calls. Every batch sets up what it needs and puts back what it touched, so
that a batch which has been handed over never leaves a trace, whatever happens to us. One file a kind of object.
"""

from wendascope.backends.opengl.snapshot._containers import read_query_results
from wendascope.backends.opengl.snapshot._context import read_context, read_strings
from wendascope.backends.opengl.snapshot._programs import describe_programs
from wendascope.backends.opengl.snapshot._reader import Reader
from wendascope.backends.opengl.snapshot._take import (
    Snapshot,
    read_contents,
    read_fixed_function_again,
    read_other_context,
    take_snapshot,
)

__all__ = [
    "Reader",
    "Snapshot",
    "describe_programs",
    "read_contents",
    "read_context",
    "read_fixed_function_again",
    "read_other_context",
    "read_query_results",
    "read_strings",
    "take_snapshot",
]
