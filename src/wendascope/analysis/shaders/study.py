"""Who spends the vertices and fragments of a frame, and what one invocation of each shader costs by the model."""

from __future__ import annotations

from collections import Counter, defaultdict
from dataclasses import dataclass, field

import numpy as np

from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.shaders.cost import Number, ShaderCost, shader_cost
from wendascope.analysis.shaders.flow import Flow, shader_flow
from wendascope.analysis.shaders.live import live_inputs, live_instructions
from wendascope.frame.frame import Frame
from wendascope.frame.resources import Program, Shader
from wendascope.glsl.compiler import CompileError, compile_ahead, compile_glsl
from wendascope.glsl.preprocessor import Code, Dialect, PreprocessorError, preprocessed
from wendascope.glsl.spirv import INPUT, OUTPUT, BadModuleError, Module, check_followable, read_module
from wendascope.glsl.stages import STAGE_NAMES, Stage
from wendascope.glsl.words import tokens
from wendascope.texts import capital, plural, sentence, share


@dataclass
class StageStudy:
    """One stage of one program."""

    program: int
    stage: int
    source: str
    cost: ShaderCost | None
    """By the model; None where the source is not understood."""
    error: str
    inputs: dict[str, int] = field(default_factory=dict)
    outputs: dict[str, int] = field(default_factory=dict)
    """Name -> scalars."""
    read: set[str] = field(default_factory=set)
    """Inputs that the stage reads at all."""
    flow: Flow | None = None
    """Of a fragment shader that is understood."""
    code: Code | None = None
    """What of the source is compiled; None where that cannot be told."""

    @property
    def text(self) -> str:
        """What of the source is compiled, else all of it."""
        return self.code.text if self.code else self.source

    @property
    def name(self) -> str:
        return STAGE_NAMES.get(self.stage, "shader")


