"""The snapshot of a context: its state, its objects and their contents, by ordinary GL queries.

Runs against anything that executes GL calls. Every batch sets up what it needs and puts back what it touched, so
that a batch which has been handed over never leaves a trace, whatever happens to us. One file a kind of object.
"""

from wendascope.tap.snapshot._context import read_context
from wendascope.tap.snapshot._take import Snapshot, take_snapshot

__all__ = ["Snapshot", "read_context", "take_snapshot"]
