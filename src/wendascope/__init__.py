"""Wendascope: captures a rendered frame, shows where its time goes, and proves what would make it faster.

Parts import downwards only: `desktop` and `cli` may import everything, `analysis` and `frame`
import neither `replay` nor Qt, and nobody but a backend knows its API. `docs/architecture.md` draws it.
"""

__version__ = "0.1.0"
