"""Remedies as changes of the frame. Each file here knows one kind of remedy and registers itself."""

from wendascope.trials.remedies._kinds import Claim, Clash, Gains, Kind, Trying, claim_of, kind_of, may_change_picture
from wendascope.trials.remedies._registry import FrameChange, change_of, remedy

__all__ = [
    "Claim",
    "Clash",
    "FrameChange",
    "Gains",
    "Kind",
    "Trying",
    "change_of",
    "claim_of",
    "kind_of",
    "may_change_picture",
    "remedy",
]
