"""The report as one HTML file that needs nothing else: pictures inside, light and dark, printable."""

from __future__ import annotations

import base64
import io
from pathlib import Path

from PIL import Image

from wendascope.colours import PASS_COLOURS
from wendascope.files import write_atomically
from wendascope.frame.file import load
from wendascope.frame.frame import Frame
from wendascope.measure.lenses import lens_named
from wendascope.measure.pictures import picture_at
from wendascope.replay.client import Replay
from wendascope.report.formats._registry import form
from wendascope.report.pages import page_template
from wendascope.report.survey import SurveyDocument

_THUMBNAIL = 360
_DEAREST = 25


@form("html", "the report", ".html")
def write(document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """One page with pictures, tables and findings, which needs no other file."""
    frame = load(frame_file)
    page = page_template("page.html").render(
        d=document,
        name=frame_file.name,
        pictures=_pass_pictures(frame, frame_file),
        finished=_finished(frame),
        most_expensive=sorted(document.steps, key=lambda s: -s.ms)[:_DEAREST],
        colours=PASS_COLOURS,
        total=sum(p.ms for p in document.passes) or 1.0,
    )
    write_atomically(path, lambda scratch: scratch.write_text(page, encoding="utf-8"))


def _data_uri(image: Image.Image) -> str:
    buffer = io.BytesIO()
    image.convert("RGB").save(buffer, "JPEG", quality=88)
    return "data:image/jpeg;base64," + base64.b64encode(buffer.getvalue()).decode()


def _finished(frame: Frame) -> str:
    reference = frame.reference
    return _data_uri(Image.fromarray(reference.pixels[::-1, :, :3])) if reference else ""


def _pass_pictures(frame: Frame, frame_file: Path) -> list[str]:
    """The target of each pass after its last step, small."""
    lens = lens_named("colour")
    pictures = []
    with Replay(frame_file) as replay:
        for end in frame.passes.end.tolist():
            found = replay.run(picture_at.asked(end - 1))
            image = Image.fromarray(lens.paint(found))
            image.thumbnail((_THUMBNAIL, _THUMBNAIL))
            pictures.append(_data_uri(image))
    return pictures
