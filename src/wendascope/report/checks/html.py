"""One page that needs nothing else."""

from __future__ import annotations

from wendascope.report.checks._registry import check_form
from wendascope.report.pages import page_template
from wendascope.trials.checks.checking import Checked


@check_form("html", "a page to read")
def html(found: Checked) -> str:
    """A table for each frame, what is not kept first."""
    order = {"fail": 0, "warn": 1, "pass": 2}
    frames = [(frame, sorted(frame.checks, key=lambda item: order[item.counts_as])) for frame in found.frames]
    return page_template("check.html").render(found=found, frames=frames)
