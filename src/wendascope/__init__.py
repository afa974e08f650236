"""Wendascope: captures a rendered frame, shows where its time goes, and proves what would make it faster.

For scripts: `open_frame`, `compare` and `check`, as `docs/api.md` shows; `wendascope.api` says what stays as it is.

Parts import downwards only: `desktop` and `cli` may import everything, `analysis` and `frame`
import neither `replay` nor Qt, and nobody but a backend knows its API. `docs/architecture.md` draws it.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from wendascope.api import API_VERSION as API_VERSION
    from wendascope.api import Checked as Checked
    from wendascope.api import Comparison as Comparison
    from wendascope.api import Finding as Finding
    from wendascope.api import Frame as Frame
    from wendascope.api import Interval as Interval
    from wendascope.api import Pass as Pass
    from wendascope.api import Proof as Proof
    from wendascope.api import Step as Step
    from wendascope.api import check as check
    from wendascope.api import compare as compare
    from wendascope.api import open_frame as open_frame

__version__ = "0.1.0"
_FOR_SCRIPTS = frozenset(
    "API_VERSION Checked Comparison Finding Frame Interval Pass Proof Step check compare open_frame".split()
)


def __getattr__(name: str) -> Any:
    """What scripts use is imported when it is asked for: the replay process and the command line begin here, too."""
    if name in _FOR_SCRIPTS:
        import importlib

        return getattr(importlib.import_module("wendascope.api"), name)
    raise AttributeError(f"module 'wendascope' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *_FOR_SCRIPTS])
