"""What shaders do for nothing: expressions of uniforms alone, features that uniforms switch off, long loops, dear powers,
varyings that nobody reads, look-ups done twice."""

from __future__ import annotations

from collections.abc import Iterator

from wendascope.analysis.findings._registry import Case, Finding, Remedy, finding
from wendascope.analysis.shaders import ProgramStudy, StageStudy
from wendascope.registry import GL

_LEAST_SHARE = 0.02
"""Of a shader's cost: less is not worth a change."""
_LEAST_COST = 8.0
_LONG_LOOP = 0.4
"""Share of a shader's cost in one loop, from which its rounds are worth a look."""
_MEASURE = "the program's measured time by the share of its modelled cost; costs are modelled, counts and times measured"


@finding("uniform-expression")
def uniform_expressions(case: Case) -> Iterator[Finding]:
    for program, stage in _fragments(case):
        assert stage.cost is not None
        lines = {line: cost for line, cost in stage.cost.uniform_only.items() if cost >= 2.0}
        spent = sum(lines.values())
        if spent < _LEAST_COST or spent < _LEAST_SHARE * stage.cost.total:
            continue
        yield _finding(
            case, program, stage, "uniform-expression", sorted(lines), spent,
            f"{_lines(sorted(lines), 'compute')} for every fragment what uniforms alone decide",
            "The result is the same for every fragment of a draw. Worked out once on the CPU, or for each vertex, it costs nothing here.",
            {"modelled cost of it": round(spent, 1)}, "one more uniform, or a varying", "", None,
        )  # fmt: skip


@finding("idle-feature")
def idle_features(case: Case) -> Iterator[Finding]:
    for program, stage in _fragments(case):
        assert stage.cost is not None
        for branch in stage.cost.branches:
            full = stage.cost.total + branch.cost
            if branch.cost < _LEAST_COST or branch.cost < _LEAST_SHARE * full:
                continue
            yield _finding(
                case, program, stage, "idle-feature", [branch.line], branch.cost,
                f"{_lines([branch.line], 'test')} {branch.uniform}, which switches {branch.cost / full:.0%} of the shader off in this frame",
                "The branch goes one way for the whole frame. Drivers may skip its other side or run it masked, and must keep registers for it; "
                "a variant of the shader without it has neither.",
                {"modelled cost of the idle side": round(branch.cost, 1), "uniform": branch.uniform}, "one more variant of the shader",
                "the uniform has one value in all steps of the frame", Remedy("bake-uniforms", program.steps, program=program.program), full,
            )  # fmt: skip


