"""Remedies as changes of the frame. Each file here knows one kind of remedy and registers itself."""

from wendascope.trials.remedies._registry import FrameChange, change_of, may_change_picture, remedy

__all__ = ["FrameChange", "change_of", "may_change_picture", "remedy"]
