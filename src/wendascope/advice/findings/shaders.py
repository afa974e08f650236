"""What shaders do for nothing: expressions of uniforms alone, features that uniforms switch off, long loops, dear
powers, varyings that nobody reads, texture samples done twice.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Protocol, TypeVar

from wendascope.advice.causes import SHADER
from wendascope.advice.findings._of_shaders import (
    LEAST_COST,
    LEAST_SHARE,
    fragment_stages,
    lines_that,
    shader_finding,
)
from wendascope.advice.findings._registry import Case, Finding, finding
from wendascope.advice.rule import Effort, Rule, Side, Verify
from wendascope.frame.remedy import Remedy
from wendascope.frame.resources import Program
from wendascope.glsl.globals import Globals, UnclearSourceError
from wendascope.glsl.stages import Stage
from wendascope.texts import share, verb


class _OnLine(Protocol):
    line: int


_T = TypeVar("_T", bound=_OnLine)
_LONG_LOOP = 0.4
"""Share of a shader's cost in one loop, from which its rounds are worth a look."""


@finding(Rule("uniform-expression", "Shaders", Side.GPU, Effort.SHADER, cause=SHADER))
def uniform_expressions(case: Case) -> Iterator[Finding]:
    """Lines that compute, for each fragment, what uniforms alone decide."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        lines = {line: cost for line, cost in stage.cost.uniform_only.items() if cost >= 2.0}
        spent = sum(lines.values())
        if spent < LEAST_COST or spent < LEAST_SHARE * stage.cost.total:
            continue
        yield shader_finding(
            case,
            program,
            stage,
            "uniform-expression",
            sorted(lines),
            spent,
            f"{lines_that(sorted(lines), 'computed')} per fragment, depends on uniforms only",
            "The result is the same for every fragment of a draw. Computed once on the CPU, or per vertex, it costs"
            " nothing here.",
            {"modelled cost": round(spent, 1)},
            "one more uniform, or a varying",
            "the proof moves it to the vertices",
            Remedy("move-to-vertices", program.steps, program=program.program, lines=sorted(lines)),
        )


@finding(Rule("unused-feature", "Shaders", Side.GPU, Effort.SHADER, cause=SHADER))
def idle_features(case: Case) -> Iterator[Finding]:
    """Branches that this frame's uniforms never take."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        for number, branch in _numbered(stage.cost.branches):
            full = stage.cost.total + branch.cost
            if branch.cost < LEAST_COST or branch.cost < LEAST_SHARE * full:
                continue
            # a driver that skips the side whole saves no more than the test and some registers
            yield shader_finding(
                case,
                program,
                stage,
                "unused-feature",
                [branch.line],
                branch.cost / 2,
                f"{lines_that([branch.line], 'test')} {branch.uniform}, which disables {share(branch.cost / full)} of"
                " the shader in this frame",
                "The branch goes one way for the whole frame. Drivers may skip its other side or run it masked, and"
                " must keep registers for it; a variant of the shader without it has neither.",
                {"modelled cost of the unused side": round(branch.cost, 1), "uniform": branch.uniform},
                "one more variant of the shader",
                "the uniform has one value in all steps of the frame",
                Remedy("bake-uniforms", program.steps, program=program.program),
                full,
                number=number,
            )


def _numbered(things: Sequence[_T]) -> Iterator[tuple[int, _T]]:
    """Things that begin on lines, each with how many before it begin on the same one."""
    seen: dict[int, int] = {}
    for thing in things:
        number = seen.get(thing.line, 0)
        seen[thing.line] = number + 1
        yield number, thing


