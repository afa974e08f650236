"""Passes and steps as CSV, one file each in a folder."""

from __future__ import annotations

import csv
import functools
from collections.abc import Sequence
from pathlib import Path

import msgspec

from wendascope.report.files import write_atomically
from wendascope.report.formats._registry import form
from wendascope.report.survey import SurveyDocument


@form("csv")
def write(document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """`path` is the folder: `passes.csv` and `steps.csv` are written into it."""
    for name, rows in (("passes", document.passes), ("steps", document.steps)):
        write_atomically(path / f"{name}.csv", functools.partial(_table, rows))


def _table(rows: Sequence[msgspec.Struct], path: Path) -> None:
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        if not rows:
            return
        writer.writerow(rows[0].__struct_encode_fields__)
        for row in rows:
            writer.writerow(["" if v is None else v for v in (getattr(row, f) for f in row.__struct_fields__)])
