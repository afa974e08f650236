"""The report as one HTML file that needs nothing else: the plan first, pictures inside, light and dark, printable."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import get_args

import numpy as np
import numpy.typing as npt
from markupsafe import Markup
from PIL import Image

from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.advice.recommend import Recommendation, Section
from wendascope.analysis.sequence.over_time import OverTime, frame_in_time, over_time
from wendascope.backends.doors import Code
from wendascope.colours import PASS_COLOURS
from wendascope.errors import FileError, ReplayError, TrialError
from wendascope.files import write_atomically
from wendascope.frame.file import frame_count, load
from wendascope.frame.frame import Frame
from wendascope.frame.notes import SubjectKind, newest_notes, subject_title
from wendascope.frame.places import frame_path, place_of
from wendascope.measure.pass_pictures import pass_pictures
from wendascope.replay.client import Replay
from wendascope.report.formats._registry import form
from wendascope.report.memory import memory_document
from wendascope.report.pages import page_template
from wendascope.report.plan import plan_parts, plan_report
from wendascope.report.survey import FindingRow, SurveyDocument
from wendascope.texts import memory, three_digits
from wendascope.trials.experiments.limits import stored_limits
from wendascope.trials.experiments.log import stored_log, trials_of
from wendascope.trials.proofs.runs import picture_of
from wendascope.trials.remedy_code import remedy_code
from wendascope.trials.survey.examine import case_of, stored_examination

_PASS_SIZE = 480, 300
_PAIR_SIZE = 720
_DEAREST, _OBJECTS, _PAIRS, _CODES, _PIECES = 25, 15, 6, 8, 6
_LONGEST_CODE = 20_000
"""Characters of one piece of code; what is longer is cut, and says so."""


@form("html", "the report", ".html")
def write(document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """One page with the plan, pictures, tables and findings, which needs no other file."""
    frame = load(frame_file)
    (drawn, known), survey = stored_examination(frame_file), records.SURVEY.newest(frame_file)
    findings, plan = {item.id: item for item in known}, None
    if drawn is not None and survey is not None:
        plan = plan_report(frame_file, case_of(frame, drawn, survey), survey, known, document.budget_ms)
    shown = [item for item in plan.recommendations if not item.small] if plan else []
    script = Markup((Path(__file__).parent.parent / "report.js").read_text("utf-8"))
    kept = memory_document(frame, {})
    with Replay(frame_file) as replay:
        passes = replay.run(pass_pictures.asked(*_PASS_SIZE))
        pairs = _pairs(shown, findings, replay)
    page = page_template("page.html").render(
        d=document,
        name=frame_file.name,
        api=frame.context.api,
        policy=_policy(script),
        script=script,
        pairs=pairs,
        codes=_codes(frame, shown, findings),
        pictures=[(index, _data_uri(picture)) for index, picture in sorted(passes.items())],
        finished=_data_uri(frame.reference.pixels[::-1, :, :3]) if frame.reference else "",
        findings=_by_use(document.findings),
        trials=_trials(frame_file, findings),
        notes=_notes(frame_file, frame, findings),
        sequence=_sequence(frame_file),
        number=place_of(frame_file)[1],
        kept=kept,
        objects=kept.objects[:_OBJECTS],
        digits=three_digits,
        most_expensive=sorted(document.steps, key=lambda s: -s.ms)[:_DEAREST],
        colours=PASS_COLOURS,
        total=sum(p.ms for p in document.passes) or 1.0,
        **(plan_parts(plan) if plan else {"r": None, "memory": memory}),
    )
    write_atomically(path, lambda scratch: scratch.write_text(page, encoding="utf-8"))


def _sequence(path: Path) -> OverTime | None:
    """The frames of the file beside each other; None where it holds one."""
    file, count = place_of(path)[0], frame_count(path)
    if count < 2:
        return None
    return over_time([frame_in_time(load(frame_path(file, number)), number) for number in range(1, count + 1)])


def _notes(path: Path, frame: Frame, findings: Mapping[str, Finding]) -> list[tuple[str, str]]:
    """What somebody wrote, by what it is on: the frame first, then what it is made of, then what was found."""
    titles = {name: item.title for name, item in findings.items()}
    order = list(get_args(SubjectKind))
    written = sorted(newest_notes(records.NOTE.all(path)).items(), key=lambda item: order.index(item[0].kind))
    return [(subject_title(subject, frame, titles), text) for subject, text in written]


def _policy(script: str) -> str:
    """What the page may do: show what is in it, and run the one script that is ours."""
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return (
        f"default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src 'sha256-{digest}';"
        " base-uri 'none'; form-action 'none'"
    )


def _data_uri(pixels: npt.NDArray[np.uint8]) -> str:
    buffer = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(pixels)).convert("RGB").save(buffer, "JPEG", quality=88)
    return "data:image/jpeg;base64," + base64.b64encode(buffer.getvalue()).decode()


def _by_use(findings: Sequence[FindingRow]) -> list[FindingRow]:
    """What was proved to save first, then what is expected to, then the rest."""

    def gain(item: FindingRow) -> float:
        if item.proof is not None:
            return item.proof.saved_ms.median if item.proof.saved_ms and item.proof.saved_ms.low > 0 else -1.0
        return item.estimate_ms or 0.0

    return sorted(findings, key=lambda item: -gain(item))


def _finding(item: Recommendation, findings: Mapping[str, Finding]) -> Finding | None:
    """The first of a recommendation that replay can try."""
    mine = (findings.get(name) for name in item.findings)
    return next((found for found in mine if found is not None and found.remedy is not None), None)


def _pairs(
    shown: Sequence[Recommendation], findings: Mapping[str, Finding], replay: Replay
) -> dict[str, tuple[str, str]]:
    """Recommendation -> pictures of today and with the change, where it changes the picture."""
    pairs: dict[str, tuple[str, str]] = {}
    for item in shown:
        found = _finding(item, findings)
        if item.section is not Section.QUALITY or found is None or found.remedy is None or len(pairs) == _PAIRS:
            continue
        with contextlib.suppress(TrialError, ReplayError):
            beside = replay.run(picture_of.asked([found.remedy]))
            pairs[item.id] = _data_uri(_reduced(beside.before)), _data_uri(_reduced(beside.after))
    return pairs


def _reduced(pixels: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """At most so wide, top row first: every nth pixel, so that no difference is smoothed away."""
    by = -(-pixels.shape[1] // _PAIR_SIZE)
    return pixels[::-1][::by, ::by, :3]


def _codes(frame: Frame, shown: Sequence[Recommendation], findings: Mapping[str, Finding]) -> dict[str, list[Code]]:
    """Recommendation -> what a programmer would write for its first finding."""
    codes: dict[str, list[Code]] = {}
    for item in shown[:_CODES]:
        found = _finding(item, findings)
        if found is None or found.remedy is None:
            continue
        with contextlib.suppress(TrialError, FileError):
            codes[item.id] = [_short(code) for code in remedy_code(frame, [found.remedy])[:_PIECES]]
    return codes


def _short(code: Code) -> Code:
    if len(code.text) <= _LONGEST_CODE:
        return code
    cut = code.text[:_LONGEST_CODE].rsplit("\n", 1)[0]
    return Code(
        code.title, f"{cut}\n... {len(code.text) - len(cut):,} characters more: prove --code writes all", code.language
    )


def _trials(path: Path, findings: Mapping[str, Finding]) -> list[object]:
    """Edits and experiments; proofs are told with the findings."""
    return list(trials_of(stored_log(path), findings.values(), {}, stored_limits(path).values()))
