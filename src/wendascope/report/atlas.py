"""Atlas plans as files: pages as PNG, rectangles as JSON and CSV."""

from __future__ import annotations

import io
import re
from pathlib import Path

from PIL import Image

from wendascope.analysis.draws.atlas import AtlasPlan, page_picture, plan_csv, plan_json
from wendascope.files import write_files
from wendascope.frame.frame import Frame


def write_atlas(frame: Frame, plans: list[AtlasPlan], padding: int, folder: Path | str) -> list[Path]:
    """Write every plan into a folder, which is made. Returns what was written. Raises FileError."""
    files: dict[str, bytes] = {}
    for number, plan in enumerate(plans):
        name = re.sub(r"\W+", "-", plan.title.split(";")[0]).strip("-") or "atlas"
        stem = f"{name}-{number + 1}" if len(plans) > 1 else name
        files |= {f"{stem}.json": plan_json(plan), f"{stem}.csv": plan_csv(plan).encode()}
        for k, page in enumerate(plan.pages):
            data = io.BytesIO()
            Image.fromarray(page_picture(frame, page, padding)[::-1]).save(data, "PNG")
            files[f"{stem}-page{k + 1}.png"] = data.getvalue()
    return write_files(Path(folder), files)