@finding(
    Rule("long-loop", "Shaders", Side.GPU, Effort.SHADER, risk="the picture changes a little: look at it", cause=SHADER)
)
def long_loops(case: Case) -> Iterator[Finding]:
    """Loops with many iterations."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        alike = [loop.line for loop in stage.cost.loops]
        for number, loop in _numbered(stage.cost.loops):
            if loop.trips is None or loop.cost < _LONG_LOOP * stage.cost.total:
                continue
            seen = case.reached.iterations(program.program, loop.line) if case.reached else None
            trips = loop.trips if seen is None else min(seen, loop.trips)
            if trips < 4:
                continue  # one that no fragment reaches is a finding of its own
            by = f", as {loop.by_uniform} says" if loop.by_uniform else ""
            half = trips // 2
            yield shader_finding(
                case,
                program,
                stage,
                "long-loop",
                [loop.line],
                loop.cost / 2,
                f"{lines_that([loop.line], 'loop')} {trips} times{by}: {share(loop.cost / stage.cost.total)} of"
                " the shader",
                f"Half the iterations, {half}, save half of that if the picture allows it.",
                {"iterations": trips, "modelled cost of all iterations": round(loop.cost, 1)},
                "the picture changes; the proof shows by how much",
                f"estimate and proof are for {half} iterations",
                (
                    Remedy("bake-uniforms", program.steps, program=program.program, values={loop.by_uniform: half})
                    if loop.by_uniform
                    else (
                        Remedy("cut-loops", program.steps, program=program.program, loops={loop.line: half})
                        if alike.count(loop.line) == 1
                        else None
                    )
                ),
                refused=(
                    ""
                    if alike.count(loop.line) == 1 or loop.by_uniform
                    else "another loop begins on the same line: put each on a line of its own"
                ),
                number=number,
            )


@finding(Rule("unreached-loop", "Shaders", Side.GPU, Effort.SHADER, cause=SHADER))
def unreached_loops(case: Case) -> Iterator[Finding]:
    """Loops that no fragment of the frame reaches: drivers that run all sides masked pay for them all the same."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        alike = [loop.line for loop in stage.cost.loops]
        for number, loop in _numbered(stage.cost.loops):
            if case.reached is None or case.reached.iterations(program.program, loop.line) != 0:
                continue
            if loop.cost < LEAST_COST or loop.cost < LEAST_SHARE * stage.cost.total or alike.count(loop.line) > 1:
                continue
            yield shader_finding(
                case,
                program,
                stage,
                "unreached-loop",
                [loop.line],
                loop.cost,
                f"{lines_that([loop.line], 'hold')} a loop that no fragment of this frame reaches:"
                f" {share(loop.cost / stage.cost.total)} of the shader by its text",
                "What leads to it never holds here. A GPU that branches skips it and still keeps registers for it; one"
                " that runs all sides masked pays for it. A variant of the shader without it has neither.",
                {"fragments that reach it, measured": 0, "modelled cost if it ran": round(loop.cost, 1)},
                "one more variant of the shader",
                "nothing leads to it in other frames either: choose the variant by what decides that",
                Remedy("drop-loops", program.steps, program=program.program, loops={loop.line: 0}),
                number=number,
            )


