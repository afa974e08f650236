"""The application that commands register with, and what they share: JSON, progress, checks."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

# typer loads rich, a fifth of the time that a short command takes, to draw boxes round its help texts
_rich = sys.modules.get("rich")
sys.modules["rich"] = _rich  # type: ignore[assignment]
import typer as typer  # noqa: E402

if _rich is None:
    del sys.modules["rich"]

if TYPE_CHECKING:
    from collections.abc import Callable

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Captures rendered frames of OpenGL programs, shows where their time goes, and proves what would make them faster.",
    context_settings={"help_option_names": ["-h", "--help"]},
)
JsonOption = Annotated[bool, typer.Option("--json", help="Print machine-readable JSON on standard output, and nothing else there.")]


class Session:
    """Options of the running command, for the error handler."""

    debug = False


def emit(value: Any) -> None:
    import msgspec

    sys.stdout.write(msgspec.json.format(msgspec.json.encode(value), indent=2).decode() + "\n")


def say(text: str) -> None:
    """Progress and remarks: on standard error, so that standard output holds results only."""
    sys.stderr.write(text + "\n")


def progress(quiet: bool) -> Callable[[str, float], None]:
    """A progress line that rewrites itself on a terminal, and says each new kind of work elsewhere."""
    last = [""]
    terminal = sys.stderr.isatty()

    def show(what: str, part: float) -> None:
        if quiet:
            return
        if terminal:
            sys.stderr.write(f"\r\033[K{what} {part:4.0%}")
            sys.stderr.flush()
        elif what != last[0] and not what.startswith("frame "):
            say(f"  {what}")
        last[0] = what

    return show


def progress_end(quiet: bool) -> None:
    if not quiet and sys.stderr.isatty():
        sys.stderr.write("\r\033[K")


def check(file: Path) -> None:
    """Open the file here first, so that a bad one is one clear error and starts no process."""
    from wendascope.frame.file import load

    load(file)


def typed(value: Any, type_: Any) -> Any:
    import msgspec

    return msgspec.convert(value, type_)
