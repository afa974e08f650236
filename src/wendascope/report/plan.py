"""The plan as a document: for the command line, JSON, HTML and SARIF."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import msgspec

from wendascope import records
from wendascope.advice.findings import Case, Finding
from wendascope.advice.recommend import Gain, Recommendation, Section, State
from wendascope.files import write_atomically
from wendascope.frame.notes import newest_notes
from wendascope.json_text import json_text
from wendascope.measure.records import Survey
from wendascope.report.markdown_text import escaped
from wendascope.report.pages import page_template
from wendascope.report.sarif import sarif_run, uri_of
from wendascope.texts import capital, joined_parts, memory, plural, three_digits, visible
from wendascope.trials.plan import Plan, PlanStep, make_plan, recommendations_of
from wendascope.trials.proofs.proof import proofs_elsewhere, stored_proofs
from wendascope.trials.survey.examine import stored_caveats

_NOTE_MS = 1.0
"""Gains below this are notes in SARIF; the others warnings."""


class PlanReport(msgspec.Struct):
    """What `plan` tells."""

    file: str
    plan: Plan
    recommendations: list[Recommendation]
    """Section by section, the largest gain first; those below the fold are `small`."""
    pass_names: list[str]
    caveats: list[str] = []
    """What is missing of the survey that it stands on."""
    notes: dict[str, str] = {}
    """Finding -> what somebody wrote on it."""

    def notes_on(self, item: Recommendation) -> list[str]:
        """What somebody wrote on the findings of a recommendation."""
        return [self.notes[name] for name in item.findings if name in self.notes]


def plan_report(path: Path, case: Case, survey: Survey, findings: Sequence[Finding], budget_ms: float) -> PlanReport:
    """The plan by what was measured, and by the proofs that the file has by now. Raises FileError."""
    proofs = stored_proofs(path)
    found = recommendations_of(case, findings, proofs)
    now = survey.frame_ms.median, survey.submit_ms.median
    chosen = [item for item in found if not item.small]
    plan = make_plan(case, now, chosen, findings, proofs, budget_ms, survey.cpu.program_ms)
    caveats = [*stored_caveats(path), *proofs_elsewhere(path)]
    notes = newest_notes(records.NOTE.all(path))
    on_findings = {subject.name: text for subject, text in notes.items() if subject.kind == "finding"}
    return PlanReport(path.name, plan, found, case.frame.passes.short_names, caveats, on_findings)


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
    """The document in lines: what is reached, the waterfall, then each section with what became of every try."""
    plan, lines = report.plan, [report.plan.sentence, *filter(None, [report.plan.rest])]
    lines += [f"caveat: {caveat}" for caveat in report.caveats]
    if plan.steps:
        lines += ["", f"{'frame':<20}{'GPU, ms':>20}{'CPU, ms':>20}"]
        for step in plan.steps:
            mark = "" if step.proved else "~"
            gpu = f"{mark}{step.gpu_before:.1f} -> {step.gpu_after:.1f}"
            cpu = f"{mark}{step.cpu_before:.1f} -> {step.cpu_after:.1f}"
            lines.append(f"{_word(step):<20}{gpu:>20}{cpu:>20}  {step.title[:70]}")
    for section in (Section.TIME, Section.QUALITY, Section.MEMORY):
        mine = [r for r in report.recommendations if not r.small and r.section is section]
        if mine:
            lines += ["", _HEADINGS[section](mine), f"{'GPU, ms':<26}{'CPU, ms':<26}{'state':<26}what"]
        for item in mine:
            lines += _row(report, item)
    small = [r for r in report.recommendations if r.small]
    if small:
        lines += ["", f"{plural(len(small), 'other')}:"]
        lines += [f"  {r.fold}: {r.title}" for r in small]
    return "\n".join(map(visible, lines))


def _memory_heading(items: Sequence[Recommendation]) -> str:
    return f"Memory: {memory(sum(item.less_bytes for item in items))} less by {plural(len(items), 'kind')} of change"


_HEADINGS: dict[Section, Callable[[Sequence[Recommendation]], str]] = {
    Section.TIME: lambda _items: "Time, with the same picture",
    Section.QUALITY: lambda _items: "Quality for time: the picture changes; most time per visible pixel first",
    Section.MEMORY: _memory_heading,
}


def _word(step: PlanStep) -> str:
    if not step.proved:
        return "expected"
    return "proved together" if step.together else "proved"


def _row(report: PlanReport, item: Recommendation) -> list[str]:
    lines = [f"{gain_text(item.gpu):<26}{gain_text(item.cpu):<26}{item.state_text:<26}{item.title}"]
    own = (
        f"up to {three_digits(item.own_ms)} ms of the program's own time between the calls, by the recording"
        if item.own_ms > 0.05
        else ""
    )
    changed = (
        f"{plural(item.pixels, 'pixel')} changed by up to {item.largest} of 255, {item.visible:,} of them visibly"
        if item.pixels
        else ""
    )
    less = f"{memory(item.less_bytes)} less" if item.less_bytes > 0 else ""
    facts = [
        places_text([report.pass_names[index] for index in item.passes]),
        item.effort,
        item.price,
        own,
        changed,
        less,
    ]
    lines.append(f"{'':<78}{'; '.join(filter(None, facts))}")
    told = (State.PROVED, State.TRADE)  # with their numbers above
    tries = [t for t in item.tries if t.words and t.state not in told][:_MOST_TRIES]
    lines += [f"{'':<78}{t.words}" if len(item.findings) == 1 else f"{'':<78}{t.title}: {t.words}" for t in tries]
    return lines


_MOST_TRIES = 4
"""Of one recommendation, that are told one by one."""


def plan_html(report: PlanReport) -> str:
    """One page that needs no other file."""
    return page_template("plan.html").render(**plan_parts(report))


def plan_parts(report: PlanReport) -> dict[str, Any]:
    """What templates show of a plan."""
    plan = report.plan
    return {
        "r": report,
        "plan": plan,
        "most": max(plan.gpu_ms, plan.cpu_ms, plan.budget_ms, 1e-9),
        "gain": gain_text,
        "word": _word,
        "memory": memory,
        "capital": capital,
        "sections": [
            (_HEADINGS[section](mine), mine)
            for section in (Section.TIME, Section.QUALITY, Section.MEMORY)
            if (mine := [i for i in report.recommendations if not i.small and i.section is section])
        ],
    }


def plan_markdown(report: PlanReport) -> str:
    """A check list to work through: what is proved and what is expected, with the price of each."""
    plan = report.plan
    lines = [f"## {escaped(report.file)}", "", escaped(plan.sentence), "", escaped(plan.rest)]
    for section in (Section.TIME, Section.QUALITY, Section.MEMORY):
        mine = [item for item in report.recommendations if not item.small and item.section is section]
        if mine:
            lines += ["", f"### {escaped(_HEADINGS[section](mine))}", ""]
        for item in mine:
            sides = ("GPU", gain_text(item.gpu)), ("CPU", gain_text(item.cpu))
            gains = [f"{side} {gain} ms" for side, gain in sides if gain]
            less = [f"{memory(item.less_bytes)} less"] if item.less_bytes > 0 else []
            where = places_text([report.pass_names[index] for index in item.passes])
            lines.append(f"- [ ] **{escaped(item.title)}** ({escaped(item.state_text)})")
            facts = [*gains, *less, where, item.effort, f"price: {item.price}", f"holds: {item.conditions}"]
            lines.append(f"  {escaped('; '.join(filter(None, facts)))}")
            lines += [f"\n  Note: {escaped(note)}" for note in report.notes_on(item)]
    lines += [f"\n> {escaped(caveat)}" for caveat in report.caveats]
    return "\n".join(lines) + "\n"


def plan_sarif(report: PlanReport) -> dict[str, Any]:
    """The recommendations as results of SARIF 2.1.0: where they are, are passes of the frame."""
    rules = {rule: "" for item in report.recommendations for rule in item.rules}
    results = []
    for item in report.recommendations:
        state = f"{item.state_text}; GPU {gain_text(item.gpu) or 'no gain'}; CPU {gain_text(item.cpu) or 'no gain'}"
        results.append(
            {
                "ruleId": item.rules[0],
                "level": "warning" if item.gain >= _NOTE_MS else "note",
                "message": {"text": visible(f"{item.title} ({state})")},
                "locations": [
                    {
                        "physicalLocation": {"artifactLocation": {"uri": uri_of(report.file)}},
                        "logicalLocations": [
                            {"name": visible(report.pass_names[index]), "kind": "pass"} for index in item.passes
                        ],
                    }
                ],
                "properties": msgspec.to_builtins(item),
            }
        )
    return sarif_run(rules, results)


def write_plan(
    report: PlanReport, html: Path | None = None, sarif: Path | None = None, markdown: Path | None = None
) -> list[Path]:
    """Write what is asked for. Returns the files. Raises FileError."""
    forms: list[tuple[Path | None, Callable[[PlanReport], str]]] = [
        (html, plan_html), (sarif, lambda item: json_text(plan_sarif(item))), (markdown, plan_markdown),
    ]  # fmt: skip
    written = []
    for path, form in forms:
        if path is not None:
            text = form(report)
            write_atomically(path, functools.partial(_write, text))
            written.append(path)
    return written


def _write(text: str, scratch: Path) -> None:
    scratch.write_text(text, encoding="utf-8")