@finding(Rule("small-power", "Shaders", Side.GPU, Effort.SHADER, cause=SHADER))
def small_powers(case: Case) -> Iterator[Finding]:
    """Calls of pow() with a small whole exponent."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        lines = sorted(
            {
                line
                for line, exponent in stage.cost.powers
                if exponent in (0.5, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, -0.5, -1.0, -1.5, -2.0)
            }
        )
        if not lines:
            continue
        spent = sum(stage.cost.lines.get(line, 0.0) for line in lines) / 2
        yield shader_finding(
            case,
            program,
            stage,
            "small-power",
            lines,
            spent,
            f"{lines_that(lines, 'raise')} to a small constant power",
            "A power is an exponential of a logarithm; a few multiplications or a square root do the same where the"
            " base is not negative.",
            {"exponents": ", ".join(f"{e:g}" for e in sorted({e for line, e in stage.cost.powers if line in lines}))},
            "none",
            "the base is never negative: the power of a negative number is undefined, its products are not",
            Remedy("simple-powers", program.steps, program=program.program, lines=lines),
        )


@finding(Rule("unused-varying", "Shaders", Side.GPU, Effort.SHADER, cause=SHADER))
def unused_varyings(case: Case) -> Iterator[Finding]:
    """Varyings that are written and never read."""
    for program in case.shaders:
        vertex, fragment = program.stage(Stage.VERTEX), program.stage(Stage.FRAGMENT)
        if (
            vertex is None
            or fragment is None
            or vertex.cost is None
            or fragment.cost is None
            or len(program.stages) != 2
        ):
            continue
        record = case.frame.programs.get(program.program)
        if record is not None and record.captures_vertices:
            continue  # by transform feedback, which takes what it names
        unread = sorted(name for name in vertex.outputs if name not in fragment.read)
        if not unread:
            continue
        lines = sorted(
            {k for k, text in enumerate(vertex.text.splitlines(), 1) if any(name in text for name in unread)}
        )
        yield Finding(
            id=f"unused-varying-{program.program}",
            rule="unused-varying",
            title=(
                f"{program.label}: varying {', '.join(unread)} {verb(len(unread), 'is', 'are')} written but never read"
            ),
            why="Linkers of good drivers drop it; others compute, store and interpolate it.",
            steps=program.steps,
            evidence={
                "scalars": sum(vertex.outputs[name] for name in unread),
                "lines of the vertex shader": ", ".join(map(str, lines[:8])),
            },
            estimate_ms=None,
            how="",
            price="none",
            conditions="no other program has the same vertex shader; drivers that drop it show no difference",
            remedy=Remedy("drop-varyings", program.steps, program=program.program, names=unread),
            program=program.program,
            stage=Stage.VERTEX,
            lines=lines,
        )


@finding(Rule("unused-output", "Shaders", Side.GPU, Effort.SHADER, cause=SHADER))
def unused_outputs(case: Case) -> Iterator[Finding]:
    """Outputs that no target takes."""
    frame = case.frame
    for program in case.shaders:
        record, fragment = frame.programs.get(program.program), program.stage(Stage.FRAGMENT)
        draws = [s for s in program.steps if frame.steps.kind_name(s) == "draw"]
        written = _outputs(record, fragment.text) if record and fragment else {}
        if fragment is None or not draws or not written:
            continue
        taken = {number for step in draws for number in frame.uses.colours_taken(step)}
        unread = sorted(name for name, number in written.items() if number not in taken)
        if not unread:
            continue
        lines = sorted(
            {
                k
                for k, text in enumerate(fragment.text.splitlines(), 1)
                if any(re.search(rf"\b{re.escape(name)}\b", text) for name in unread)
            }
        )
        yield Finding(
            id=f"unused-output-{program.program}",
            rule="unused-output",
            title=f"{program.label}: output {', '.join(unread)} {verb(len(unread), 'has', 'have')} no attachment",
            why=(
                "No colour is attached there in any of its steps, or all of it is masked. Drivers may drop the writing"
                " late or not at all."
            ),
            steps=program.steps,
            evidence={"fragments": program.fragments or 0, "lines": ", ".join(map(str, lines[:8]))},
            estimate_ms=None,
            how="",
            price="one more variant of the shader",
            conditions="no other frame draws with it into more targets; drivers that drop it show no difference",
            remedy=Remedy("drop-outputs", program.steps, program=program.program, names=unread),
            program=program.program,
            stage=Stage.FRAGMENT,
            lines=lines,
        )


def _outputs(record: Program, source: str) -> dict[str, int]:
    """Fragment output -> its number, by the source or as the program bound it; those whose number is left to the
    driver are left out.
    """
    try:
        declared = [d for d in Globals(source).declarations if d.has("out")]
    except UnclearSourceError:
        return {}
    found = {
        name: number
        for name, number in record.output_numbers.items()
        if any(n.text == name for d in declared for n in d.names)
    }
    for declaration in declared:
        location = next((m[1] for q in declaration.qualifiers if (m := re.search(r"\blocation\s*=\s*(\d+)", q))), None)
        for name in declaration.names:
            if location is not None and not name.array:
                found[name.text] = int(location)
    return found


@finding(Rule("fetched-twice", "Shaders", Side.GPU, Effort.SHADER, Verify.ADVICE, cause=SHADER))
def fetched_twice(case: Case) -> Iterator[Finding]:
    """Texture samples that come twice with the same arguments."""
    for program, stage in fragment_stages(case):
        assert stage.cost is not None
        lines = sorted(set(stage.cost.repeated_fetches))
        if lines:
            yield shader_finding(
                case,
                program,
                stage,
                "fetched-twice",
                lines,
                sum(stage.cost.lines.get(line, 0.0) for line in lines) / 2,
                f"{lines_that(lines, 'sampled')} twice: the same texel was sampled before",
                "Kept in a variable, one texture sample serves both.",
                {"repeated texture samples": len(stage.cost.repeated_fetches)},
                "none",
                "",
                None,
            )
