"""The command line. Every command takes `--json`; exit codes are those of `errors`. One file a group of commands."""

from __future__ import annotations

import io
import logging
import os
import sys
from pathlib import Path
from typing import Annotated, Any

from wendascope.cli import (  # noqa: F401  the commands register themselves
    batching,
    capturing,
    checking,
    integration,
    looking,
    memory,
    over_time,
    planning,
    shaders,
    sharing,
    trying,
)
from wendascope.cli._app import COMPLETION, JsonOption, Session, app, emit, progress, progress_end, put, say, typer
from wendascope.errors import InternalError, UsageError, WendascopeError
from wendascope.logs import LEVELS, start_logging

_ORDER = (
    "demo capture verify survey plan show picture prove compare shaders limits edit trials batches atlas mesh memory"
    " sequence lights check bisect-frame note slim trigger mark integrate"
).split()
"""Of commands in the help and the manual: as one meets them in an afternoon. Others come after these."""


def _command_name(command: Any) -> str:
    return str(command.name or command.callback.__name__)


def _place_in_help(command: Any) -> int:
    name = _command_name(command)
    return _ORDER.index(name) if name in _ORDER else len(_ORDER)


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context,
    debug: Annotated[bool, typer.Option("--debug", help="Show the full trace of an error.")] = False,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
    verbose: Annotated[
        bool,
        typer.Option(
            "--verbose", help="With --version: formats, protocol, and what a replay process gives up on this machine."
        ),
    ] = False,
    log_level: Annotated[
        str, typer.Option("--log-level", help=f"Also log to standard error: {', '.join(LEVELS)}.")
    ] = "",
) -> None:
    Session.debug = debug
    if log_level and log_level not in LEVELS:
        raise UsageError(f"there is no log level {log_level}; choose {', '.join(LEVELS)}")
    start_logging(log_level)
    if version:
        _tell_version(verbose)
        raise typer.Exit
    if context.invoked_subcommand is None:
        raise typer.Exit(open_window([]))


def _tell_version(verbose: bool) -> None:
    import wendascope

    if not verbose:
        put(wendascope.__version__)
        return
    from wendascope.frame.file import VERSION
    from wendascope.replay.client import in_force
    from wendascope.tap.channel import PROTOCOL

    found = in_force()
    put(f"Wendascope {wendascope.__version__}, files up to format {VERSION}, tap protocol {PROTOCOL}")
    put("a replay process on this machine")
    for label, values in (
        ("is limited by", found.in_force),
        ("was refused", found.refused),
        ("was ALLOWED", found.allowed),
    ):
        for value in values:
            put(f"{label:>15}  {value}")
            label = ""
    if not found.in_force:
        put(f"{'':>15}  nothing is in force (WENDASCOPE_CONFINE=off, or a kernel without Landlock and seccomp)")


def _introduce(arguments: list[str]) -> None:
    """Say of files of strangers, before the first of them is replayed, what it will run here and what holds it."""
    for name in arguments:
        path = Path(name)
        # what can be no path is none here
        if not name.endswith(".wend") or not os.path.isfile(name) or "capture" in arguments:  # noqa: PTH113
            continue
        from wendascope.frame.file import content_of, load
        from wendascope.frame.origins import introduction, origin
        from wendascope.replay.client import in_force

        content = content_of(path)
        if not origin(content):
            say(f"{path.name}: {introduction(load(path), content)} {in_force().sentence}")


def open_window(files: list[Path]) -> int:
    """Open the window on files. Raises MachineError where there is no display."""
    from wendascope.desktop.window.application import run

    start_logging()
    return run(files)


@app.command()
def demo(
    headless: Annotated[bool, typer.Option("--headless", help="Run the whole path without a window.")] = False,
    out: Annotated[Path, typer.Option(help="Folder for the files of the headless run.")] = Path("out/demo"),
    size: Annotated[
        str,
        typer.Option(metavar="WIDTHxHEIGHT", help="What the headless run draws; a small picture takes less time."),
    ] = "",
    json: JsonOption = False,
) -> None:
    """The demo with its data; without a display, or with --headless, the whole path from capture to report."""
    from wendascope.demo.surface import has_display

    if headless or not has_display():
        from wendascope.headless import run_demo

        result = run_demo(out, progress(json), (lambda _text: None) if json else put, size)
        progress_end(json)
        if json:
            emit(result)
        return
    from wendascope.demo.data import demo_files

    raise typer.Exit(open_window(demo_files()))


app.registered_commands.sort(key=_place_in_help)


def main() -> None:
    """Entry point: one line for every error, and its exit code."""
    arguments = sys.argv[1:]
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # what it cannot show is spelled
    first = next((a for a in arguments if not a.startswith("-")), None)
    try:
        if (
            first is not None
            and first not in {_command_name(c) for c in app.registered_commands}
            and (first.endswith(".wend") or os.path.exists(first))  # noqa: PTH110 - false for what can be no path, too
        ):
            raise SystemExit(open_window([Path(a) for a in arguments if not a.startswith("-")]))
        _introduce(arguments)
        if COMPLETION in os.environ:
            from typer._completion_classes import completion_init

            completion_init()
        code = app(standalone_mode=False, prog_name="wendascope")
        sys.exit(code if isinstance(code, int) else 0)
    except WendascopeError as error:
        if Session.debug or "--debug" in arguments:
            raise
        output = getattr(error, "output", "")
        if output:
            say("the last lines it wrote:")
            say(*(f"  {line}" for line in output.splitlines()))
        if "--json" in arguments:
            emit({"error": str(error), "exit_code": error.exit_code, "output": output})
        say(f"wendascope: {error}")
        sys.exit(error.exit_code)
    except KeyboardInterrupt:
        say("wendascope: stopped")
        sys.exit(130)
    except Exception as error:
        if type(error).__module__.startswith(("click", "typer")) and hasattr(error, "exit_code"):
            message = error.format_message() if hasattr(error, "format_message") else str(error)
            if message:
                say(f"wendascope: {message}")
            sys.exit(2)
        logging.getLogger(__name__).exception("%s", " ".join(arguments))
        if Session.debug or "--debug" in arguments:
            raise
        found = InternalError.of(error)
        if "--json" in arguments:
            emit({"error": str(found), "exit_code": found.exit_code, "output": ""})
        say(f"wendascope: {found}")
        sys.exit(found.exit_code)
