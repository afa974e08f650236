"""Commands about shaders and what was tried on a frame: programs, what limits them, edits, the log of trials."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from wendascope.cli._app import (
    JsonOption,
    app,
    emit,
    progress,
    progress_end,
    put,
    say,
    typer,
    verify_with,
    warn,
    warn_stored,
)
from wendascope.errors import FileError, UsageError
from wendascope.glsl.stages import ENDINGS
from wendascope.texts import share as per_cent

if TYPE_CHECKING:
    from wendascope.advice.findings import Finding
    from wendascope.analysis.shaders.study import ProgramStudy
    from wendascope.frame.frame import Frame
    from wendascope.trials.experiments.log import Log, Trial


def _studied(file: Path) -> tuple[Frame, list[ProgramStudy]]:
    """A frame and its programs, with times and counts where they were measured."""
    from wendascope import records
    from wendascope.advice.findings import Case
    from wendascope.analysis.geometry.drawn import Drawn
    from wendascope.frame.file import load
    from wendascope.trials.survey.examine import stored_examination

    frame = load(file)
    survey, (drawn, _) = records.SURVEY.newest(file), stored_examination(file)
    times = (survey.steps.ms, [p.ms for p in survey.passes], survey.submit_ms.median) if survey else (None, None, None)
    return frame, Case(frame, drawn or Drawn([], [], []), *times).study_shaders()


def _program(studies: list[ProgramStudy], number: int) -> ProgramStudy:
    found = next((study for study in studies if study.program == number), None)
    if found is None:
        raise UsageError(f"no step draws with program {number}; `wendascope shaders` lists those that do")
    return found


@app.command()
def shaders(
    file: Path,
    out: Annotated[Path | None, typer.Option(help="Also write the sources of all stages into this folder.")] = None,
    json: JsonOption = False,
) -> None:
    """Programs of a frame: times and counts as far as measured, costs by the model."""
    warn_stored(file, json)
    _, studies = _studied(file)
    if out is not None:
        from wendascope.files import write_files

        sources = {
            f"program-{s.program}{ENDINGS[t.stage]}": t.source.encode() for s in studies for t in s.stages if t.source
        }
        say(*(f"wrote {path}" for path in write_files(out, sources)))
    whole = sum(s.ms or 0.0 for s in studies)
    rows = [
        {
            "program": s.program,
            "title": s.title,
            "ms": s.ms,
            "share": s.ms / whole if s.ms is not None and whole else None,
            "steps": len(s.steps),
            "fragments": s.fragments,
            "vertices": s.vertices,
            "vertices_run": s.vertices_run,
            "fragment_cost": s.fragment_cost,
            "vertex_cost": s.vertex_cost,
            "registers": s.registers,
            "family": s.family,
            "stages": [
                {
                    "stage": t.name,
                    "cost": t.cost.total if t.cost else None,
                    "lines": t.cost.lines if t.cost else {},
                    "error": t.error,
                }
                for t in s.stages
            ],
        }
        for s in studies
    ]
    if json:
        emit({"programs": rows})
        return
    put(
        f"{'program':<44} {'ms':>8} {'steps':>6} {'fragments':>11} {'vert. run':>9} {'~fragment':>9} {'~vertex':>8}"
        f" {'family':>6}"
    )
    for row in rows:
        cells = [
            "" if row[k] is None else f"{row[k]:,.{digits}f}"
            for k, digits in (
                ("ms", 1),
                ("steps", 0),
                ("fragments", 0),
                ("vertices_run", 0),
                ("fragment_cost", 0),
                ("vertex_cost", 0),
                ("family", 0),
            )
        ]
        put(
            f"{str(row['title'])[:44]:<44} "
            + " ".join(f"{c:>{w}}" for c, w in zip(cells, (8, 6, 11, 9, 9, 8, 6), strict=True))
        )
    put("times and counts are measured, costs (~) are modelled: 1 is an addition")


@app.command()
def limits(
    file: Path,
    program: Annotated[
        int, typer.Option(help="Look at this program; without it, at the one that takes most time.", min=0)
    ] = 0,
    step: Annotated[int | None, typer.Option(help="Look at this step only.", min=0)] = None,
    repeats: Annotated[int, typer.Option(help="Repeats of all experiments.", min=6, max=1000)] = 8,
    json: JsonOption = False,
) -> None:
    """What limits a shader: experiments on the replayed frame, each with its time and its picture. Kept in the file."""
    from wendascope.replay.client import Replay
    from wendascope.trials.experiments.limits import find_limits

    frame, studies = _studied(file)
    if step is not None:
        if step >= len(frame.steps) or frame.steps.kind_name(step) != "draw":
            raise UsageError(f"step {step} is no draw of this frame")
        program = int(frame.steps.program[step])
    if not studies:
        raise UsageError("no step of this frame draws with a program")
    study = _program(studies, program) if program else studies[0]
    with Replay(file) as replay:
        warn(verify_with(replay, progress(json)), json)
        found = find_limits(file, study, replay, [step] if step is not None else None, repeats, progress(json))
    progress_end(json)
    if json:
        emit(found)
        return
    put(found.answer)
    put(
        f"{found.ms.median:.2f} ms ({found.ms.low:.2f} to {found.ms.high:.2f}), timed by {found.timed}, {found.repeats}"
        " repeats",
        "",
    )
    put(f"{'experiment':<32} {'saved ms':>9} {'interval':>19} {'share':>6} {'pixels':>10}")
    for item in found.experiments:
        if item.saved_ms is None:
            put(f"{item.title:<32} {item.refused}")
            continue
        share = "" if item.share is None else f"{per_cent(item.share)}"
        put(
            f"{item.title:<32} {item.saved_ms.median:>9.2f} {item.saved_ms.low:>9.2f} {item.saved_ms.high:>9.2f}"
            f" {share:>6} {item.pixels_different:>10,}"
        )


@app.command()
def edit(
    file: Path,
    program: Annotated[int, typer.Option(help="The program to change.", min=1)],
    fragment: Annotated[Path | None, typer.Option(help="File with its new fragment shader.")] = None,
    vertex: Annotated[Path | None, typer.Option(help="File with its new vertex shader.")] = None,
    note: Annotated[str, typer.Option(help="A note to keep with it.")] = "",
    seconds: Annotated[float, typer.Option(help="Longest measuring.", min=0.5, max=600)] = 6.0,
    json: JsonOption = False,
) -> None:
    """Replay the frame with other shader sources, measure it against the original, and keep that as a trial."""
    from wendascope.frame.remedy import EditedSource, Remedy
    from wendascope.glsl.compiler import CompileError, compile_glsl
    from wendascope.glsl.stages import Stage
    from wendascope.replay.client import Replay
    from wendascope.trials.experiments.log import attempt

    sources = []
    for name, path in (("fragment", fragment), ("vertex", vertex)):
        if path is not None:
            try:
                sources.append(EditedSource(Stage[name.upper()], path.read_text()))
            except (OSError, UnicodeDecodeError) as error:
                raise FileError(f"cannot read {path}: {error}") from error
    if not sources:
        raise UsageError("give a new source with --fragment or --vertex")
    frame, studies = _studied(file)
    study = _program(studies, program)
    for source in sources:
        try:
            compile_glsl(source.text, source.stage, frame.context.dialect)
        except CompileError as error:
            raise UsageError(f"the source does not compile: {error}") from error
    with Replay(file) as replay:
        warn(verify_with(replay, progress(json)), json)
        made = attempt(
            file,
            frame,
            f"{study.title} edited",
            [Remedy("edit-shader", study.steps, program=program, sources=sources)],
            replay,
            note,
            seconds,
            progress(json),
        )
    progress_end(json)
    if json:
        emit(made)
    else:
        put(f"{made.proof.told_verdict}: {made.title}  [{made.id}]", f"    {made.proof.summary}")


@app.command()
def trials(
    file: Path,
    keep: Annotated[list[str] | None, typer.Option(help="Keep this trial, by its id; may be repeated.")] = None,
    drop: Annotated[list[str] | None, typer.Option(help="Drop this trial; may be repeated.")] = None,
    note: Annotated[str, typer.Option(help="A note for the trials kept or dropped.")] = "",
    measure: Annotated[bool, typer.Option("--measure", help="Measure all kept trials as one edited frame.")] = False,
    out: Annotated[
        Path | None, typer.Option(help="Write sources, layouts and a summary of the kept trials into this folder.")
    ] = None,
    seconds: Annotated[float, typer.Option(help="Longest measuring.", min=0.5, max=600)] = 6.0,
    json: JsonOption = False,
) -> None:
    """Everything that was tried on a frame; keep some, measure those together, write them out."""
    from wendascope.replay.client import Replay
    from wendascope.report.trials import write_trials
    from wendascope.trials.experiments.log import DROPPED, KEPT, kept_of, mark, measure_kept

    frame, _, rows = _log(file)
    warn_stored(file, json)
    known = {row.id: row for row in rows}
    for state, chosen in ((KEPT, keep or []), (DROPPED, drop or [])):
        for identity in chosen:
            if identity not in known:
                raise UsageError(f"{file.name} has no trial {identity}; `wendascope trials {file}` lists them")
            mark(file, identity, state, note or known[identity].note)
    frame, log, rows = _log(file)
    if measure:
        kept_of(rows)
        with Replay(file) as replay:
            warn(verify_with(replay, progress(json)), json)
            log.together = measure_kept(file, frame, rows, replay, seconds, progress(json))
        progress_end(json)
    written = write_trials(frame, file.name, kept_of(rows), log.together, out) if out is not None else []
    if json:
        emit({"trials": rows, "together": log.together, "files": [str(path) for path in written]})
        return
    for row in rows:
        put(f"{row.state or '-':<8} {row.kind:<11} {row.verdict:<32} {row.title}  [{row.id}]")
        put(f"    {row.told}", *([f"    note: {row.note}"] if row.note else []))
    if not rows:
        put("nothing was tried on this frame yet")
    if log.together is not None:
        put(f"kept together, {len(log.together.together)}: {log.together.told_verdict}", f"    {log.together.summary}")
    for path in written:
        say(f"wrote {path}")


def _log(file: Path) -> tuple[Frame, Log, list[Trial]]:
    from wendascope.frame.file import load
    from wendascope.trials.experiments.limits import stored_limits
    from wendascope.trials.experiments.log import stored_log, trials_of
    from wendascope.trials.proofs.proof import stored_proofs
    from wendascope.trials.survey.examine import stored_examination

    frame = load(file)
    findings: list[Finding] = stored_examination(file)[1]
    log = stored_log(file)
    return frame, log, trials_of(log, findings, stored_proofs(file), stored_limits(file).values())
