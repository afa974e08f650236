"""The document as JSON, with the field names of the command line."""

from __future__ import annotations

from pathlib import Path

from wendascope.files import write_atomically
from wendascope.json_text import json_text
from wendascope.report.formats._registry import form
from wendascope.report.survey import SurveyDocument


@form("json", "the document", ".json")
def write(document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """The whole document as JSON."""
    text = json_text(document, 1)
    write_atomically(path, lambda scratch: scratch.write_text(text, encoding="utf-8"))
