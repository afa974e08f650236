"""Findings: what is worth changing in a frame. Each file here holds rules of one kind, which register themselves.

They read the frame and what was measured; they run without a GPU.
"""

from wendascope.analysis.findings._registry import CALLS_GONE, Case, Finding, find, finding

__all__ = ["CALLS_GONE", "Case", "Finding", "find", "finding"]
