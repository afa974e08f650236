"""Commands that look at a frame: what is in it, whether it replays, its times and pictures."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from wendascope.cli._app import (
    JsonOption,
    app,
    check,
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
from wendascope.errors import UsageError
from wendascope.texts import share, three_digits

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame
    from wendascope.measure.records import Verification

GROUPINGS = ("pass", "role", "viewport", "purpose", "program", "mesh", "textures", "material", "debug group")
LENSES = ("colour", "batch", "density", "depth", "layers", "rasterised", "owner", "owner-program")


@app.command()
def show(
    file: Path,
    by: Annotated[
        str, typer.Option(help=f"Show the steps in groups instead, the most expensive first: {', '.join(GROUPINGS)}.")
    ] = "",
    json: JsonOption = False,
) -> None:
    """What is in a file: api, profile, size, calls, steps, passes, caveats."""
    import msgspec

    from wendascope.frame.file import frame_count, load
    from wendascope.frame.summary import summarise

    if by and by not in GROUPINGS:
        raise UsageError(f"steps are not grouped by {by!r}; choose one of {', '.join(GROUPINGS)}")
    frame = load(file)
    warn_stored(file, json)
    if by:
        _show_groups(frame, file, by, json)
        return
    summary = summarise(frame)
    frames = frame_count(file)
    if json:
        emit({**msgspec.to_builtins(summary), "frames": frames})
        return
    for label, value in (
        ("file", file),
        ("program", summary.program),
        ("captured", f"{summary.captured_at}, frame {summary.frame_number}"),
        ("sequence", f"{frames} frames: {file.name}#2 is the second" if frames > 1 else "no: one frame"),
        ("context", f"{summary.api}, {summary.renderer}"),
        ("window", f"{summary.width} x {summary.height}"),
        ("calls", f"{summary.calls:,}"),
        ("steps", f"{summary.steps:,}"),
        ("vertices", f"{summary.vertices:,}"),
        ("triangles", f"{summary.triangles:,}"),
        ("objects", ", ".join(f"{n} {what}" for what, n in summary.objects.items())),
        ("own frame time", f"{summary.target_frame_ms:.2f} ms" if summary.target_frame_ms else "not known"),
    ):
        put(f"{label:>15}  {value}")
    put(f"{'passes':>15}  {len(summary.passes)}")
    for item in summary.passes:
        put(f"{'':>15}  {item.name:<32} {item.steps:>6} steps  {item.width} x {item.height}")
    for caveat in summary.caveats or ["none"]:
        put(f"{'caveats':>15}  {caveat}")


def _show_groups(frame: Frame, file: Path, by: str, json: bool) -> None:
    from wendascope import records
    from wendascope.measure.group_sums import group_sums

    survey = records.SURVEY.newest(file)
    found = group_sums(frame, by, survey)
    if json:
        emit(found)
        return
    put(f"{'ms alone':>10}  {'share':>6}  {'steps':>6}  {'passes':>6}  {'triangles':>11}  {'fragments':>12}  {by}")
    for item in found:
        ms = "" if item.ms is None else three_digits(item.ms)
        part = "" if item.share is None else share(item.share, 1)
        counted = "" if item.fragments is None else f"{item.fragments:,}"
        sizes = f"{item.steps:>6,}  {item.passes:>6}  {item.triangles:>11,}  {counted:>12}"
        put(f"{ms:>10}  {part:>6}  {sizes}  {item.name}")
    if survey is None:
        say("not measured yet: run wendascope survey first to have times")


@app.command()
def verify(file: Path, json: JsonOption = False) -> None:
    """Replay a frame, or every frame of a sequence, and compare it with the picture the program made. Exit 1 when any
    differs.
    """
    import msgspec

    from wendascope.frame.file import frame_count
    from wendascope.frame.places import frame_path, place_of
    from wendascope.replay.client import Replay

    check(file)
    # a path to one frame of a sequence means that one
    numbers = range(1, frame_count(file) + 1) if place_of(file)[0] == file else [place_of(file)[1]]
    paths, results = [frame_path(file, number) for number in numbers], []
    for path in paths:
        with Replay(path) as replay:
            results.append(verify_with(replay, progress(json)))
        progress_end(json)
        if not json:
            _print_verification(results[-1], f"{path.name}: " if len(paths) > 1 else "")
    if json:
        several = {
            "identical": all(r.identical for r in results),
            "frames": [{"file": str(p), **msgspec.to_builtins(r)} for p, r in zip(paths, results, strict=True)],
        }
        emit(results[0] if len(results) == 1 else several)
    if not all(result.identical for result in results):
        raise typer.Exit(1)


def _print_verification(result: Verification, name: str) -> None:
    if result.identical:
        put(f"{name}identical: all {result.pixels:,} pixels")
    else:
        put(
            f"{name}different: {result.pixels_different:,} of {result.pixels:,} pixels, by up to"
            f" {result.max_difference} of 255"
        )
    if result.depth_different is not None:
        put(f"depth: {'identical' if not result.depth_different else f'{result.depth_different:,} pixels differ'}")
    for caveat in result.caveats:
        put(f"caveat: {caveat}")


@app.command()
def survey(
    file: Path,
    html: Annotated[Path | None, typer.Option(help="Also write a report to this file.")] = None,
    csv: Annotated[Path | None, typer.Option(help="Also write tables into this folder.")] = None,
    trace: Annotated[
        Path | None, typer.Option(help="Also write the recorded calls to this file, as trace-event JSON.")
    ] = None,
    report: Annotated[
        list[str] | None,
        typer.Option(help="Also write a report in any form, as FORM=PATH; may be given several times."),
    ] = None,
    budget: Annotated[float, typer.Option(help="Frame time budget in milliseconds.", min=0.1)] = 16.7,
    repeats: Annotated[int, typer.Option(help="Timed runs of each kind.", min=1, max=1000)] = 6,
    top: Annotated[int, typer.Option(help="How many steps to list.", min=0)] = 10,
    until: Annotated[
        str,
        typer.Option(help="Stop after this stage: times, coverage, first rules, left out, memory ..."),
    ] = "",
    seconds: Annotated[
        float | None,
        typer.Option(help="Stop after so many seconds, with what was measured; the times come first.", min=1),
    ] = None,
    resume: Annotated[
        bool, typer.Option("--resume", help="Go on where an earlier survey of this file was stopped.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Measure a frame: times, layers and triangles, and what to change. Kept in the file."""
    from wendascope.report.formats import form_named
    from wendascope.report.survey import survey_document
    from wendascope.trials.proofs.proof import stored_proofs
    from wendascope.trials.survey.examine import examine_file

    named = [(name, path) for name, path in (("html", html), ("csv", csv), ("trace", trace)) if path is not None]
    for text in report or []:
        name, given, place = text.partition("=")
        if not given or not place:
            raise UsageError(f"--report {text} is not FORM=PATH, as in --report html=page.html")
        named.append((name, Path(place)))
    wanted = [(form_named(name), path) for name, path in named]
    examined = examine_file(file, repeats, progress(json), until=until, seconds=seconds, resume=resume)
    progress_end(json)
    result = examined.survey
    warn(result.verification, json)
    document = survey_document(
        examined.frame, result, budget, examined.drawn, examined.findings, stored_proofs(file), examined.refuted
    )
    for form, path in wanted:
        form.write(document, path, file)
        if not json:
            say(f"wrote {path}")
    if json:
        emit(document)
        return
    put(document.sentence)
    for doubt in document.doubts:
        put(f"caution: {doubt}")
    put(f"by {result.method} ({result.calibration.reason}), {result.repeats} repeats; on {result.renderer}")
    put(
        f"picture: {'identical' if result.verification.identical else 'DIFFERENT from the reference; times are marked'}"
    )
    put()
    wide = max(4, *(len(row.name) for row in document.passes)) if document.passes else 4
    put(f"{'pass':<{wide}} {'steps':>6} {'ms':>9} {'interval':>19} {'share':>7} {'CPU ms':>8}")
    for row in sorted(document.passes, key=lambda p: -p.ms):
        put(
            f"{row.name:<{wide}} {row.steps:>6} {row.ms:>9.3f} {row.ms_low:>9.3f} {row.ms_high:>9.3f} {row.share:>7.1%}"
            f" {row.cpu_ms:>8.3f}"
        )
    put()
    put(f"{'step':>6}  {'pass':<{wide}} {'what':<34} {'ms alone':>9} {'triangles':>10} {'fragments':>10}")
    for step in sorted(document.steps, key=lambda s: -s.ms)[:top]:
        count = "" if step.fragments is None else f"{step.fragments:,}"
        pass_name = document.passes[step.pass_].name
        put(f"{step.index:>6}  {pass_name:<{wide}} {step.name:<34} {step.ms:>9.3f} {step.triangles:>10,} {count:>10}")
    put()
    for finding in document.findings:
        gain = "" if finding.estimate_ms is None else f"{finding.estimate_ms:.2f}"
        put(f"{gain:>8}  {finding.title}  [{finding.id}, {finding.state}]")
    for item in document.refuted:
        put(f"refuted by replay, so not claimed: {item.title} ({item.reason})")
    for caveat in document.caveats:
        put(f"caveat: {caveat}")
    put()
    cpu = result.cpu
    put(
        f"CPU while recorded: {cpu.frame_ms:.2f} ms: {cpu.calls_ms:.2f} ms in OpenGL calls, {cpu.waits_ms:.2f} ms in"
        f" calls that wait, {cpu.program_ms:.2f} ms outside OpenGL"
    )
    put(document.paced_by)
    for wait in document.waits[:5]:
        put(f"  {wait.ms:.2f} ms in {wait.command}, call {wait.call:,}: waits for {wait.what}")


