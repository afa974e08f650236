"""Draws that could be one: copies, kin, and near kin that need a texture array first."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.analysis.call_use import call_ms
from wendascope.analysis.companies import INSTANCE, MULTI_DRAW, Company
from wendascope.analysis.findings._registry import Case, Finding, Part, Remedy, finding
from wendascope.analysis.yardsticks import yardsticks

_FEW_MS = 10
"""Percentile of the steps' times that is taken for the price of a step as such."""


@finding("company")
def companies(case: Case) -> Iterator[Finding]:
    least = yardsticks().batches.least_saved
    found = case.companies.companies
    large = [c for c in found if c.saved >= least]
    for company in large:
        yield _finding(case, company)
    small = [c for c in found if c.saved < least]
    strictest = min(c.high for c in yardsticks().steps)
    if sum(c.saved for c in small) >= least and len(case.frame.steps) > strictest:
        yield _together(case, small)


def _finding(case: Case, company: Company) -> Finding:
    name = case.names[company.pass_index]
    count, draws = len(company.steps), len(company.parts)
    cpu, gpu = cpu_ms(case, [company]), step_ms(case, [company])
    return Finding(
        id=f"company-{company.pass_index}-{company.steps[0]}", rule=_rule(company), page="Batching", title=f"{name}: {_what(company)}", why=_why(company),
        steps=company.steps,
        evidence={
            "draws now": count, "draws together": draws, "uniforms that differ": ", ".join(company.varies) or "none",
            "textures that differ": f"{company.textures} in {', '.join(company.samplers)}" if company.samplers else "none",
            "vertices" + (" of a copy" if company.how == INSTANCE else ""): company.vertices,
            "bytes of vertices now": company.bytes_before, "bytes then, at most": company.bytes_after, "bytes of each draw's data": company.data_bytes,
            "CPU time of their calls while recorded, ms": round(cpu * count / max(count - draws, 1), 3), "expected CPU gain, ms": round(cpu, 3),
            "split by": ", ".join(company.limits) or "no limit",
        },
        estimate_ms=gpu if gpu is not None else cpu,
        how="what the cheapest steps of this frame take, for each step less; the CPU gain is that of the recorded calls",
        price=_price(company), conditions="; ".join(company.caveats) or "the steps follow each other, and nothing changes places",
        remedy=Remedy("batch", company.steps, parts=[Part(company.how, part) for part in company.parts]),
    )  # fmt: skip


def _together(case: Case, small: list[Company]) -> Finding:
    steps = sorted(step for c in small for step in c.steps)
    draws = sum(len(c.parts) for c in small)
    gpu = step_ms(case, small)
    return Finding(
        id="small-companies", rule="small-companies", page="Batching",
        title=f"{len(small)} small groups: {len(steps)} draws could be {draws}",
        why="Each of these groups saves only a few draws; together they are worth a look when a frame has more steps than a device takes well.",
        steps=steps, evidence={"groups": len(small), "draws now": len(steps), "draws together": draws, "expected CPU gain, ms": round(cpu_ms(case, small), 3)},
        estimate_ms=gpu if gpu is not None else cpu_ms(case, small), how="as for larger groups", price="many small changes for a few draws each",
        conditions="see each group on the Batching page",
        remedy=Remedy("batch", steps, parts=[Part(c.how, part) for c in small for part in c.parts]),
    )  # fmt: skip


def _rule(company: Company) -> str:
    if company.samplers:
        return "near-kin"
    return "copies" if company.how == INSTANCE else "kin"


def _what(company: Company) -> str:
    count, draws = len(company.steps), len(company.parts)
    into = f"{draws} draw" + ("s" if draws != 1 else "")
    if company.samplers:
        if company.page:
            return f"{count} draws differ only in textures of several sizes: {into} with an atlas page"
        return f"{count} draws differ only in textures of one size: {into} with a texture array"
    if company.how == INSTANCE:
        return f"{count} copies of one mesh are drawn one by one: {into} of instances"
    if company.how == MULTI_DRAW:
        return f"{count} ranges of the same buffers are drawn one by one: {into} of several ranges"
    return f"{count} meshes share program, state and textures: {into} when merged"


def _why(company: Company) -> str:
    if company.page:
        return "They share program and state; their textures have one format, so they can lie on one page, the place chosen by data of each draw."
    if company.samplers:
        return "They share program and state; their textures have one size and format, so they can be layers of one array, chosen by data of each draw."
    if company.how == INSTANCE:
        return "They share mesh, program, state and textures; only uniforms differ, which can be data of each instance."
    if company.how == MULTI_DRAW:
        return "They share everything but the range that they draw: one call can draw all of them without another shader."
    return "They share program, state and textures; their vertices can lie in one buffer, with the number of the draw beside each."


def _price(company: Company) -> str:
    more = company.bytes_after - company.bytes_before
    size = f"about {more / 1024:,.0f} KiB more memory" if more > 0 else "no memory"
    if company.how == MULTI_DRAW:
        return "none"
    effort = "a buffer with the data of each draw, and shaders that read it"
    return f"{effort}; {size}" + ("; the textures must keep one size" if company.samplers and not company.page else "")


def cpu_ms(case: Case, companies: list[Company]) -> float:
    """CPU time in the calls that serve the draws which would go, as recorded, ms."""
    if not len(case.frame.calls):
        return 0.0
    sums = np.concatenate([[0.0], np.cumsum(call_ms(case.frame))])
    calls = np.asarray(case.frame.steps.call, np.int64)
    total = 0.0
    for company in companies:
        steps = np.array(company.steps)
        first = np.where(steps > 0, calls[np.maximum(steps - 1, 0)] + 1, 0)
        together = float((sums[calls[steps] + 1] - sums[first]).sum())
        total += together * company.saved / len(steps)
    return total


def step_ms(case: Case, companies: list[Company]) -> float | None:
    """The price of a step as such, for each step less, ms; None before times were measured.

    It is what the cheapest steps of the frame take alone, each with its part of its pass.
    """
    if case.ms is None:
        return None
    draws = np.flatnonzero(case.sharing.draws)
    least = float(np.percentile(np.array(case.ms)[draws], _FEW_MS)) if len(draws) else 0.0
    total = 0.0
    for company in companies:
        alone = sum(case.ms[s] for s in company.steps)
        share = (case.time_of(company.steps) or 0.0) / max(alone, 1e-12)
        total += least * share * company.saved
    return total
