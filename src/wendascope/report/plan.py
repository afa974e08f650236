"""The plan as a document: for the command line, JSON, HTML and SARIF."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import jinja2
import msgspec

import wendascope
from wendascope.analysis.recommend import Gain, Recommendation
from wendascope.files import write_atomically
from wendascope.texts import joined_parts, plural, three_digits
from wendascope.trials.plan import Plan

_NOTE_MS = 1.0
"""Gains below this are notes in SARIF; the others warnings."""


class PlanReport(msgspec.Struct):
    """What `plan` tells."""

    file: str
    plan: Plan
    recommendations: list[Recommendation]
    """The largest gain first; those below the fold are `small`."""
    pass_names: list[str]


def gain_text(gain: Gain | None) -> str:
    """A gain with its range: proved ones plain, estimated ones with a `~`."""
    if gain is None or gain.ms <= 0:
        return ""
    mark = "" if gain.proved else "~"
    return f"{mark}{three_digits(gain.ms)} ({three_digits(gain.low)} to {three_digits(gain.high)})"


def places_text(names: list[str], most: int = 4) -> str:
    """`in ...` with some passes, and how many more there are; empty for none."""
    places = joined_parts(names)
    if not places:
        return ""
    more = f" and {len(places) - most:,} more" if len(places) > most else ""
    return f"in {', '.join(places[:most])}{more}"


def plan_text(report: PlanReport) -> str:
    """The document in lines."""
    plan, lines = report.plan, [report.plan.sentence, *filter(None, [report.plan.rest])]
    of = {step.recommendation: step for step in plan.steps}
    shown = [r for r in report.recommendations if not r.small]
    if shown:
        lines += ["", f"{'GPU, ms':<24}{'CPU, ms':<24}{'state':<16}what"]
    for item in shown:
        lines.append(f"{gain_text(item.gpu):<24}{gain_text(item.cpu):<24}{item.state:<16}{item.title}")
        facts = [places_text([report.pass_names[index] for index in item.passes]), item.effort, item.price]
        lines.append(f"{'':<64}{'; '.join(filter(None, facts))}")
        if item.id in of and of[item.id].note:
            lines.append(f"{'':<64}{of[item.id].note}")
    if plan.steps:
        lines += ["", f"{'frame':<28}{'GPU, ms':>20}{'CPU, ms':>20}"]
        for step in plan.steps:
            mark = "" if step.proved else "~"
            gpu = f"{mark}{step.gpu_before:.1f} -> {step.gpu_after:.1f}"
            cpu = f"{mark}{step.cpu_before:.1f} -> {step.cpu_after:.1f}"
            lines.append(f"{'proved' if step.proved else 'estimated':<28}{gpu:>20}{cpu:>20}  {step.title[:70]}")
    small = [r for r in report.recommendations if r.small]
    if small:
        lines += ["", f"{plural(len(small), 'small gain')}:"]
        lines += [f"  {r.fold}: {r.title}" for r in small]
    return "\n".join(lines)


def plan_html(report: PlanReport) -> str:
    """One page that needs no other file."""
    folder = jinja2.FileSystemLoader(Path(__file__).parent)
    environment = jinja2.Environment(loader=folder, autoescape=True)
    plan = report.plan
    most = max(plan.gpu_ms, plan.cpu_ms, plan.budget_ms, 1e-9)
    return environment.get_template("plan.html").render(
        r=report, plan=plan, most=most, gain=gain_text, of={step.recommendation: step for step in plan.steps}
    )


def plan_sarif(report: PlanReport) -> dict[str, Any]:
    """The recommendations as results of SARIF 2.1.0: where they are, are passes of the frame."""
    rules = {rule: {"id": rule} for item in report.recommendations for rule in item.rules}
    results = []
    for item in report.recommendations:
        state = f"{item.state}; GPU {gain_text(item.gpu) or 'no gain'}; CPU {gain_text(item.cpu) or 'no gain'}"
        results.append(
            {
                "ruleId": item.rules[0],
                "level": "warning" if item.gain >= _NOTE_MS else "note",
                "message": {"text": f"{item.title} ({state})"},
                "locations": [
                    {
                        "physicalLocation": {"artifactLocation": {"uri": report.file}},
                        "logicalLocations": [
                            {"name": report.pass_names[index], "kind": "pass"} for index in item.passes
                        ],
                    }
                ],
                "properties": msgspec.to_builtins(item),
            }
        )
    driver = {"name": "Wendascope", "version": wendascope.__version__, "rules": list(rules.values())}
    return {
        "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "results": results}],
    }


def write_plan(report: PlanReport, html: Path | None, sarif: Path | None) -> list[Path]:
    """Write what is asked for. Returns the files. Raises FileError."""
    written = []
    if html is not None:
        text = plan_html(report)
        write_atomically(html, lambda scratch: scratch.write_text(text, encoding="utf-8"))
        written.append(html)
    if sarif is not None:
        data = msgspec.json.format(msgspec.json.encode(plan_sarif(report)), indent=2)
        write_atomically(sarif, lambda scratch: scratch.write_bytes(data))
        written.append(sarif)
    return written
