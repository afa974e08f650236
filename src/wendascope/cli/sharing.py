"""Commands about frames that others are to see: notes on them, and copies that give less away."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from wendascope.cli._app import JsonOption, app, emit, progress, progress_end, put, say, typer
from wendascope.errors import UsageError


@app.command()
def note(
    file: Path,
    text: Annotated[
        str | None, typer.Argument(help="What to write; without it all notes are listed, an empty one takes it back.")
    ] = None,
    step: Annotated[int | None, typer.Option(help="On this step.", min=0)] = None,
    on_pass: Annotated[str | None, typer.Option("--pass", help="On this pass, by its name or number.")] = None,
    finding: Annotated[str | None, typer.Option(help="On this finding, by its id.")] = None,
    json: JsonOption = False,
) -> None:
    """Write a note on a frame, or on a pass, a step or a finding of it; or list them. Kept in the file."""
    from wendascope import records
    from wendascope.frame.file import load
    from wendascope.frame.notes import WHOLE_FRAME, Note, Subject, newest_notes, subject_title
    from wendascope.trials.survey.examine import stored_examination

    if sum(value is not None for value in (step, on_pass, finding)) > 1:
        raise UsageError("a note is on one thing: a step, a pass or a finding")
    frame = load(file)
    titles = {item.id: item.title for item in stored_examination(file)[1]}
    subject = WHOLE_FRAME
    if step is not None:
        if step >= len(frame.steps):
            raise UsageError(f"there is no step {step}; the frame has steps 0 to {len(frame.steps) - 1}")
        subject = Subject("step", str(step))
    elif on_pass is not None:
        names = [frame.passes.names, frame.passes.short_names, [str(i) for i in range(len(frame.passes))]]
        found = next((known.index(on_pass) for known in names if on_pass in known), None)
        if found is None:
            raise UsageError(f"there is no pass {on_pass!r}; the frame has {', '.join(frame.passes.short_names)}")
        subject = Subject("pass", str(found))
    elif finding is not None:
        if finding not in titles:
            raise UsageError(f"there is no finding {finding!r}; run wendascope survey {file} to have them listed")
        subject = Subject("finding", finding)
    if text is not None:
        records.NOTE.keep(file, Note(" ".join(text.split()), subject))  # a note is a line, as the window has it
    notes = newest_notes(records.NOTE.all(file))
    shown = notes if subject == WHOLE_FRAME and text is None else {k: v for k, v in notes.items() if k == subject}
    if json:
        emit(
            [
                {"on": k.kind, "name": k.name, "title": subject_title(k, frame, titles), "text": v}
                for k, v in shown.items()
            ]
        )
        return
    for key, value in shown.items():
        put(f"{subject_title(key, frame, titles)}: {value}")


@app.command()
def slim(
    file: Path,
    out: Annotated[Path, typer.Option(help="The copy to write.")],
    without: Annotated[
        list[str] | None,
        typer.Option(
            help="Also without these: sources (shaders that do the same, without comments and with other names), texels"
            " (of textures and pictures, put in an order of chance). May be given twice."
        ),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Write a copy of a frame without what it does not use, for frames that are large or must not leave the house. The
    copy is replayed before it gets its name.
    """
    from wendascope.texts import memory
    from wendascope.trials.slim import slim as slimmed

    result = slimmed(file, out, without or (), progress(json))
    progress_end(json)
    if json:
        emit(result)
        return
    put(f"{result.file}: {memory(result.bytes_after)}, {memory(result.bytes_before)} before; its replay is identical")
    for text in result.measurable:
        put(text)
    for text in result.left:
        put(f"It still tells: {text}.")
    say("Results and notes are not in the copy; its program, arguments and labels are.")
