"""The survey as it is told: one document that JSON, CSV, HTML and the command line all show."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from wendascope.advice.findings import Finding
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.time.budget import judge
from wendascope.analysis.time.frame_bound import frame_bound
from wendascope.frame.frame import Frame
from wendascope.measure.certainty import doubts
from wendascope.measure.records import Calibration, CpuTimes, PassTime, Survey, Verification
from wendascope.measure.statistics import Interval
from wendascope.texts import capital
from wendascope.trials.proofs.proof import Proof, state_of
from wendascope.trials.survey.judging import Refuted


class PassRow(PassTime):
    """A pass as measured, and its share of the sum of all pass times."""

    share: float
    layers: float | None = None
    """Average over the covered places; None until counted."""
    wasted_share: float | None = None
    """Of its fragments: covered later, or blended without a change."""


class StepRow(msgspec.Struct):
    index: int
    call: int
    kind: str
    name: str
    pass_: int = msgspec.field(name="pass")
    ms: float
    ms_low: float
    ms_high: float
    vertices: int
    triangles: int
    instances: int
    fragments: int | None
    survivors: int | None
    program: int
    idle: int | None = None
    """Blended fragments among the survivors that changed nothing."""
    wasted_ms: float | None = None
    """Estimated: its time by its wasted share."""
    rasterised_triangles: int | None = None
    triangles_without_sample: int | None = None
    vertices_run: int | None = None
    """By the model of a vertex cache of 32 entries, first in first out."""


class FindingRow(msgspec.Struct):
    """A finding with what is known of it."""

    id: str
    rule: str
    page: str
    title: str
    why: str
    steps: list[int]
    estimate_ms: float | None
    how: str
    state: str
    evidence: dict[str, int | float | str]
    price: str
    conditions: str
    refused: str
    proof: Proof | None


class WaitRow(msgspec.Struct):
    """A recorded call that waited, and what it waited for."""

    call: int
    command: str
    ms: float
    what: str


class SurveyDocument(msgspec.Struct):
    program: str
    captured_at: str
    frame_number: int
    context: str
    renderer: str
    width: int
    height: int
    sentence: str
    budget_ms: float
    late: str
    evidence: str
    frame_ms: Interval
    submit_ms: Interval
    target_frame_ms: float | None
    method: str
    calibration: Calibration
    repeats: int
    cpu: CpuTimes
    verification: Verification
    paced_by: str
    """Who sets the pace of the running program, and by what evidence; empty without frame statistics."""
    waits: list[WaitRow]
    passes: list[PassRow]
    steps: list[StepRow]
    findings: list[FindingRow]
    caveats: list[str]
    """Of the counting of layers and positions."""
    doubts: list[str] = []
    """What makes the times unsure."""
    refuted: list[Refuted] = []
    """What looked worth changing and was refuted by replay before it was claimed."""


def survey_document(
    frame: Frame,
    survey: Survey,
    budget_ms: float,
    drawn: Drawn | None = None,
    findings: Sequence[Finding] = (),
    proofs: Mapping[str, Proof] | None = None,
    refuted: Sequence[Refuted] = (),
) -> SurveyDocument:
    """Put a frame and what was measured, found and proved on it together."""
    proofs = proofs or {}
    total = sum(p.ms for p in survey.passes) or 1.0
    cpu_ms = survey.cpu.calls_ms + survey.cpu.program_ms
    bound = frame_bound(frame)
    verdict = judge(survey.frame_ms.median, cpu_ms, [p.ms for p in survey.passes], budget_ms, bound)
    passes = [
        PassRow(
            **msgspec.structs.asdict(p),
            share=p.ms / total,
            layers=_layers(drawn, p.index),
            wasted_share=_wasted(drawn, p.index),
        )
        for p in survey.passes
    ]
    table = frame.steps
    steps = [
        StepRow(
            index=i,
            call=int(table.call[i]),
            kind=table.kind_name(i),
            name=frame.step_name(i),
            pass_=int(frame.passes.of_step[i]),
            ms=survey.steps.ms[i],
            ms_low=survey.steps.ms_low[i],
            ms_high=survey.steps.ms_high[i],
            vertices=int(table.vertices[i]),
            triangles=int(table.triangles[i]),
            instances=int(table.instances[i]),
            fragments=survey.fragments[i] if survey.fragments is not None else None,
            program=int(table.program[i]),
            **(_drawn_columns(drawn, i, survey.steps.ms[i]) if drawn else {"survivors": None}),
        )
        for i in range(len(table))
    ]
    return SurveyDocument(
        program=" ".join([frame.metadata.program, *frame.metadata.arguments]),
        captured_at=frame.metadata.captured_at,
        frame_number=frame.metadata.frame_number,
        context=str(frame.context),
        renderer=survey.renderer,
        doubts=doubts(survey),
        width=frame.size[0],
        height=frame.size[1],
        sentence=f"{verdict.sentence} {capital(verdict.numbers)}.",
        budget_ms=budget_ms,
        late=verdict.late,
        evidence=verdict.evidence,
        frame_ms=survey.frame_ms,
        submit_ms=survey.submit_ms,
        target_frame_ms=survey.target_frame_ms,
        method=survey.method,
        calibration=survey.calibration,
        repeats=survey.repeats,
        cpu=survey.cpu,
        verification=survey.verification,
        paced_by=bound.sentence if bound else "",
        waits=[WaitRow(w.call, w.command, w.ms, w.what) for w in frame.waits],
        passes=passes,
        steps=steps,
        findings=[
            FindingRow(
                f.id,
                f.rule,
                f.kept_rule.page,
                f.title,
                f.why,
                f.steps,
                f.estimate_ms,
                f.how_known,
                state_of(f, proofs),
                f.evidence,
                f.price,
                f.conditions,
                f.refused,
                proofs.get(f.id),
            )
            for f in findings
        ],
        caveats=drawn.caveats if drawn else [],
        refuted=list(refuted),
    )


def _layers(drawn: Drawn | None, index: int) -> float | None:
    return None if drawn is None else drawn.passes[index].average


def _wasted(drawn: Drawn | None, index: int) -> float | None:
    return None if drawn is None else drawn.passes[index].wasted_share


def _drawn_columns(drawn: Drawn, step: int, ms: float) -> dict[str, Any]:
    row = drawn.steps[step]
    counted = row.fragments >= 0 and row.kind != "clear"
    known = row.triangles >= 0
    return {
        "survivors": row.survivors if counted else None,
        "idle": row.idle if counted else None,
        "wasted_ms": ms * row.wasted_share if counted else None,
        "rasterised_triangles": row.drawn if known else None,
        "triangles_without_sample": row.no_sample if known else None,
        "vertices_run": row.transformed if row.transformed >= 0 else None,
    }
