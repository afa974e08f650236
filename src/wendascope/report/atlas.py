"""Atlas plans as files: pages as PNG, rectangles as JSON and CSV."""

from __future__ import annotations

import functools
import io
import re
from pathlib import Path

from PIL import Image

from wendascope.analysis.atlas import AtlasPlan, page_picture, plan_csv, plan_json
from wendascope.errors import FileError
from wendascope.frame.frame import Frame
from wendascope.report.files import write_atomically


def write_atlas(frame: Frame, plans: list[AtlasPlan], padding: int, folder: Path | str) -> list[Path]:
    """Write every plan into a folder, which is made. Returns what was written. Raises FileError."""
    out = Path(folder)
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"cannot make the folder {out}: {error.strerror}; choose another") from error
    written = []
    for number, plan in enumerate(plans):
        name = re.sub(r"\W+", "-", plan.title.split(";")[0]).strip("-") or "atlas"
        stem = f"{name}-{number + 1}" if len(plans) > 1 else name
        files = {f"{stem}.json": plan_json(plan), f"{stem}.csv": plan_csv(plan).encode()}
        for k, page in enumerate(plan.pages):
            data = io.BytesIO()
            Image.fromarray(page_picture(frame, page, padding)[::-1]).save(data, "PNG")
            files[f"{stem}-page{k + 1}.png"] = data.getvalue()
        for filename, content in files.items():
            write_atomically(out / filename, functools.partial(_put, content))
            written.append(out / filename)
    return written


def _put(content: bytes, path: Path) -> None:
    path.write_bytes(content)