@dataclass
class ProgramStudy:
    """One program that draws or dispatches."""

    program: int
    label: str
    family: int
    """Programs that differ in nothing but constants and defines have one number."""
    steps: list[int]
    vertices: int
    """Submitted."""
    fragments: int | None
    """Counted; None before they were."""
    ms: float | None
    """Measured time of its steps, each with its part of its pass."""
    stages: list[StageStudy]
    passes: list[str] = field(default_factory=list)
    """Names of the passes that its steps are in, those with most steps first."""
    vertices_run: int | None = None
    """Vertex shaders run, as the driver counts; None before that, or where it does not."""

    @property
    def title(self) -> str:
        """The label, with where it draws."""
        if not self.passes:
            return self.label
        more = f" and {len(self.passes) - 1} more" if len(self.passes) > 1 else ""
        return f"{self.label} ({self.passes[0]}{more})"

    def stage(self, kind: int) -> StageStudy | None:
        return next((s for s in self.stages if s.stage == kind), None)

    @property
    def fragment_cost(self) -> float | None:
        found = self.stage(Stage.FRAGMENT)
        return found.cost.total if found and found.cost else None

    @property
    def vertex_cost(self) -> float | None:
        found = self.stage(Stage.VERTEX)
        return found.cost.total if found and found.cost else None

    @property
    def registers(self) -> int:
        """Of four numbers each, that hand values from the vertices to the fragments: an input has one or more to
        itself.
        """
        found = self.stage(Stage.FRAGMENT)
        return sum(-(-scalars // 4) for scalars in found.inputs.values()) if found else 0

    @property
    def modelled(self) -> float | None:
        """Cost of all its vertices and fragments by the model."""
        if self.fragments is None or self.fragment_cost is None:
            return None
        vertices = self.vertices if self.vertices_run is None else self.vertices_run
        return self.fragments * self.fragment_cost + vertices * (self.vertex_cost or 0.0)


def study_shaders(
    sharing: Sharing, drawn: Drawn | None = None, step_ms: list[float] | None = None
) -> list[ProgramStudy]:
    """All programs that steps use, the most expensive first. `step_ms` are times of steps as parts of their passes.
    Raises MachineError.
    """
    frame = sharing.frame
    constant = constant_uniforms(sharing)
    found = []
    used = [sharing.programs.get(name) for name in np.unique(frame.steps.program).tolist()]
    shaders = [s for record in used if record is not None for s in record.shaders if s.source and not s.spirv]
    compile_ahead([(s.source, s.stage) for s in shaders], frame.context.dialect)
    for name in np.unique(frame.steps.program).tolist():
        record = sharing.programs.get(name)
        steps = [
            s
            for s in np.flatnonzero(frame.steps.program == name).tolist()
            if frame.steps.kind_name(s) in ("draw", "dispatch")
        ]
        if record is None or not steps:
            continue
        values = frame.uses.scalar_values(name, steps[-1], constant.get(name, set()))
        filters = _filters(sharing, name, steps[-1])
        stages = _stages(record, values, filters, frame.context.dialect, _taken(frame, steps))
        fragments = sum(max(drawn.steps[s].fragments, 0) for s in steps) if drawn else None
        ms = sum(step_ms[s] for s in steps) if step_ms else None
        vertices = int(np.asarray(frame.steps.vertices)[steps].sum())
        found.append(
            ProgramStudy(
                name,
                record.label or f"program {name}",
                0,
                steps,
                vertices,
                fragments,
                ms,
                stages,
                _passes(frame, steps),
                _run(drawn, steps),
            )
        )
    families: dict[tuple[str, ...], int] = {}
    for program in found:
        key = tuple(_without_constants(s.text) for s in program.stages)
        program.family = families.setdefault(key, len(families) + 1)
    return sorted(found, key=lambda p: -(p.ms if p.ms is not None else p.modelled or p.fragment_cost or 0.0))


def _run(drawn: Drawn | None, steps: list[int]) -> int | None:
    counts = [drawn.steps[s].vertices_run for s in steps] if drawn else [-1]
    return None if min(counts) < 0 else sum(counts)


def _passes(frame: Frame, steps: list[int]) -> list[str]:
    counts = Counter(frame.passes.of_step[steps].tolist())
    return [frame.passes.short_names[index] for index, _ in counts.most_common()]


def _filters(sharing: Sharing, program: int, step: int) -> dict[str, float]:
    """Sampler -> what a texture sample costs by its texture's filter, as a part of the most expensive."""
    table, found = guidelines().operations, {}
    costs = {"nearest": table.nearest, "linear": table.linear}
    for use in sharing.samplers:
        if use.program != program:
            continue
        texture = sharing.frame.textures.get(int(use.textures[np.searchsorted(use.steps, step)]))
        if texture is not None and texture.filter in costs:
            found[use.sampler] = costs[texture.filter]
    return found


def _taken(frame: Frame, steps: list[int]) -> set[int]:
    """Numbers of the fragment outputs that some steps take."""
    masked = frame.uses.writes_no_colour
    return set().union(*(frame.uses.colours_taken(step) for step in steps if not masked[step]))


def _stages(
    record: Program, values: dict[str, Number], filters: dict[str, float], dialect: Dialect, taken: set[int]
) -> list[StageStudy]:
    """Every stage of a program. Of fragments counts what reaches the outputs that are taken; of vertices alone before
    them, what the fragments read.
    """
    modules: dict[int, Module] = {}
    studies = [_read(record, shader, dialect, modules) for shader in record.shaders]
    fragments = modules.get(Stage.FRAGMENT)
    live, unread = set[int](), set[str]()
    if fragments is not None:
        live = live_instructions(fragments, _outputs(fragments, record, taken))
        if set(modules) == {Stage.FRAGMENT, Stage.VERTEX} and len(studies) == len(modules):
            unread = set(fragments.interface(INPUT)) - live_inputs(fragments, live)
    for study in studies:
        module = modules.get(study.stage)
        if module is None:
            continue
        if study.stage == Stage.FRAGMENT:
            effective = live
        else:
            kept = {n for n, name in _output_names(module).items() if name not in unread}
            effective = live_instructions(module, kept)
        study.cost = shader_cost(module, guidelines().operations, values, filters, effective)
        study.flow = shader_flow(module, study.cost.results) if study.stage == Stage.FRAGMENT else None
        study.inputs, study.outputs, study.read = module.interface(INPUT), module.interface(OUTPUT), module.loaded()
    return studies


def _read(record: Program, shader: Shader, dialect: Dialect, modules: dict[int, Module]) -> StageStudy:
    """A stage without its cost; its module goes with the others by its kind."""
    study = StageStudy(record.name, shader.stage, shader.source, None, "")
    try:
        study.code = preprocessed(shader.source, dialect) if shader.source else None
        module = read_module(shader.spirv or compile_glsl(shader.source, shader.stage, dialect))
        check_followable(module)
        modules[shader.stage] = module
    except (PreprocessorError, CompileError, BadModuleError) as error:
        study.error = str(error)
    return study


def _output_names(module: Module) -> dict[int, str]:
    return {n: module.names.get(n, "") for n, made in module.variables.items() if made.operands[2] == OUTPUT}


def _outputs(module: Module, record: Program, taken: set[int]) -> set[int]:
    """Output variables of a fragment shader that are taken. One that has no known place is when any is."""
    places = {n: record.output_numbers.get(name, module.locations.get(n)) for n, name in _output_names(module).items()}
    return {n for n, place in places.items() if (place in taken if place is not None else bool(taken))}


def constant_uniforms(sharing: Sharing) -> dict[int, set[str]]:
    """Program -> uniforms that have one value in all its steps."""
    changing: dict[int, set[str]] = defaultdict(set)
    for detail in sharing.details:
        if detail.aspect == "uniform" and len(detail.numbers) and (detail.numbers != detail.numbers[0]).any():
            changing[detail.program].add(detail.name)
    return {name: set(record.plain_uniforms) - changing[name] for name, record in sharing.programs.items()}


def _without_constants(source: str) -> str:
    """The source as it reads when its numbers are left out."""
    return " ".join("0" if t.kind == "number" else t.text for t in tokens(source) if t.kind not in ("space", "comment"))


def shaders_answer(programs: list[ProgramStudy]) -> tuple[str, str]:
    """(answer, evidence) to which shaders cost."""
    if not programs:
        return "No draw uses a program.", ""
    worst = programs[0]
    total = sum(p.ms or 0.0 for p in programs)
    failed = sum(1 for p in programs for s in p.stages if s.cost is None)
    not_read = f" {failed} shaders are not understood." if failed else ""
    if not total:
        dearest = max(programs, key=lambda p: p.fragment_cost or 0.0)
        return (
            (
                f"{capital(dearest.label)} has the most expensive fragments of {plural(len(programs), 'program')}"
                " (modelled)."
            ),
            f"Press Ctrl+M for times and counts.{not_read}",
        )
    answer = f"{capital(worst.label)} takes {share((worst.ms or 0.0) / total)} of the time of draws with programs."
    parts = [f"{worst.ms or 0.0:.1f} of {total:.1f} ms"]
    if worst.fragments and worst.fragment_cost is not None:
        parts.append(f"{worst.fragments:,} fragments, about {worst.fragment_cost:,.0f} additions each (modelled)")
    found = worst.stage(Stage.FRAGMENT)
    if found is not None and found.cost is not None and found.cost.lines:
        line, cost = max(found.cost.lines.items(), key=lambda item: item[1])
        parts.append(f"the most expensive line is {line}, with {share(cost / max(found.cost.total, 1e-9))} of that")
    families = len({p.family for p in programs})
    evidence = (
        sentence("; ".join(parts)) + " " if parts else ""
    ) + f"{len(programs)} programs in {families} sets of variants. Times and counts are measured, costs modelled."
    return answer, evidence + not_read
