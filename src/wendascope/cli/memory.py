"""The command about what a program keeps on the GPU."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from wendascope.cli._app import JsonOption, app, emit, typer
from wendascope.errors import UsageError

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

_MOST_ROWS = 40


@app.command()
def memory(
    file: Path,
    against: Annotated[
        Path | None, typer.Option(help="An earlier frame: tell what came, went and grew between that one and this.")
    ] = None,
    by: Annotated[str, typer.Option(help="Group by kind, pass, use, format, size or label.")] = "kind",
    as_table: Annotated[bool, typer.Option("--csv", help="Print every object as comma-separated values.")] = False,
    every: Annotated[bool, typer.Option("--all", help="List every object, not only the largest.")] = False,
    json: JsonOption = False,
) -> None:
    """What the program keeps on the GPU: textures, targets and buffers with their bytes, and who uses them."""
    from wendascope.analysis.memory import GROUPINGS
    from wendascope.frame.file import load
    from wendascope.report.memory import as_csv, memory_document

    if json and as_table:
        raise UsageError("choose --json or --csv, not both")
    if by not in GROUPINGS:
        raise UsageError(f"nothing is grouped by {by}; choose {', '.join(GROUPINGS)}")
    frame = load(file)
    if against is not None:
        _compare(load(against), frame, as_table, every, json)
        return
    if json or as_table:
        document = memory_document(frame)
        if json:
            emit(document)
        else:
            sys.stdout.write(as_csv(document.objects))
        return
    _print(frame, by, every)


def _print(frame: Frame, by: str, every: bool) -> None:
    from wendascope.analysis.memory import grouped, memory_answer, memory_notes
    from wendascope.texts import memory as bytes_text

    print(memory_answer(frame))
    print(memory_notes(frame.memory))
    print(f"\n{'bytes':>12}  {'objects':>7}  {by}")
    for group in grouped(frame, frame.memory, by):
        print(f"{bytes_text(group.bytes):>12}  {len(group.items):>7,}  {group.name}")
    items = sorted(frame.memory, key=lambda item: -item.size)
    print(f"\n{'bytes':>12}  {'use':<10}  object")
    for item in items if every else items[:_MOST_ROWS]:
        size = "not known" if item.bytes is None else bytes_text(item.bytes)
        use = "used" if item.used else "not used" if item.followed else "unclear"
        levels = f", {item.levels} levels" if item.levels > 1 else ""
        samples = f", {item.samples} samples" if item.samples else ""
        what = " ".join(part for part in (item.dimensions, item.format) if part)
        print(f"{size:>12}  {use:<10}  {item.title}: {item.kind.value} {what}{levels}{samples}")
    if len(items) > _MOST_ROWS and not every:
        print(f"{len(items) - _MOST_ROWS:,} smaller ones: --all lists them")


def _compare(before: Frame, after: Frame, as_table: bool, every: bool, json: bool) -> None:
    from wendascope.analysis.memory import compared
    from wendascope.report.memory import as_csv, comparison_document
    from wendascope.texts import memory as bytes_text

    found = compared(before.memory, after.memory)
    document = comparison_document(found)
    if json:
        emit(document)
        return
    if as_table:
        sys.stdout.write(as_csv(document.changes))
        return
    print(found.answer)
    for group in found.same_named:
        print(f"{len(group.items):,} new ones alike, {bytes_text(group.bytes)} together: {group.name}")
    if found.changes:
        print(f"\n{'bytes':>12}  {'change':<22}  object")
    for change in found.changes if every else found.changes[:_MOST_ROWS]:
        sign = "+" if change.bytes > 0 else "-" if change.bytes < 0 else ""
        what = " ".join(part for part in (change.item.dimensions, change.item.format) if part)
        size = sign + bytes_text(abs(change.bytes))
        print(f"{size:>12}  {change.kind.value:<22}  {change.item.title}: {what}")
    if len(found.changes) > _MOST_ROWS and not every:
        print(f"{len(found.changes) - _MOST_ROWS:,} smaller changes: --all lists them")
