"""Kinds of remedies: what each claims, and what it does to a frame. One file a kind, or a few with the same means."""

from wendascope.trials.remedies._kinds import Claim, Clash, Gains, Kind, Trying, claim_of, kind_of, may_change_picture
from wendascope.trials.remedies._recipes import change_of

__all__ = ["Claim", "Clash", "Gains", "Kind", "Trying", "change_of", "claim_of", "kind_of", "may_change_picture"]
