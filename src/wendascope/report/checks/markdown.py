"""Markdown for the conversation on a change: what is not kept first, all of it folded below."""

from __future__ import annotations

from pathlib import Path

from wendascope.report.checks._registry import check_form
from wendascope.report.markdown_text import escaped
from wendascope.texts import capital
from wendascope.trials.checks.checking import Check, Checked, FrameCheck, State

_HEAD = "| limit | of | value | allowed | baseline | |\n|---|---|---:|---:|---:|---|"


def _row(item: Check) -> str:
    more = item.why if item.state is State.UNSURE else item.note if item.state is State.OVER else ""
    state = f"**{item.state.value}**" if item.counts_as != "pass" else item.state.value
    cells = [item.what, item.where, item.text(item.value), item.text(item.allowed), item.text(item.base)]
    return f"| {' | '.join(map(escaped, cells))} | {state}{': ' + escaped(more) if more else ''} |"


def _frame(frame: FrameCheck) -> list[str]:
    bad = [item for item in frame.checks if item.counts_as != "pass"]
    rest = [item for item in frame.checks if item.counts_as == "pass"]
    lines = [f"#### {escaped(Path(frame.file).name)}", ""]
    if bad:
        lines += [_HEAD, *map(_row, bad), ""]
    if rest:
        lines += [f"<details><summary>{len(rest)} within their limits</summary>", "", _HEAD, *map(_row, rest), ""]
        lines += ["</details>", ""]
    return lines + [f"> {escaped(warning)}\n" for warning in frame.warnings]


@check_form("markdown", "a comment for a merge request")
def markdown(found: Checked) -> str:
    """A headline, and a table for each frame."""
    head = "Within budget" if found.passed else "Over budget"
    lines = [f"### {head}: {found.sentence}", ""]
    for frame in found.frames:
        lines += _frame(frame)
    how = "Counts are exact; times are told only where the noise of the machine allows it."
    return "\n".join([*lines, capital(how)]) + "\n"
