"""Commands that try changes of a frame and compare frames."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from wendascope.cli._app import JsonOption, app, check, emit, progress, progress_end, say, typer
from wendascope.errors import UsageError


@app.command()
def prove(
    file: Path,
    finding: Annotated[str, typer.Option(help="Prove this finding only, by its id.")] = "",
    every: Annotated[bool, typer.Option("--all", help="Prove every finding, and all that held as one edited frame.")] = False,
    repeats: Annotated[int, typer.Option(help="Pairs of replays.", min=6, max=1000)] = 12,
    code: Annotated[Path | None, typer.Option(help="Also write the shaders, data layouts and calls of batches into this folder.")] = None,
    json: JsonOption = False,
) -> None:
    """Try the remedies of findings on the frame itself: replayed in turns with the original, measured, compared. Kept in the file."""
    from wendascope.frame.file import load
    from wendascope.replay.client import Replay
    from wendascope.report.code import write_code
    from wendascope.trials.examine import examine_file, stored_examination
    from wendascope.trials.proof import prove as prove_findings
    from wendascope.trials.proof import prove_all, told

    if bool(finding) == every:
        raise UsageError("choose one finding with --finding ID, or --all; `wendascope survey` lists them")
    show = progress(json)
    combined = None
    frame = load(file)
    with Replay(file) as replay:
        drawn, findings = stored_examination(file)
        if drawn is None:
            if not json:
                say("this frame was not measured yet; measuring it first")
            findings = examine_file(file, progress=show, replay=replay).findings
        if finding:
            chosen = [item for item in findings if item.id == finding]
            if not chosen:
                raise UsageError(f"{file.name} has no finding {finding}; `wendascope survey` lists them")
            proofs = [prove_findings(file, frame, chosen, replay, repeats, show)]
        else:
            chosen = findings
            proofs, combined = prove_all(file, frame, findings, replay, repeats, show)
    progress_end(json)
    if code is not None:
        for path in write_code(frame, chosen, code):
            say(f"wrote {path}")
    titles = {item.id: item.title for item in findings}
    if json:
        emit({"proofs": [told(p) for p in proofs]} | ({"combined": told(combined) if combined else None} if every else {}))
        return
    for proof in [*proofs, *([combined] if combined else [])]:
        print(f"{proof.verdict}: {titles.get(proof.finding, 'all that held, together')}  [{proof.finding}]")
        print(f"    {proof.summary}")
        if proof.submitting:
            print(f"    {proof.submitting}")


@app.command()
def atlas(
    file: Path,
    out: Annotated[Path, typer.Option(help="Folder to write pages, rectangles and figures into; it is made.")],
    page: Annotated[int, typer.Option(help="Largest width and height of a page in pixels; 0 for the yardstick.", min=0, max=32768)] = 0,
    padding: Annotated[int, typer.Option(help="Pixels round each texture, for its border repeated.", min=0, max=256)] = 2,
    rotation: Annotated[bool, typer.Option("--rotation", help="Textures may be turned by a quarter.")] = False,
    power_of_two: Annotated[bool, typer.Option("--power-of-two", help="Pages as wide and high as a power of two.")] = False,
    json: JsonOption = False,
) -> None:
    """Plan atlas pages for textures that are drawn together: pages as PNG, rectangles as JSON and CSV."""
    import msgspec

    from wendascope.analysis.atlas import Options, plan_atlases
    from wendascope.analysis.sharing import Sharing
    from wendascope.frame.file import load
    from wendascope.report.atlas import write_atlas

    frame = load(file)
    plans = plan_atlases(Sharing(frame), Options(page, padding, rotation, power_of_two))
    written = write_atlas(frame, plans, padding, out)
    if json:
        emit({"files": [str(path) for path in written], "atlases": [msgspec.to_builtins(plan) for plan in plans]})
        return
    for plan in plans:
        print(f"{plan.title}: {len(plan.steps)} draws read {plan.textures} textures; {plan.draws_then} would do with {len(plan.pages)} pages")
        for number, found in enumerate(plan.pages):
            print(f"  page {number + 1}: {found.width} x {found.height}, {len(found.places)} textures, {found.wasted:.0%} free")
        print(f"  memory: {plan.bytes_before:,} bytes now, {plan.bytes_after:,} then")
        for reason, names in plan.left_out.items():
            print(f"  not on a page, {reason}: {', '.join(map(str, names))}")
        for caveat in plan.caveats:
            print(f"  {caveat}")
    if not plans:
        print("no textures are drawn together that could share a page")
    for path in written:
        say(f"wrote {path}")


@app.command()
def compare(
    before: Path,
    after: Path,
    repeats: Annotated[int, typer.Option(help="Timed runs of each frame, taken in turns.", min=6, max=1000)] = 12,
    json: JsonOption = False,
) -> None:
    """Before and after: frame, passes and counts of two captures, replayed in turns."""
    from wendascope.trials.compare import Difference, compare_files, told

    check(before)
    check(after)
    found = compare_files(before, after, repeats, progress(json))
    progress_end(json)
    if json:
        emit(told(found))
        return
    print(f"before: {before}\nafter:  {after}")
    print(f"by {found.method}, {found.repeats} pairs; a change is one whose 95 % interval excludes zero\n")
    print(f"{'':<34} {'steps':>13} {'before':>9} {'after':>9} {'difference':>10} {'interval':>19}")
    rows: list[tuple[str, str, Difference | None]] = [("frame", "", found.frame), ("submitting it", "", found.submit)]
    for item in found.passes:
        rows.append((item.name, f"{item.steps_before} > {item.steps_after}", item.ms))
    for name, steps, ms in rows:
        if ms is None:
            print(f"{name[:34]:<34} {steps:>13} {'only in one of the two':>30}")
            continue
        said = "change" if ms.changed else "no change"
        print(
            f"{name[:34]:<34} {steps:>13} {ms.before.median:>9.3f} {ms.after.median:>9.3f} {ms.difference.median:>+10.3f} "
            f"{ms.difference.low:>+9.3f} {ms.difference.high:>+9.3f}  {said}"
        )
    print()
    for count in found.counts:
        print(f"{count.what:<34} {count.before:>13,} {count.after:>19,} {count.after - count.before:>+10,}")
    if found.pixels_different is None:
        print("pictures: of different sizes")
    else:
        print(f"pictures: {found.pixels_different:,} of {found.pixels:,} pixels differ, by up to {found.max_difference}")
