"""Commands for whoever merges changes: a frame against its budget."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from wendascope.cli._app import JsonOption, app, emit, progress, progress_end, put, say, typer
from wendascope.errors import UsageError

if TYPE_CHECKING:
    from wendascope.task import Task
    from wendascope.trials.checks.budget import Taken
    from wendascope.trials.checks.checking import Check, Checked


@app.command(name="check")
def check_budget(
    budget: Annotated[Path, typer.Argument(help="The budget file (TOML), or with --init the frame to begin with.")],
    files: Annotated[
        list[str] | None,
        typer.Argument(
            help="Frames to check, or after -- a program to take one of.", metavar="[FILE... | -- PROGRAM ARGS...]"
        ),
    ] = None,
    baseline: Annotated[Path | None, typer.Option(help="The frame that limits with a sign are counted from.")] = None,
    init: Annotated[bool, typer.Option("--init", help="Print a budget for a frame, with room to spare.")] = False,
    room: Annotated[float, typer.Option(help="With --init: per cent to spare.", min=0.0, max=1000.0)] = 10.0,
    seconds: Annotated[float, typer.Option(help="What measuring may take for each frame.", min=0.0)] = 0.0,
    sarif: Annotated[Path | None, typer.Option(help="Write the result as SARIF; - is standard output.")] = None,
    junit: Annotated[Path | None, typer.Option(help="Write the result as JUnit XML; - is standard output.")] = None,
    markdown: Annotated[Path | None, typer.Option(help="Write the result as Markdown; - is standard output.")] = None,
    html: Annotated[Path | None, typer.Option(help="Write the result as HTML; - is standard output.")] = None,
    json: JsonOption = False,
) -> None:
    """Check frames against a budget. Exit code 1 when a limit is exceeded."""
    from wendascope.report.checks import check_forms
    from wendascope.trials.checks.budget import read_budget
    from wendascope.trials.checks.checking import check_files

    show = progress(json)
    if init:
        _init(budget, files or [], room, show, json)
        return
    limits = read_budget(budget)
    if seconds:
        limits.seconds = seconds
    with tempfile.TemporaryDirectory(prefix="wendascope-") as folder:
        frames = _frames(files or [], limits.capture, Path(folder), show, budget)
        found = check_files(frames, limits, budget, baseline, show)
    progress_end(json)
    written = {"sarif": sarif, "junit": junit, "markdown": markdown, "html": html}
    for name, path in written.items():
        if path is not None:
            form = check_forms()[name]
            if str(path) == "-":
                put(*form.text(found).splitlines())
            else:
                form.write(found, path)
    if json:
        emit({"passed": found.passed, "sentence": found.sentence, **_built(found)})
    elif not any(str(path) == "-" for path in written.values()):
        _table(found)
    if not found.passed:
        raise typer.Exit(1)


def _init(frame: Path, files: list[str], room: float, show: Task, json: bool) -> None:
    from wendascope.trials.checks.first_budget import first_budget

    if files:
        raise UsageError(f"--init makes a budget of one frame: leave out {files[0]}")
    text = first_budget(frame, room / 100, show)
    progress_end(json)
    if json:
        emit({"budget": text})
    else:
        put(*text.rstrip("\n").split("\n"))


def _frames(files: list[str], taken: Taken, folder: Path, show: Task, budget: Path) -> list[Path]:
    """The files that are given, or one that is taken of a program now."""
    if not files:
        raise UsageError(f"name frames to check against {budget}, or a program after --")
    if all(name.partition("#")[0].endswith(".wend") for name in files):
        return [Path(name) for name in files]
    from wendascope.frame.file import save
    from wendascope.tap.launch import Target, Trigger

    path = folder / f"{Path(files[0]).stem or 'program'}.wend"
    with Target(files, echo=say) as target:
        save(target.capture(Trigger(taken.frame, taken.after), taken.timeout, show), path)
    return [path]


def _built(found: object) -> dict[str, object]:
    import msgspec

    return dict(msgspec.to_builtins(found))


def _table(found: Checked) -> None:
    """What is not kept first; then all of it."""
    rank = {"fail": 0, "warn": 1, "pass": 2}
    for frame in found.frames:
        put(frame.file)
        for warning in frame.warnings:
            say(f"WARNING: {warning}")
        rows = [_row(item) for item in sorted(frame.checks, key=lambda item: rank[item.counts_as])]
        widths = [max(len(row[k]) for row in rows) for k in range(5)]
        for row in rows:
            cells = [row[0].ljust(widths[0]), row[1].ljust(widths[1]), row[2].rjust(widths[2])]
            put(f"  {'  '.join(cells)} of {row[3].rjust(widths[3])}  {row[4]}")
    put(("within budget: " if found.passed else "over budget: ") + found.sentence)


def _row(item: Check) -> tuple[str, str, str, str, str]:
    from wendascope.trials.checks.checking import State

    state = {"fail": item.state.value.upper(), "warn": item.state.value}.get(item.counts_as, item.state.value)
    more = item.why if item.state is State.UNSURE else item.note if item.state is State.OVER else ""
    if item.base is not None:
        state += f", {item.text(item.base)} in the baseline"
    return item.what, item.where, item.text(item.value), item.text(item.allowed), state + (f": {more}" if more else "")


@app.command(name="bisect-frame")
def bisect_frame(
    before: Path,
    after: Path,
    repeats: Annotated[int, typer.Option(help="Runs of both frames in turns.", min=6)] = 12,
    seconds: Annotated[float, typer.Option(help="Longest measuring for one change.", min=0.5, max=600)] = 6.0,
    json: JsonOption = False,
) -> None:
    """What changed between two frames of a program, and what each change accounts for: taken back in the later one."""
    from wendascope.cli._app import check
    from wendascope.measure.deciding import Decision
    from wendascope.trials.checks.changes import bisect_frames

    check(before)
    check(after)
    show = progress(json)
    found = bisect_frames(before, after, repeats, seconds, show)
    progress_end(json)
    if json:
        emit({"sentence": found.sentence, **_built(found)})
        return
    put(found.sentence)
    for item in found.changes:
        taken = "-" if item.ms is None else f"{item.ms.median:+.2f} ({item.ms.low:+.2f} to {item.ms.high:+.2f}) ms"
        steps = f"  steps {item.steps[0]:,} to {item.steps[-1]:,}" if len(item.steps) > 1 else ""
        put(f"  {taken:<32}{item.cause.value}: {item.pass_}: {item.what}{steps}")
        why = f"not taken back: {item.untried}" if item.untried else "cannot be told at this noise"
        if item.untried or (item.ms is not None and not item.told and item.decision is not Decision.SMALL):
            put(f"{'':<34}{why}")
    for warning in found.comparison.warnings:
        say(f"WARNING: {warning}")
