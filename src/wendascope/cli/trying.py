"""Commands that try changes of a frame and compare frames."""

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
from wendascope.texts import plural, share, verb

if TYPE_CHECKING:
    from wendascope.trials.proofs.proof import Proof


@app.command()
def prove(
    file: Path,
    finding: Annotated[
        list[str] | None, typer.Option(help="Prove this finding, by its id; of several, also all together.")
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Prove every finding, and all that save time as one edited frame.")
    ] = False,
    unsure: Annotated[
        bool,
        typer.Option(
            "--unsure",
            help=(
                "With --all: take into the combined proof also what keeps the picture and of which alone nothing can be"
                " told."
            ),
        ),
    ] = False,
    seconds: Annotated[
        float | None,
        typer.Option(
            help="Longest measuring for one proof; mostly it is decided before. The guidelines say 6.", min=0.5, max=600
        ),
    ] = None,
    budget: Annotated[
        float | None,
        typer.Option(
            help="With --all: seconds for all proofs; those not reached stay untried. The guidelines say 120.", min=1
        ),
    ] = None,
    again: Annotated[bool, typer.Option("--again", help="With --all: prove anew what was proved already.")] = False,
    code: Annotated[
        Path | None, typer.Option(help="Also write the shaders, data layouts and calls of batches into this folder.")
    ] = None,
    clock: Annotated[
        str,
        typer.Option(
            help="What verdicts go by: timer-query, drain or cpu-time. Without it, the one that this driver tells right"
            " and load shakes least."
        ),
    ] = "",
    json: JsonOption = False,
) -> None:
    """Try the remedies of findings on the frame itself: replayed in turns with the original, measured, compared.
    Kept in the file.

    Exit 1 when a picture changed, or what the frame leaves behind, or when nothing could be shown.
    """
    from wendascope.frame.file import load
    from wendascope.measure.clocks import Clock
    from wendascope.measure.samples import use_clock
    from wendascope.replay.client import Replay
    from wendascope.report.code import write_code
    from wendascope.trials.proofs.proof import prove as prove_findings
    from wendascope.trials.proofs.proof import told
    from wendascope.trials.proofs.prove_all import prove_all
    from wendascope.trials.proofs.verdicts import SHOWN, Verdict
    from wendascope.trials.survey.examine import examine_file, stored_examination

    if bool(finding) == every:
        raise UsageError("choose findings with --finding ID, or --all; `wendascope survey` lists them")
    clocks = {each.value.lower().replace(" ", "-"): each.value for each in Clock}
    if clock and clock not in clocks:
        raise UsageError(f"--clock is {', '.join(sorted(clocks))}, not {clock}")
    show = progress(json)
    combined = None
    left: list[str] = []
    frame = load(file)
    with Replay(file) as replay:
        drawn, findings = stored_examination(file)
        if drawn is None:
            if not json:
                say("this frame was not measured yet; measuring it first")
            findings = examine_file(file, task=show, replay=replay).findings
        warn(verify_with(replay, show), json)
        if clock:
            replay.run(use_clock.asked(clocks[clock]), show)
        if finding:
            by_id = {item.id: item for item in findings}
            unknown = next((name for name in finding if name not in by_id), None)
            if unknown is not None:
                raise UsageError(f"{file.name} has no finding {unknown}; `wendascope survey` lists them")
            chosen = [by_id[name] for name in dict.fromkeys(finding)]
            proofs = [prove_findings(file, frame, [item], replay, seconds, show) for item in chosen]
            if len(chosen) > 1:
                combined = prove_findings(file, frame, chosen, replay, seconds, show)
        else:
            chosen = findings
            reached = prove_all(file, frame, findings, replay, seconds, show, unsure=unsure, budget=budget, again=again)
            proofs, combined, left = reached.proofs, reached.combined, reached.left
    progress_end(json)
    if code is not None:
        for path in write_code(frame, chosen, code):
            say(f"wrote {path}")
    titles = {item.id: item.title for item in findings}
    everything = [*proofs, *([combined] if combined else [])]
    if json:
        emit(
            {"proofs": [told(p) for p in proofs], "not_reached": left}
            | ({"combined": told(combined) if combined else None} if every or combined else {})
        )
    else:
        _print_proofs(proofs, combined, titles)
        if left:
            put(f"{plural(len(left), 'finding')} not reached in the time that was given; run it again to go on")
        if every and proofs and combined is None:
            put(
                "no combined proof: fewer than two of the changes save time for certain; --unsure takes in those of"
                " which nothing can be told"
            )
    verdicts = {proof.verdict for proof in everything}
    if proofs and (verdicts & {Verdict.CHANGES, Verdict.LEAVES} or not verdicts & set(SHOWN)):
        raise typer.Exit(1)


