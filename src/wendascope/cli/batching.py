"""The command about batches."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from wendascope.cli._app import JsonOption, app, emit, put_text, say, typer, warn_stored


@app.command()
def batches(
    file: Path,
    share: Annotated[
        list[str] | None,
        typer.Option(
            "--share",
            help=(
                "Plan as if draws shared this key too: KEY, or KEY=STEP,STEP for the values of those steps; may be"
                " given several times."
            ),
        ),
    ] = None,
    assume_no_overlap: Annotated[
        bool, typer.Option("--assume-no-overlap", help="Plan as if nothing lay over anything else.")
    ] = False,
    limit: Annotated[
        list[str] | None,
        typer.Option(
            "--limit", help="Another limit than the guideline's, as vertices_a_batch=20000; may be given several times."
        ),
    ] = None,
    code: Annotated[Path | None, typer.Option(help="Write the code of every batch into this folder.")] = None,
    atlas: Annotated[
        Path | None, typer.Option(help="Write atlas pages of textures that are drawn together into this folder.")
    ] = None,
    json: JsonOption = False,
) -> None:
    """The fewest draws that give this picture: batches, what keeps others apart, and how few there can be."""
    from wendascope.advice.findings.batching import parts_of
    from wendascope.analysis.geometry.drawn import touched_of
    from wendascope.errors import TrialError
    from wendascope.frame.file import load
    from wendascope.records import DRAWN
    from wendascope.report.batches import batch_report, batches_text, shared_keys, with_limits, write_code

    frame, drawn = load(file), DRAWN.newest(file)
    warn_stored(file, json)
    shared = shared_keys([*(share or []), *(["order"] if assume_no_overlap else [])], len(frame.steps))
    report = batch_report(frame, touched_of(drawn), shared, with_limits(limit or []))
    written: list[Path] = []
    if code is not None:
        from wendascope.backends import batch_code

        pieces, refused = {}, []
        for planned in report.batches:
            for number, part in enumerate(parts_of(planned.batch), 1):
                title = f"{planned.batch.label} part {number}" if len(planned.batch.parts) > 1 else planned.batch.label
                try:
                    made = batch_code(frame, part)
                    pieces[title] = [(piece.title, piece.text, piece.language) for piece in made]
                except TrialError as error:
                    refused.append(f"no code for {title}: {error}")
        written += write_code(code, pieces)
        for text in refused:
            say(text)
    if atlas is not None:
        from wendascope.analysis.draws.atlas import Options, plan_atlases
        from wendascope.analysis.draws.sharing import Sharing
        from wendascope.report.atlas import write_atlas

        options = Options()
        written += write_atlas(frame, plan_atlases(Sharing(frame), options), options.padding, atlas)
    if json:
        emit(report)
    else:
        put_text(batches_text(report))
    for path in written:
        say(f"wrote {path}")
