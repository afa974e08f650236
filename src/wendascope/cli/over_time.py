"""Commands about several frames, and about what the picture would be without one light or one part of a view."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from wendascope.cli._app import JsonOption, app, emit, progress, progress_end, put, typer
from wendascope.errors import UsageError
from wendascope.texts import three_digits

if TYPE_CHECKING:
    from wendascope.analysis.sequence.late_views import LateView
    from wendascope.analysis.sequence.over_time import PassOverTime


@app.command()
def sequence(
    file: Path,
    results: Annotated[
        bool, typer.Option("--results", help="Also replay every frame, and tell which passes come out the same again.")
    ] = False,
    views: Annotated[
        bool, typer.Option("--views", help="Also replay every frame with each secondary view as it was before.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """The frames of a sequence beside each other: which one is slow, and what it does that the others do not."""
    import msgspec

    from wendascope.analysis.sequence.over_time import frame_in_time, over_time, same_again
    from wendascope.frame.file import frame_count, load
    from wendascope.frame.places import frame_path

    paths = [frame_path(file, number) for number in range(1, frame_count(file) + 1)]
    found = over_time([frame_in_time(load(path), number) for number, path in enumerate(paths, 1)])
    again = _same_results(paths, json) if results else []
    late = _late_views(file, json) if views else []
    if json:
        more = {"results": msgspec.to_builtins(again), "views": msgspec.to_builtins(late)}
        emit({**msgspec.to_builtins(found), **more})
        return
    put(" ".join(filter(None, [found.sentence, found.why])))
    put(f"{'frame':>7}  {'ms':>8}  {'calls':>8}  {'waits':>8}  {'own':>8}  {'steps':>7}  {'passes':>6}  beside drawing")
    for at, row in enumerate(found.frames):
        times = "  ".join(f"{three_digits(ms):>8}" for ms in (row.ms, row.calls_ms, row.waits_ms, row.own_ms))
        mark, steps = ">" if at == found.slow else "", f"{row.steps:>7,}"
        put(f"{mark:>2}{row.number:>5}  {times}  {steps}  {row.passes:>6}  {row.beside}")
    for reason in found.reasons:
        put(f"reason: {reason}")
    if again:
        put("", f"{same_again(again, len(paths))}")
        put(f"{'alike':>7}  {'of':>5}  {'ms':>8}  pass")
        for item in again:
            ms = "" if item.ms is None else three_digits(item.ms)
            put(f"{item.alike:>7}  {item.frames:>5}  {ms:>8}  {item.name}")
    if late:
        _print_views(late)


def _late_views(file: Path, quiet: bool) -> list[LateView]:
    """Every secondary view as it was up to three frames ago, in all frames."""
    from wendascope.trials.survey.late_views import late_views

    found = late_views(file, progress(quiet))
    progress_end(quiet)
    return found.views


def _print_views(views: list[LateView]) -> None:
    from wendascope.analysis.sequence.late_views import RATES

    put(
        "",
        "Pixels of the picture that differ visibly where a view is drawn in every second, third, fourth frame only:",
    )
    put(f"{'second':>8}  {'third':>8}  {'fourth':>8}  {'changes':>7}  view")
    for view in views:
        worst = [view.worst(rate) for rate in RATES]
        cells = "  ".join(f"{'' if late is None else f'{late.pixels_far:,}':>8}" for late in worst)
        moved = ", moved by whole pixels" if view.scrolls else ""
        put(f"{cells}  {view.changes:>7}  {view.name}{moved}{f': {view.refused}' if view.refused else ''}")


def _same_results(paths: list[Path], quiet: bool) -> list[PassOverTime]:
    """Replay every frame pass by pass, and compare what comes out."""
    from wendascope import records
    from wendascope.analysis.sequence.over_time import same_results
    from wendascope.frame.passes import PassKey
    from wendascope.trials.survey.over_frames import sequence_results

    found = sequence_results(paths[0], progress(quiet))
    progress_end(quiet)
    ms = dict[PassKey, float]()
    for path, keys in zip(paths, found.keys, strict=True):
        survey = records.SURVEY.newest(path)
        if survey is not None and len(survey.passes) == len(keys):
            ms |= {key: p.ms for key, p in zip(keys, survey.passes, strict=True)}
    return same_results(found.digests, found.keys, found.names, ms)


@app.command()
def lights(
    file: Path,
    rest: Annotated[
        bool,
        typer.Option("--rest", help="First try what the survey had no time for. Kept in the file."),
    ] = False,
    json: JsonOption = False,
) -> None:
    """Lights, shadows and parts of other views: what each takes, and what of the picture changes without it."""
    from wendascope.frame.file import load
    from wendascope.replay.client import Replay
    from wendascope.trials.survey.examine import stored_left_out, try_stored_rest

    if rest:
        with Replay(file) as replay:
            try_stored_rest(file, replay, progress(json))
        progress_end(json)
    items = stored_left_out(file)
    if not items:
        raise UsageError(f"{file.name} was not surveyed yet, or has no lights and no second view: run survey first")
    if json:
        emit({"items": items})
        return
    width, height = load(file).size
    put(f"{'steps':>6}  {'ms':>8}  what, and what of the picture changes without it")
    for item in items:
        ms = "" if item.ms is None else three_digits(item.ms)
        name = f"{item.view}: {item.name}" if item.view else f"{item.name} ({item.kind.value})"
        put(f"{len(item.steps):>6,}  {ms:>8}  {name}: {item.effect(width * height)}")
