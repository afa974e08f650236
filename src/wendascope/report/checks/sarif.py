"""SARIF: hosts of source code show it beside the lines."""

from __future__ import annotations

from typing import Any

from wendascope.json_text import json_text
from wendascope.report.checks._registry import check_form
from wendascope.report.sarif import sarif_run, uri_of
from wendascope.texts import visible
from wendascope.trials.checks.amounts import amounts
from wendascope.trials.checks.checking import Check, Checked, FrameCheck, State

_LEVELS = {"pass": "none", "warn": "warning", "fail": "error"}
_KINDS = {State.WITHIN: "pass", State.OVER: "fail", State.UNSURE: "open"}


def _rule(name: str) -> str:
    return name.replace(" ", "-")


def _result(frame: FrameCheck, item: Check) -> dict[str, Any]:
    place: dict[str, Any] = {"artifactLocation": {"uri": uri_of(frame.file)}}
    if item.place is not None:
        place = {"artifactLocation": {"uri": item.place.name}}
        if item.place.line > 0:
            place["region"] = {"startLine": item.place.line}
    return {
        "ruleId": _rule(item.what),
        # by the standard, only what failed has a level
        "kind": "fail" if item.counts_as != "pass" else _KINDS[item.state],
        "level": _LEVELS[item.counts_as],
        "message": {"text": visible(item.sentence)},
        "locations": [{"physicalLocation": place, "logicalLocations": [{"fullyQualifiedName": visible(item.where)}]}],
        "partialFingerprints": {"limit/v1": f"{item.what}:{item.where}"},
    }


@check_form("sarif", "results for hosts of source code")
def sarif(found: Checked) -> str:
    """One run, with a result for every limit."""
    tips = {item.name: item.tip for item in amounts()}
    checks = [(frame, item) for frame in found.frames for item in frame.checks]
    rules = {_rule(item.what): f"{item.what}: {tips.get(item.what, item.what)}" for _, item in checks}
    sources = {item.place.name: item.place.source for _, item in checks if item.place is not None}
    warnings = [visible(f"{frame.file}: {warning}") for frame in found.frames for warning in frame.warnings]
    results = [_result(frame, item) for frame, item in checks]
    return json_text(sarif_run(rules, results, sources, warnings)) + "\n"
