"""The plan of batches as a document: for the command line, JSON, and folders of code."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from wendascope.analysis.draws.batch_words import BatchWords
from wendascope.analysis.draws.batches import Batch, PassDraws, find_batches
from wendascope.analysis.draws.draw_order import Touched
from wendascope.analysis.draws.sharing import Sharing
from wendascope.analysis.draws.structure import devices_sentence, plan_answer
from wendascope.analysis.draws.unify import KEYS, KeyGain, Shared, draws_in, keys_to_unify, plan_with
from wendascope.analysis.guidelines import BatchGuidelines, guidelines
from wendascope.errors import UsageError
from wendascope.files import write_files
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import INSTANCE, MULTI_DRAW
from wendascope.texts import visible

_HOW = {INSTANCE: "instances", MULTI_DRAW: "multi-draw"}


class PlannedBatch(msgspec.Struct):
    """A batch, as a person would name it."""

    name: str
    batch: Batch
    condition: str


class BatchReport(msgspec.Struct):
    """What `batches` tells."""

    answer: str
    evidence: str
    measured: bool
    """Whether it is known what lies where; else only state decides what may change places."""
    steps: int
    now: int
    then: int
    least: int
    passes: list[PassDraws]
    batches: list[PlannedBatch]
    keys: list[KeyGain]
    shared: list[str]
    """Keys that count as shared."""
    then_shared: int | None = None
    """Draws that would be left then."""


def with_limits(limits: Sequence[str]) -> BatchGuidelines:
    """The guidelines of batches with some of them replaced, as `name=number`. Raises UsageError."""
    values = msgspec.to_builtins(guidelines().batches)
    for text in limits:
        name, _, number = text.partition("=")
        if name not in values or not number.isdigit():
            raise UsageError(f"--limit {text} is none of {', '.join(f'{n}=NUMBER' for n in values)}")
        values[name] = int(number)
    return msgspec.convert(values, BatchGuidelines)


def shared_keys(texts: Sequence[str], steps: int) -> list[Shared]:
    """Keys taken as shared, as `key` or `key=step,step`: by those that have the value of one of the steps. Raises
    UsageError.
    """
    names = {label: key for key, label in KEYS.items()} | {key: key for key in KEYS}
    found = []
    for text in texts:
        word, given, numbers = text.partition("=")
        if word not in names:
            raise UsageError(f"--share {text} is none of {', '.join(KEYS)}")
        parts = numbers.split(",") if given else []
        if not all(part.strip().isdigit() and int(part) < steps for part in parts):
            raise UsageError(f"--share {text}: after = come steps of the frame, as {word}=12,40")
        found.append(Shared(names[word], tuple(map(int, parts))))
    return list(dict.fromkeys(found))


def batch_report(
    frame: Frame, touched: Touched | None, shared: Sequence[Shared] = (), measure: BatchGuidelines | None = None
) -> BatchReport:
    """Work out the plan of a frame, and what would leave fewer draws still. `shared` counts as shared."""
    sharing, measure = Sharing(frame), measure or guidelines().batches
    found = find_batches(sharing, measure, touched)
    now, least = found.draws_now(), found.least()
    then = now - found.saved
    words = BatchWords(sharing, found)
    planned = [PlannedBatch(words.name(b), b, words.condition(b)) for b in found.batches]
    planned.sort(key=lambda p: -p.batch.saved)
    return BatchReport(
        plan_answer(now, then, least),
        devices_sentence(len(frame.steps), len(frame.steps) - now + then),
        touched is not None,
        len(frame.steps),
        now,
        then,
        least,
        found.passes(frame.passes.names),
        planned,
        keys_to_unify(sharing, touched, shared, measure),
        list(map(str, shared)),
        draws_in(plan_with(sharing, touched, shared, measure)) if shared else None,
    )


def batches_text(report: BatchReport) -> str:
    """The document in lines."""
    lines = [report.answer, report.evidence]
    if not report.measured:
        lines.append("What lies where was not measured: run `wendascope survey` first, and more may change places.")
    if report.passes:
        width = max(len(p.name) for p in report.passes)
        lines += ["", f"{'pass':<{width}}  {'now':>6}  {'then':>6}  {'least':>6}"]
        lines += [f"{p.name:<{width}}  {p.now:>6,}  {p.then:>6,}  {p.least:>6,}" for p in report.passes]
    if report.batches:
        lines += ["", "  draws  then  how         what"]
    for planned in report.batches:
        b = planned.batch
        how = b.gather if b.samplers else _HOW.get(b.how, "merged")
        lines.append(f"{len(b.steps):>7,} {len(b.parts):>5,}  {how:<10}  batch {b.number + 1}, {planned.name}")
        lines.append(f"                           from step {b.steps[0]:,}; {planned.condition}")
    if report.keys:
        lines += ["", "if draws shared ...                     draws less  values joined  --share"]
        for k in report.keys:
            label = f"  {k.what}" if k.what else KEYS[k.key]
            lines.append(f"{label[:39]:<40}{k.saved:>10,}  {k.values or '':>13}  {k.shared}")
    if report.then_shared is not None:
        lines += ["", f"with {', '.join(report.shared)} shared: {report.then_shared:,} draws"]
    return "\n".join(map(visible, lines))


def write_code(folder: Path, codes: dict[str, list[tuple[str, str, str]]]) -> list[Path]:
    """Write code (title, text, language) of batches by name, a file a piece. Returns what was written. Raises
    FileError.
    """
    endings = {"glsl": "glsl", "c": "c"}
    files = {}
    for name, pieces in codes.items():
        stem = re.sub(r"\W+", "-", name).strip("-")[:60]
        for title, text, language in pieces:
            files[f"{stem}-{re.sub(r'[^a-z]+', '-', title.lower())}.{endings.get(language, 'txt')}"] = text.encode()
    return write_files(folder, files)
