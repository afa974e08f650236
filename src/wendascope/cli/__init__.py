"""The command line. Every command takes `--json`; exit codes are those of `errors`. One file a group of commands."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

from wendascope.cli import capturing, looking, shaders, trying  # noqa: F401  the commands register themselves
from wendascope.cli._app import JsonOption, Session, app, emit, progress, progress_end, say, typer
from wendascope.errors import WendascopeError


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context,
    debug: Annotated[bool, typer.Option("--debug", help="Show the full trace of an error.")] = False,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    Session.debug = debug
    if version:
        import wendascope

        print(wendascope.__version__)
        raise typer.Exit
    if context.invoked_subcommand is None:
        raise typer.Exit(open_window([]))


def open_window(files: list[Path]) -> int:
    """Open the window on files. Raises MachineError where there is no display."""
    from wendascope.desktop.application import run

    return run(files)


@app.command()
def demo(
    headless: Annotated[bool, typer.Option("--headless", help="Run the whole path without a window.")] = False,
    out: Annotated[Path, typer.Option(help="Folder for the files of the headless run.")] = Path("out/demo"),
    json: JsonOption = False,
) -> None:
    """The demo with its data; without a display, or with --headless, the whole path from capture to report."""
    from wendascope.demo.surface import has_display

    if headless or not has_display():
        from wendascope.headless import run_demo

        result = run_demo(out, progress(json), (lambda _text: None) if json else print)
        progress_end(json)
        if json:
            emit(result)
        return
    from wendascope.demo.data import demo_files

    raise typer.Exit(open_window(demo_files()))


def main() -> None:
    """Entry point: one line for every error, and its exit code."""
    arguments = sys.argv[1:]
    first = next((a for a in arguments if not a.startswith("-")), None)
    try:
        if first is not None and first not in {c.name or c.callback.__name__ for c in app.registered_commands if c.callback} and (first.endswith(".wend") or Path(first).exists()):
            raise SystemExit(open_window([Path(a) for a in arguments if not a.startswith("-")]))
        code = app(standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except WendascopeError as error:
        if Session.debug or "--debug" in arguments:
            raise
        output = getattr(error, "output", "")
        if output:
            say("the last lines it wrote:")
            say("\n".join(f"  {line}" for line in output.splitlines()))
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
        raise
