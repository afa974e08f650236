"""The command about what a program keeps on the GPU."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from wendascope.cli._app import JsonOption, app, emit, put, typer
from wendascope.errors import UsageError

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame
    from wendascope.frame.memory import MemoryItem

_MOST_ROWS = 40


@app.command()
def memory(
    file: Path,
    against: Annotated[
        list[Path] | None,
        typer.Option(help="An earlier frame or mark: what came and went since. Of several: also what only grows."),
    ] = None,
    by: Annotated[str, typer.Option(help="Group by kind, pass, use, format, size or label.")] = "kind",
    object_: Annotated[
        str, typer.Option("--object", help="Write one object to --out: texture:12 or buffer:7, or its label.")
    ] = "",
    out: Annotated[
        Path | None, typer.Option(help="File for --object: .png or .ktx2 of textures, .csv or .bin of buffers.")
    ] = None,
    as_table: Annotated[bool, typer.Option("--csv", help="Print every object as comma-separated values.")] = False,
    every: Annotated[bool, typer.Option("--all", help="List every object, not only the largest.")] = False,
    json: JsonOption = False,
) -> None:
    """What the program keeps on the GPU: textures, targets and buffers with their bytes, and who uses them. FILE is a
    frame, or a mark of a running program.
    """
    from wendascope import records
    from wendascope.analysis.memory.sums import GROUPINGS
    from wendascope.analysis.memory.traffic import traffic
    from wendascope.frame.file import load
    from wendascope.frame.memory_mark import SUFFIX
    from wendascope.report.memory import as_csv, memory_document

    if json and as_table:
        raise UsageError("choose --json or --csv, not both")
    if by not in GROUPINGS:
        raise UsageError(f"nothing is grouped by {by}; choose {', '.join(GROUPINGS)}")
    if against:
        _compare([_items(path) for path in (*against, file)], as_table, every, json)
        return
    if file.suffix == SUFFIX:
        raise UsageError("a mark does not tell who uses what: compare it with another one by --against")
    frame = load(file)
    if object_ or out:
        _save(frame, object_, out)
        return
    if json or as_table:
        moved = traffic(frame, records.DRAWN.newest(file), records.MEMORY_USE.newest(file))
        document = memory_document(frame, moved)
        if json:
            emit(document)
        else:
            sys.stdout.write(as_csv(document.objects))
        return
    _print(frame, by, every)


def _save(frame: Frame, wanted: str, out: Path | None) -> None:
    from wendascope.report.object_files import save_buffer, save_texture

    if not wanted or out is None:
        raise UsageError("--object and --out go together")
    found = [i for i in frame.memory if wanted in (f"{i.object_class}:{i.name}", i.label)]
    if not found:
        raise UsageError(f"the frame has no object {wanted}; `wendascope memory FILE --csv` lists them")
    if found[0].object_class == "buffer":
        save_buffer(frame, found[0], out)
    else:
        save_texture(frame, found[0], out)
    put(out)


def _items(path: Path) -> list[MemoryItem]:
    from wendascope.frame.file import load
    from wendascope.frame.memory_mark import SUFFIX, load_mark, marked_items

    return marked_items(load_mark(path)) if path.suffix == SUFFIX else load(path).memory


@app.command()
def mesh(
    file: Path,
    step: Annotated[int, typer.Option(help="The draw whose mesh is wanted.", min=0)],
    out: Annotated[Path, typer.Option(help="The file, ending in .glb.")],
) -> None:
    """Write the mesh of a draw as binary glTF: its attributes as its buffers hold them, and its triangles."""
    from wendascope.frame.file import load
    from wendascope.report.object_files import save_mesh

    save_mesh(load(file), step, out)
    put(out)


def _print(frame: Frame, by: str, every: bool) -> None:
    from wendascope.analysis.memory.sums import grouped, memory_answer
    from wendascope.texts import memory as bytes_text

    put(*memory_answer(frame))
    put("", f"{'bytes':>12}  {'objects':>7}  {by}")
    for group in grouped(frame, frame.memory, by):
        put(f"{bytes_text(group.bytes):>12}  {len(group.items):>7,}  {group.name}")
    items = sorted(frame.memory, key=lambda item: -item.size)
    put("", f"{'bytes':>12}  {'use':<10}  object")
    for item in items if every else items[:_MOST_ROWS]:
        size = "not known" if item.bytes is None else bytes_text(item.bytes)
        use = "used" if item.used else "not used" if item.followed else "unclear"
        levels = f", {item.levels} levels" if item.levels > 1 else ""
        samples = f", {item.samples} samples" if item.samples else ""
        what = " ".join(part for part in (item.dimensions, item.format) if part)
        put(f"{size:>12}  {use:<10}  {item.title}: {item.kind.value} {what}{levels}{samples}")
    if len(items) > _MOST_ROWS and not every:
        put(f"{len(items) - _MOST_ROWS:,} smaller ones: --all lists them")


def _compare(moments: list[list[MemoryItem]], as_table: bool, every: bool, json: bool) -> None:
    """The last moment against the one before, and what grows through all of them."""
    from wendascope.analysis.memory.sums import compared, grows_without_end
    from wendascope.report.memory import as_csv, comparison_document
    from wendascope.texts import memory as bytes_text
    from wendascope.texts import memory_change

    found, growing = compared(*moments[-2:]), grows_without_end(moments)
    document = comparison_document(found, growing)
    if json:
        emit(document)
        return
    if as_table:
        sys.stdout.write(as_csv(document.changes))
        return
    put(found.answer)
    for group in growing:
        put(f"grows at every moment: {len(group.items):,} more, {bytes_text(group.bytes)}: {group.name}")
    for group in found.same_named:
        put(f"{len(group.items):,} new ones alike, {bytes_text(group.bytes)} together: {group.name}")
    if found.changes:
        put("", f"{'bytes':>12}  {'change':<22}  object")
    for change in found.changes if every else found.changes[:_MOST_ROWS]:
        what = " ".join(part for part in (change.item.dimensions, change.item.format) if part)
        where = f", made in {change.item.place}" if change.item.place else ""
        put(f"{memory_change(change.bytes):>12}  {change.kind.value:<22}  {change.item.title}: {what}{where}")
    if len(found.changes) > _MOST_ROWS and not every:
        put(f"{len(found.changes) - _MOST_ROWS:,} smaller changes: --all lists them")
