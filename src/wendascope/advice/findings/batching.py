"""Draws that could be one: copies, other geometry, and other textures, which need a texture array first."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wendascope.advice.causes import COPIES, DRAWS
from wendascope.advice.findings._registry import Case, Facts, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side
from wendascope.analysis.draws.batch_words import BatchWords
from wendascope.analysis.draws.batches import Batch, Batches
from wendascope.analysis.guidelines import guidelines
from wendascope.frame.cpu import Floats
from wendascope.frame.numbers import Ints
from wendascope.frame.remedy import ARRAY, ATLAS, INSTANCE, MULTI_DRAW, SAME, UNITS, Part, Remedy
from wendascope.texts import plural


@finding(
    Rule("copies", "Batching", Side.GPU, Effort.SUBMISSION, cause=COPIES, joins_draws=True),
    Rule("mergeable", "Batching", Side.GPU, Effort.SUBMISSION, cause=DRAWS, joins_draws=True),
    Rule("textured-batch", "Batching", Side.GPU, Effort.SUBMISSION, cause=DRAWS, joins_draws=True),
    Rule("small-batches", "Batching", Side.GPU, Effort.SUBMISSION, cause=DRAWS, joins_draws=True),
)
def batches(case: Case) -> Iterator[Finding]:
    """Draws that one draw of instances, or one merged draw, can take the place of."""
    least = guidelines().batches.least_saved
    found = case.batches.batches
    large = [c for c in found if c.saved >= least]
    for batch in large:
        yield _finding(case, batch)
    small = [c for c in found if c.saved < least]
    strictest = min(c.high for c in guidelines().steps)
    if sum(c.saved for c in small) >= least and len(case.frame.steps) > strictest:
        yield _together(case, small)


def _finding(case: Case, batch: Batch) -> Finding:
    name = case.names[batch.pass_index]
    count, draws = len(batch.steps), len(batch.parts)
    cpu, gpu, own = cpu_ms(case, [batch]), step_ms(case, [batch]), own_ms(case, [batch])
    return Finding(
        id=f"batch-{batch.pass_index}-{batch.steps[0]}",
        rule=_rule(batch),
        title=f"{name}: {_what(batch)}",
        why=_why(batch),
        steps=batch.steps,
        evidence={
            "draws now": count,
            "draws then": draws,
            "uniforms that differ": ", ".join(batch.varies) or "none",
            "textures that differ": (f"{batch.textures} in {', '.join(batch.samplers)}" if batch.samplers else "none"),
            "vertices" + (" of a copy" if batch.how == INSTANCE else ""): batch.vertices,
            "bytes of vertices now": batch.bytes_before,
            "bytes then, at most": batch.bytes_after,
            "bytes of per-draw data": batch.data_bytes,
            "CPU time of their calls while recorded, ms": round(cpu * count / max(count - draws, 1), 3),
            "CPU time of the calls that go, ms": round(cpu, 3),
            "program's own time between those calls, ms": round(own, 3),
            "split by": ", ".join(batch.limits) or "no limit",
        },
        estimate_ms=gpu if gpu is not None else cpu,
        how="draws saved times the cheapest draw of this frame; the CPU gain is that of the recorded calls",
        price=_price(batch),
        conditions=_conditions(case, batch),
        remedy=batch_remedy(case.batches, [batch]),
        facts=Facts(name, count, draws, submit_ms=cpu, own_ms=own),
    )


def _conditions(case: Case, batch: Batch) -> str:
    if batch.in_order:
        return "; ".join(batch.caveats) or "the draws follow each other; nothing is reordered"
    holds = BatchWords(case.sharing, case.batches).condition(batch)
    guaranteed = "" if batch.always else "; a layer number or a sort key guarantees it"
    return "; ".join([holds + guaranteed, *batch.caveats])


def _together(case: Case, small: list[Batch]) -> Finding:
    steps = sorted(step for c in small for step in c.steps)
    draws = sum(len(c.parts) for c in small)
    gpu, cpu = step_ms(case, small), cpu_ms(case, small)
    return Finding(
        id="small-batches",
        rule="small-batches",
        title=f"{len(small)} small batches: {len(steps)} draws could be {draws}",
        why=(
            "Each of these batches saves only a few draws; together they matter when a frame has more draws than a"
            " device handles well."
        ),
        steps=steps,
        evidence={
            "batches": len(small),
            "draws now": len(steps),
            "draws then": draws,
            "CPU time of the calls that go, ms": round(cpu, 3),
        },
        estimate_ms=gpu if gpu is not None else cpu,
        how="as for larger batches",
        price="many small changes for a few draws each",
        conditions="see each batch on the Batching page",
        remedy=batch_remedy(case.batches, small),
        facts=Facts("", len(steps), draws, submit_ms=cpu, own_ms=own_ms(case, small)),
    )


def batch_remedy(found: Batches, batches: list[Batch], how: str = "", textures: str = "") -> Remedy:
    """What draws some batches together, in their own ways or all in another; with the order of each region in which
    other steps have to move as well.
    """
    moved = sorted({batch.region for batch in batches if not batch.in_place})
    return Remedy(
        "batch",
        sorted(step for batch in batches for step in batch.steps),
        orders=[found.regions[region].order for region in moved],
        parts=[part for batch in batches for part in parts_of(batch, how, textures)],
    )


def parts_of(batch: Batch, how: str = "", textures: str = "") -> list[Part]:
    """What each draw of a batch holds, in its own way or in another."""
    gather = textures or batch.gather
    return [Part(how or batch.how, steps, "" if gather == SAME else gather) for steps in batch.parts]


def _rule(batch: Batch) -> str:
    if batch.samplers:
        return "textured-batch"
    return "copies" if batch.how == INSTANCE else "mergeable"


def _what(batch: Batch) -> str:
    count, draws = len(batch.steps), len(batch.parts)
    into = plural(draws, "draw")
    instanced = "one instanced draw" if draws == 1 else f"{draws} instanced draws"
    if batch.samplers:
        if batch.gather == ATLAS:
            return f"{count} draws differ only in textures of several sizes; {into} with an atlas"
        if batch.gather == UNITS:
            return f"{count} draws differ only in {batch.textures} textures; {into} with all of them bound side by side"
        return f"{count} draws differ only in textures of one size; {into} with a texture array"
    if batch.how == INSTANCE:
        return f"one mesh is drawn {count} times; {instanced} would do the same"
    if batch.how == MULTI_DRAW:
        return f"{count} ranges of the same buffers are drawn one by one; {into} with multi-draw"
    return f"{count} meshes share program, state and textures; {into} when merged"


def _why(batch: Batch) -> str:
    if batch.gather == UNITS:
        return (
            "Program and state are the same. The textures are few enough to be bound at once, each to a texture unit;"
            " per-draw data tells the shader which one to read."
        )
    if batch.gather == ATLAS:
        return (
            "Program and state are the same. The textures have one format, so they can share an atlas; per-draw data"
            " selects the place."
        )
    if batch.samplers:
        return (
            "Program and state are the same. The textures have one size and format, so they can be layers of one array;"
            " per-draw data selects the layer."
        )
    if batch.how == INSTANCE:
        return (
            "Mesh, program, state and textures are the same. Only uniforms differ, and they can be per-instance data."
        )
    if batch.how == MULTI_DRAW:
        return "Only the range of vertices differs: one multi-draw call does the same, with the same shader."
    return (
        "Program, state and textures are the same. The vertices can lie in one buffer, each with the number of its"
        " draw."
    )


def _price(batch: Batch) -> str:
    more = batch.bytes_after - batch.bytes_before
    size = f"about {more / 1024:,.0f} KiB more memory" if more > 0 else "no memory"
    if batch.how == MULTI_DRAW:
        return "none"
    effort = "a buffer of per-draw data, and shaders that read it"
    return f"{effort}; {size}" + ("; the textures must keep one size" if batch.gather == ARRAY else "")


def cpu_ms(case: Case, batches: list[Batch]) -> float:
    """CPU time in the calls that serve the draws which would go, as recorded, ms; once measured, as replayed. A draw
    counts with what one of the quick quarter of the frame's draws takes, at most: on a driver that shades vertices in
    its calls, the vertices stay.
    """
    if not case.frame.call_count:
        return 0.0
    sums = np.concatenate([[0.0], np.cumsum(case.frame.call_ms)])
    each = float(np.quantile(_served(case, case.sharing.draws.nonzero()[0], sums), 0.25))
    # recording takes a part of the calls' time: the replay of the same calls does not
    share = 1.0 if not case.submit_ms else min(case.submit_ms / max(case.frame.cpu_lane.calls_ms, 1e-9), 1.0)
    return _gone(case, batches, sums, each) * share


def own_ms(case: Case, batches: list[Batch]) -> float:
    """Time that passed outside OpenGL between the calls which serve the draws that would go, as recorded, ms. No
    replay contains it.
    """
    lane = case.frame.cpu_lane
    if not len(lane.begin):
        return 0.0
    return _gone(
        case, batches, np.concatenate([[0.0, 0.0], np.cumsum(np.maximum(lane.begin[1:] - lane.end[:-1], 0.0))])
    )


def _gone(case: Case, batches: list[Batch], sums: Floats, most: float = np.inf) -> float:
    """The part of what `sums` adds up call by call, shape (calls + 1,), that belongs to draws which would go, each with
    `most` at most.
    """
    total = 0.0
    for batch in batches:
        each = np.minimum(_served(case, np.array(batch.steps), sums), most)
        total += float(each.sum()) * batch.saved / len(batch.steps)
    return total


def _served(case: Case, steps: Ints, sums: Floats) -> Floats:
    """What the calls since the draw before take, of each of some draws."""
    calls = np.asarray(case.frame.steps.call, np.int64)
    first = np.where(steps > 0, calls[np.maximum(steps - 1, 0)] + 1, 0)
    return np.asarray(sums[calls[steps] + 1] - sums[first])


def step_ms(case: Case, batches: list[Batch]) -> float | None:
    """The price of a draw as such, for each draw less, ms; None before times were measured.

    It is what submitting one call more takes: of the time of submitting the frame, the part of a draw and the calls
    that serve it. What a draw's vertices and fragments cost is not saved by drawing them together.
    """
    if case.submit_ms is None or not len(case.sharing.draws):
        return None
    draws = max(int(case.sharing.draws.sum()), 1)
    alone = case.cheapest_ms
    each = case.submit_ms / draws if alone is None else min(case.submit_ms / draws, alone)
    return sum(each * batch.saved for batch in batches)