def _print_proofs(proofs: list[Proof], combined: Proof | None, titles: dict[str, str]) -> None:
    if not proofs:
        put("nothing to prove: no findings on this frame")
    for proof in [*proofs, *([combined] if combined else [])]:
        put(f"{proof.told_verdict}: {titles.get(proof.finding, 'together')}  [{proof.finding}]")
        for label, text in (("", proof.summary), ("submission: ", proof.submission), ("", proof.bound)):
            if text:
                put(f"    {label}{text}")
        for reason in proof.excluded:
            put(f"    left out: {reason}")


@app.command()
def atlas(
    file: Path,
    out: Annotated[Path, typer.Option(help="Folder to write pages, rectangles and figures into; it is made.")],
    page: Annotated[
        int, typer.Option(help="Largest width and height of a page in pixels; 0 for the guideline.", min=0, max=32768)
    ] = 0,
    padding: Annotated[
        int, typer.Option(help="Pixels round each texture, for its border repeated.", min=0, max=256)
    ] = 2,
    rotation: Annotated[bool, typer.Option("--rotation", help="Allow rotating textures by 90 degrees.")] = False,
    power_of_two: Annotated[
        bool, typer.Option("--power-of-two", help="Pages as wide and high as a power of two.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Plan atlas pages for textures that are drawn together: pages as PNG, rectangles as JSON and CSV."""
    import msgspec

    from wendascope.analysis.draws.atlas import Options, plan_atlases
    from wendascope.analysis.draws.sharing import Sharing
    from wendascope.frame.file import load
    from wendascope.report.atlas import write_atlas

    frame = load(file)
    warn_stored(file, json)
    plans = plan_atlases(Sharing(frame), Options(page, padding, rotation, power_of_two))
    written = write_atlas(frame, plans, padding, out)
    if json:
        emit({"files": [str(path) for path in written], "atlases": [msgspec.to_builtins(plan) for plan in plans]})
        return
    for plan in plans:
        put(
            f"{plan.title}: {len(plan.steps)} draws read {plan.textures} textures; with"
            f" {plural(len(plan.pages), 'page')}, {plural(plan.draws_then, 'draw')}"
            f" {verb(plan.draws_then, 'does', 'do')} the same"
        )
        for number, found in enumerate(plan.pages):
            put(
                f"  page {number + 1}: {found.width} x {found.height}, {len(found.places)}"
                f" texture{'s' if len(found.places) != 1 else ''}, {share(found.wasted)} free"
            )
        put(f"  memory: {plan.bytes_before:,} bytes now, {plan.bytes_after:,} then")
        for reason, names in plan.left_out.items():
            put(f"  not on a page, {reason}: {', '.join(map(str, names))}")
        for caveat in plan.caveats:
            put(f"  {caveat}")
    if not plans:
        put("no textures are drawn together that could share a page")
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
    from wendascope.trials.proofs.compare import Difference, compare_files, told

    check(before)
    check(after)
    found = compare_files(before, after, repeats, progress(json))
    progress_end(json)
    if json:
        emit(told(found))
        return
    for text in found.warnings:
        say(f"WARNING: {text}; what is measured is of a frame that is not quite the captured one")
    put(f"before: {before}", f"after:  {after}")
    put(f"by {found.method}, {found.repeats} pairs; a change is one whose 95 % interval excludes zero", "")
    put(f"{'':<34} {'steps':>13} {'before':>9} {'after':>9} {'difference':>10} {'interval':>19}")
    rows: list[tuple[str, str, Difference | None]] = [("frame", "", found.frame), ("submitting it", "", found.submit)]
    for item in found.passes:
        rows.append((item.name, f"{item.steps_before} > {item.steps_after}", item.ms))
    for name, steps, ms in rows:
        if ms is None:
            put(f"{name[:34]:<34} {steps:>13} {'only in one of the two':>30}")
            continue
        said = "change" if ms.changed else "no change"
        put(
            f"{name[:34]:<34} {steps:>13} {ms.before.median:>9.3f} {ms.after.median:>9.3f}"
            f" {ms.difference.median:>+10.3f} {ms.difference.low:>+9.3f} {ms.difference.high:>+9.3f}  {said}"
        )
    put()
    for count in found.counts:
        put(f"{count.what:<34} {count.before:>13,} {count.after:>19,} {count.after - count.before:>+10,}")
    if found.pixels_different is None:
        put("pictures: of different sizes")
    else:
        put(f"pictures: {found.pixels_different:,} of {found.pixels:,} pixels differ, by up to {found.max_difference}")