@finding("long-loop")
def long_loops(case: Case) -> Iterator[Finding]:
    for program, stage in _fragments(case):
        assert stage.cost is not None
        for loop in stage.cost.loops:
            if loop.trips is None or loop.trips < 4 or loop.cost < _LONG_LOOP * stage.cost.total:
                continue
            by = f", as {loop.by_uniform} says" if loop.by_uniform else ""
            yield _finding(
                case, program, stage, "long-loop", [loop.line], loop.cost / 2,
                f"{_lines([loop.line], 'loop')} {loop.trips} times{by}: {loop.cost / stage.cost.total:.0%} of the shader",
                "Half the rounds would save half of that, if the picture allows it.",
                {"rounds": loop.trips, "modelled cost of all rounds": round(loop.cost, 1)}, "the picture changes: how much, the proof shows",
                "the estimate is for half the rounds",
                Remedy("bake-uniforms", program.steps, program=program.program, values={loop.by_uniform: loop.trips // 2}) if loop.by_uniform else None,
                refused="" if loop.by_uniform else "the number of rounds stands in the source: try it by editing the shader",
            )  # fmt: skip


@finding("small-power")
def small_powers(case: Case) -> Iterator[Finding]:
    for program, stage in _fragments(case):
        assert stage.cost is not None
        lines = sorted({line for line, exponent in stage.cost.powers if exponent in (0.5, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, -0.5, -1.0, -1.5, -2.0)})
        if not lines:
            continue
        spent = sum(stage.cost.lines.get(line, 0.0) for line in lines) / 2
        yield _finding(
            case, program, stage, "small-power", lines, spent, f"{_lines(lines, 'raise')} to a small constant power",
            "A power is an exponential of a logarithm; a few multiplications or a square root do the same.",
            {"exponents": ", ".join(f"{e:g}" for e in sorted({e for line, e in stage.cost.powers if line in lines}))}, "none", "", None,
        )  # fmt: skip


@finding("unused-varying")
def unused_varyings(case: Case) -> Iterator[Finding]:
    for program in case.shaders:
        vertex, fragment = program.stage(GL.VERTEX_SHADER), program.stage(GL.FRAGMENT_SHADER)
        if vertex is None or fragment is None or vertex.cost is None or fragment.cost is None or len(program.stages) != 2:
            continue
        unread = sorted(name for name in vertex.outputs if name not in fragment.read)
        if not unread:
            continue
        lines = sorted({k for k, text in enumerate(vertex.source.splitlines(), 1) if any(name in text for name in unread)})
        yield Finding(
            id=f"unused-varying-{program.program}", rule="unused-varying", page="Shaders",
            title=f"{program.label}: {', '.join(unread)} {'is' if len(unread) == 1 else 'are'} written for every vertex and read by nobody",
            why="Linkers of good drivers drop it; others compute, store and interpolate it.", steps=program.steps,
            evidence={"scalars": sum(vertex.outputs[name] for name in unread), "lines of the vertex shader": ", ".join(map(str, lines[:8]))},
            estimate_ms=None, how="", price="none", conditions="no other program is linked with the same vertex shader",
            refused="drivers that drop it show no difference", program=program.program, stage=GL.VERTEX_SHADER, lines=lines,
        )  # fmt: skip


@finding("fetched-twice")
def fetched_twice(case: Case) -> Iterator[Finding]:
    for program, stage in _fragments(case):
        assert stage.cost is not None
        lines = sorted(set(stage.cost.repeated_fetches))
        if lines:
            yield _finding(
                case, program, stage, "fetched-twice", lines, sum(stage.cost.lines.get(line, 0.0) for line in lines) / 2,
                f"{_lines(lines, 'look')} up a texel that was looked up before", "Kept in a variable, one look-up does for both.",
                {"look-ups that repeat": len(stage.cost.repeated_fetches)}, "none", "", None,
            )  # fmt: skip


def _fragments(case: Case) -> Iterator[tuple[ProgramStudy, StageStudy]]:
    for program in case.shaders:
        stage = program.stage(GL.FRAGMENT_SHADER)
        if stage is not None and stage.cost is not None and stage.cost.total > 0:
            yield program, stage


def _finding(
    case: Case, program: ProgramStudy, stage: StageStudy, rule: str, lines: list[int], saved: float, title: str, why: str,
    evidence: dict[str, int | float | str], price: str, conditions: str, remedy: Remedy | None, whole: float | None = None, refused: str = "",
) -> Finding:  # fmt: skip
    assert stage.cost is not None
    total = whole or stage.cost.total
    estimate = None if program.ms is None else program.ms * min(saved / total, 1.0)
    return Finding(
        id=f"{rule}-{program.program}" + (f"-{lines[0]}" if rule in ("idle-feature", "long-loop") else ""), rule=rule, page="Shaders", title=f"{program.label}: {title}", why=why, steps=program.steps,
        evidence={"fragments": program.fragments or 0, "modelled cost of a fragment": round(total, 1), **evidence}, estimate_ms=estimate, how=_MEASURE,
        price=price, conditions=conditions or "none", remedy=remedy, refused=refused or ("" if remedy else "the change is the programmer's: try it by editing the shader"),
        program=program.program, stage=stage.stage, lines=lines,
    )  # fmt: skip


def _lines(lines: list[int], verb: str) -> str:
    """Lines as the subject of a sentence, with its verb."""
    if len(lines) == 1:
        return f"line {lines[0]} {verb}s"
    return "lines " + ", ".join(map(str, lines[:6])) + (" ..." if len(lines) > 6 else "") + f" {verb}"
