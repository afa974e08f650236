"""Kept trials as files: the sources that they come to, what changed in them, data layouts, and a short summary."""

from __future__ import annotations

from pathlib import Path

from wendascope.files import write_files
from wendascope.frame.frame import Frame
from wendascope.json_text import json_text
from wendascope.report.code import code_files
from wendascope.texts import markdown
from wendascope.trials.experiments.log import Trial
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.remedies import change_of
from wendascope.trials.remedy_code import changed_shaders


def write_trials(frame: Frame, name: str, kept: list[Trial], together: Proof | None, folder: Path) -> list[Path]:
    """Write all of it into a folder, which is made. `name` is that of the frame. Raises FileError, TrialError."""
    change = change_of(frame, [remedy for trial in kept for remedy in trial.remedies])
    change.edit()
    files: dict[str, bytes] = {}
    for shader in changed_shaders(frame, change):
        stem = f"program-{shader.program}.{shader.stage}"
        files[stem] = shader.after.encode()
        files[f"{stem}.diff"] = shader.difference(after="kept").encode()
    for number, code in enumerate(change.codes()):
        files |= code_files(f"batch-{number + 1}-", code)
    files["summary.md"] = _summary(name, kept, together, sorted(files)).encode()
    files["trials.json"] = json_text({"kept": kept, "together": together}).encode()
    return write_files(folder, files)


def _summary(name: str, kept: list[Trial], together: Proof | None, files: list[str]) -> str:
    lines = [f"# Kept changes of {markdown(name)}", ""]
    for trial in kept:
        lines += [
            f"- **{markdown(trial.title)}** ({trial.verdict}): {markdown(trial.told)}."
            + (f" Note: {markdown(trial.note)}" if trial.note else "")
        ]
    lines.append("")
    current = together is not None and set(together.together) == {trial.id for trial in kept}
    if together is not None and current:
        lines.append(f"Together: {together.told_verdict}. {markdown(together.summary or together.reason)}.")
    else:
        lines.append("Together they were not measured since they were chosen.")
    if files:
        lines += ["", "Files:", "", *(f"- `{file}`" for file in files)]
    return "\n".join(lines) + "\n"
