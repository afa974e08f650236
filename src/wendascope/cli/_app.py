"""The application that commands register with, and what they share: JSON, progress, checks."""

from __future__ import annotations

import contextlib
import signal
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer as typer

from wendascope.task import Task
from wendascope.texts import visible

if TYPE_CHECKING:
    from wendascope.measure.records import Verification
    from wendascope.replay.client import Replay

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help=(
        "Captures rendered frames of OpenGL programs, shows where their time goes, and proves what would make them"
        " faster."
    ),
    context_settings={"help_option_names": ["-h", "--help"]},
)
COMPLETION = "_WENDASCOPE_COMPLETE"
"""The variable by which a shell asks for completions."""
JsonOption = Annotated[
    bool, typer.Option("--json", help="Print machine-readable JSON on standard output, and nothing else there.")
]


class Session:
    """Options of the running command, for the error handler."""

    debug = False


def emit(value: Any) -> None:
    """JSON on standard output; characters that a terminal would act on are written as JSON escapes them."""
    from wendascope.json_text import json_text

    sys.stdout.write(json_text(value) + "\n")


def emit_line(value: Any) -> None:
    """The same as one line, at once."""
    from wendascope.json_text import json_text

    sys.stdout.write(json_text(value, -1) + "\n")
    sys.stdout.flush()


def put(*lines: object) -> None:
    """Results, a line each: on standard output, where nothing that a file says is more than text."""
    sys.stdout.write("".join(visible(line) + "\n" for line in lines or ("",)))


def put_text(text: str) -> None:
    """A result of several lines."""
    put(*text.split("\n"))


def say(*lines: object) -> None:
    """Progress and remarks: on standard error, so that standard output holds results only."""
    sys.stderr.write("".join(visible(line) + "\n" for line in lines))


def progress(quiet: bool) -> Task:
    """A progress line that rewrites itself on a terminal, and says each new kind of work elsewhere."""
    last = [""]
    terminal = sys.stderr.isatty()

    def show(what: str, part: float) -> None:
        if quiet:
            return
        if terminal:
            sys.stderr.write(f"\r\033[K{visible(what)} {part:4.0%}")
            sys.stderr.flush()
        elif what != last[0] and not what.startswith("frame "):
            say(f"  {what}")
        last[0] = what

    return Task(show)


def progress_end(quiet: bool) -> None:
    if not quiet and sys.stderr.isatty():
        sys.stderr.write("\r\033[K")


def check(file: Path) -> None:
    """Open the file here first, so that a bad one is one clear error and starts no process."""
    from wendascope.frame.file import load

    load(file)


def verify_with(replay: Replay, task: Task) -> Verification:
    """Whether a frame replays as it was captured: asked before anything is said about it."""
    from wendascope.measure.pictures import verify

    return replay.run(verify.asked(), task)


def warn(verification: Verification, quiet: bool = False) -> None:
    """Say first when the replay of a frame is not the captured picture: what follows is then of another frame."""
    from wendascope.measure.records import is_rounding

    if not verification.identical and not quiet:
        proved = (
            "proofs compare with the replay"
            if is_rounding(verification.pixels_different, verification.max_difference, verification.pixels)
            else "nothing is proved on this frame"
        )
        say(
            f"WARNING: {verification.sentence}; {proved}, and what is measured is of a frame that is not quite the"
            " captured one"
        )


def warn_stored(file: Path, quiet: bool = False) -> None:
    """The same by what the last survey of the file found, for commands that replay nothing."""
    from wendascope import records

    measured = records.SURVEY.newest(file)
    if measured is not None:
        warn(measured.verification, quiet)


@contextlib.contextmanager
def stopping() -> Iterator[Callable[[], bool]]:
    """Whether somebody asked to stop: the first interrupt or termination lets long work end with what it has, a second
    one ends the program.
    """
    asked = threading.Event()

    def stop(number: int, _frame: object) -> None:
        if asked.is_set():
            signal.signal(number, before[number])
            signal.raise_signal(number)
        asked.set()

    before = {int(number): signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield asked.is_set
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
