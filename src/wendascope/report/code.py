"""What a programmer would write for a batch, as files: the calls, the data of each draw, the shaders."""

from __future__ import annotations

import re
from pathlib import Path

from wendascope.advice.findings import Finding
from wendascope.backends import batch_code
from wendascope.backends.doors import Code
from wendascope.errors import TrialError
from wendascope.files import write_files
from wendascope.frame.frame import Frame

_ENDINGS = {"Vertex shader": ".vert", "Fragment shader": ".frag", "Calls": ".c"}


def write_code(frame: Frame, findings: list[Finding], folder: Path) -> list[Path]:
    """Write the code of every batch that the findings recommend, one folder a finding. Raises FileError."""
    written = []
    for finding in findings:
        if finding.remedy is None or finding.remedy.kind != "batch":
            continue
        files: dict[str, bytes] = {}
        for number, part in enumerate(finding.remedy.parts):
            try:
                pieces = batch_code(frame, part)
            except TrialError:
                continue  # its proof says why
            stem = f"{number + 1}-" if len(finding.remedy.parts) > 1 else ""
            files |= code_files(stem, pieces)
        if files:
            written += write_files(folder / re.sub(r"[^\w.-]", "-", finding.id), files)
    return written


def code_files(stem: str, pieces: list[Code]) -> dict[str, bytes]:
    """File name -> contents, of the code of one batch."""
    return {
        stem + re.sub(r"\W+", "-", piece.title.lower()) + _ENDINGS.get(piece.title, ".txt"): piece.text.encode()
        for piece in pieces
    }
