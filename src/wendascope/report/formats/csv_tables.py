"""Passes, steps and findings as CSV, one file each in a folder."""

from __future__ import annotations

import csv
import functools
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from wendascope.files import write_atomically
from wendascope.report.formats._registry import form
from wendascope.report.survey import SurveyDocument
from wendascope.texts import cell


@form("csv", "the tables", folder=True)
def write(document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """`path` is the folder: `passes.csv`, `steps.csv` and `findings.csv` are written into it."""
    for name, rows in (("passes", document.passes), ("steps", document.steps), ("findings", document.findings)):
        write_atomically(path / f"{name}.csv", functools.partial(_table, rows))


def _table(rows: Sequence[msgspec.Struct], path: Path) -> None:
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        if not rows:
            return
        writer.writerow(rows[0].__struct_encode_fields__)
        for row in rows:
            writer.writerow([_cell(getattr(row, name)) for name in row.__struct_fields__])


def _cell(value: Any) -> Any:
    """Plain values as they are, what has parts as JSON, nothing as an empty cell."""
    if value is None:
        return ""
    return cell(value if isinstance(value, str | int | float) else msgspec.json.encode(value).decode())