@app.command()
def picture(
    file: Path,
    out: Annotated[Path, typer.Option(help="PNG file to write.")],
    step: Annotated[
        int | None, typer.Option(help="Show the target after this step; without it, the finished picture.", min=0)
    ] = None,
    lens: Annotated[str, typer.Option(help="How to see it: " + ", ".join(LENSES) + ".")] = "colour",
    json: JsonOption = False,
) -> None:
    """Write one picture of a frame."""
    from PIL import Image

    from wendascope.files import write_atomically
    from wendascope.frame.file import load
    from wendascope.measure.lenses import lens_named
    from wendascope.measure.pictures import picture_at
    from wendascope.replay.client import Replay

    chosen = lens_named(lens)
    frame = load(file)
    if step is not None and step >= len(frame.steps):
        raise UsageError(f"there is no step {step}; the frame has steps 0 to {len(frame.steps) - 1}")
    with Replay(file) as replay:
        warn(verify_with(replay, progress(json)), json)
        found = replay.run(picture_at.asked(step, lens), progress(json))
    progress_end(json)
    image = Image.fromarray(chosen.paint(found))
    write_atomically(out, lambda path: image.save(path, "PNG"))
    if json:
        emit({"file": str(out), "width": image.width, "height": image.height, "target": found["name"]})
    else:
        put(out)
