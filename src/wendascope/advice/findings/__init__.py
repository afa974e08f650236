"""Findings: what is worth changing in a frame. Each file here holds rules of one kind, which register themselves.

They read the frame and what was measured; they run without a GPU.
"""

from wendascope.advice.findings._registry import Case, Facts, Finding, Trying, find, finding

__all__ = ["Case", "Facts", "Finding", "Trying", "find", "finding"]
