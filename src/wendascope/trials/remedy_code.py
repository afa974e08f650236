"""What the programmer would write for some remedies: changed shaders as differences, and the code of batches."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from wendascope.backends.doors import Changes, Code
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Remedy
from wendascope.glsl.compiler import STAGES
from wendascope.trials.remedies import change_of


class ChangedShader(NamedTuple):
    """A shader that a change replaces."""

    program: int
    stage: str
    """`vert`, `frag` and so on: what files of it end with."""
    before: str
    after: str

    def difference(self, before: str = "captured", after: str = "changed") -> str:
        """In the unified form; the names are what the two are called in its head."""
        name = f"program-{self.program}.{self.stage}"
        lines = difflib.unified_diff(
            self.before.splitlines(True), self.after.splitlines(True), f"{before}/{name}", f"{after}/{name}"
        )
        return "".join(line if line.endswith("\n") else line + "\n" for line in lines)


def changed_shaders(frame: Frame, change: Changes) -> Iterator[ChangedShader]:
    """Shaders that a change makes others of, once `edit` was called."""
    for program, shaders in sorted(change.changed_sources().items()):
        captured = frame.programs.get(program)
        for before, (stage, after) in zip(captured.shaders if captured else [], shaders, strict=False):
            if before.source != after:
                yield ChangedShader(program, STAGES.get(stage, "glsl"), before.source, after)


def remedy_code(frame: Frame, remedies: Sequence[Remedy]) -> list[Code]:
    """Pieces of code for all of them together; empty where it is not code that changes. Raises TrialError."""
    change = change_of(frame, list(remedies))
    change.edit()
    shaders = [
        Code(f"Program {found.program}, {found.stage}", found.difference(), "diff")
        for found in changed_shaders(frame, change)
    ]
    codes = change.codes()
    batches = [
        Code(f"Batch {number}: {code.title}" if len(codes) > 1 else code.title, code.text, code.language)
        for number, pieces in enumerate(codes, 1)
        for code in pieces
    ]
    return [*shaders, *batches]
