"""What people write on a captured frame, its passes, its steps and what was found in it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

import msgspec

from wendascope.frame.frame import Frame

SubjectKind = Literal["frame", "pass", "step", "finding"]


class Subject(msgspec.Struct, frozen=True):
    """What a note is on: a pass or a step by its number, a finding by its id, or the frame as a whole."""

    kind: SubjectKind = "frame"
    name: str = ""


WHOLE_FRAME = Subject()


class Note(msgspec.Struct):
    """What a user wrote; an empty text takes away what was written before."""

    text: str
    subject: Subject = WHOLE_FRAME


def newest_notes(notes: Iterable[Note]) -> dict[Subject, str]:
    """What stands on each subject, from notes in the order in which they were written."""
    newest = {note.subject: note.text for note in notes}
    return {subject: text for subject, text in newest.items() if text}


def subject_title(subject: Subject, frame: Frame, findings: dict[str, str]) -> str:
    """A subject in words; `findings` are the titles of findings by their ids. What the frame lacks keeps its name."""
    kind, name = subject.kind, subject.name
    if kind == "frame":
        return "frame"
    if kind == "finding":
        return findings.get(name, f"finding {name}")
    number = int(name) if name.isdecimal() else -1
    if kind == "pass" and 0 <= number < len(frame.passes):
        return f"pass {frame.passes.names[number]}"
    if kind == "step" and 0 <= number < len(frame.steps):
        return f"step {number}, {frame.step_name(number)}"
    return f"{kind} {name}"
