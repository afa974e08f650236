"""Kept trials as files: the sources that they come to, what changed in them, data layouts, and a short summary."""

from __future__ import annotations

import difflib
from pathlib import Path

from wendascope.files import write_files
from wendascope.frame.frame import Frame
from wendascope.glsl.compiler import STAGES
from wendascope.json_text import json_text
from wendascope.report.code import code_files
from wendascope.texts import markdown
from wendascope.trials.experiments.log import Trial
from wendascope.trials.proofs.proof import Proof
from wendascope.trials.remedies import change_of


def write_trials(frame: Frame, name: str, kept: list[Trial], together: Proof | None, folder: Path) -> list[Path]:
    """Write all of it into a folder, which is made. `name` is that of the frame. Raises FileError, TrialError."""
    change = change_of(frame, [remedy for trial in kept for remedy in trial.remedies])
    change.edit()
    files: dict[str, bytes] = {}
    for program, shaders in sorted(change.changed_sources().items()):
        captured = frame.programs.get(program)
        for before, (stage, after) in zip(captured.shaders if captured else [], shaders, strict=False):
            if before.source == after:
                continue
            stem = f"program-{program}.{STAGES.get(stage, 'glsl')}"
            files[stem] = after.encode()
            lines = difflib.unified_diff(
                before.source.splitlines(True), after.splitlines(True), f"captured/{stem}", f"kept/{stem}"
            )
            files[f"{stem}.diff"] = "".join(line if line.endswith("\n") else line + "\n" for line in lines).encode()
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
