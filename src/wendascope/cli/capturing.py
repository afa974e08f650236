"""Commands that take frames of running programs."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

from wendascope.cli._app import JsonOption, app, emit, emit_line, progress, progress_end, put, say, typer
from wendascope.errors import UsageError, WendascopeError
from wendascope.texts import plural

if TYPE_CHECKING:
    from wendascope.frame.frame import Frame

AfterOption = Annotated[float, typer.Option(help="Take a frame after this many seconds.", min=0.0)]
SlowerOption = Annotated[
    float, typer.Option(help="Take the frame after one slower than this many milliseconds.", min=0.0)
]
FramesOption = Annotated[
    int, typer.Option(help="Take this many frames into one file: FILE#2 is the second.", min=1, max=1000)
]
EveryOption = Annotated[int, typer.Option(help="Of several frames, take every Nth.", min=1, max=100_000)]
UnusedOption = Annotated[
    bool, typer.Option("--skip-unused", help="Leave out contents of objects that the frame does not use.")
]
FollowingOption = Annotated[
    bool,
    typer.Option(
        "--skip-following", help="Do not record the calls of the frame after, by which proofs tell what is read again."
    ),
]
DepthOption = Annotated[bool, typer.Option("--depth", help="Also keep the depth of the finished picture.")]


@app.command()
def capture(
    program: Annotated[
        list[str], typer.Argument(help="The program and its arguments, after --.", metavar="-- PROGRAM ARGS...")
    ],
    frame: Annotated[int, typer.Option(help="Take frame number N (the first after a swap is 1).", min=0)] = 0,
    after: AfterOption = 0.0,
    slower_than: SlowerOption = 0.0,
    frames: FramesOption = 1,
    every: EveryOption = 1,
    out: Annotated[Path | None, typer.Option("--out", "-o", help="File to write.")] = None,
    frame_end: Annotated[str, typer.Option(help="What ends a frame: swap, readback or marker.")] = "swap",
    timeout: Annotated[
        float, typer.Option(help="Give up when no frame was taken after this many seconds.", min=0.1)
    ] = 60.0,
    keep_running: Annotated[bool, typer.Option("--keep-running", help="Leave the program running afterwards.")] = False,
    listen: Annotated[
        str, typer.Option(help="Take no frame yet: listen under this name, for the window and `wendascope trigger`.")
    ] = "",
    folder: Annotated[Path | None, typer.Option(help="Folder to run the program in.")] = None,
    env: Annotated[
        list[str] | None, typer.Option(help="NAME=VALUE for the program's environment; may be repeated.")
    ] = None,
    skip_unused: UnusedOption = False,
    depth: DepthOption = False,
    skip_following: FollowingOption = False,
    json: JsonOption = False,
) -> None:
    """Run a program under the tap, take frames of it, and print where each is."""
    from wendascope.errors import TargetError
    from wendascope.frame.file import SequenceWriter, check_new
    from wendascope.frame.places import frame_path
    from wendascope.tap.channel import FrameEnd
    from wendascope.tap.launch import Target, Trigger
    from wendascope.tap.take import Collect
    from wendascope.tap.why_nothing import SOCKET

    if frame_end not in FrameEnd.__members__:
        raise UsageError(f"--frame-end is swap, readback or marker, not {frame_end}")
    _check_trigger(frame, after, slower_than)
    if SOCKET in os.environ:
        raise UsageError("this is already running under the tap; capture from outside")
    environment = _environment(env or [])
    if listen:
        _sit(listen, program, out or Path.cwd(), FrameEnd[frame_end], folder, environment, json)
        return
    base = out or Path(Path(program[0]).stem + ".wend")
    check_new(base)  # before the program is played to the spot that is wanted
    show = progress(json)
    taken: list[dict[str, object]] = []
    with Target(program, folder, environment, None if json else say, FrameEnd[frame_end]) as target:
        try:
            with SequenceWriter(base) as writer:
                trigger = Trigger(frame, after, slower_than, FrameEnd[frame_end])
                for number in range(frames):
                    last = number == frames - 1
                    # the next frame, unless only slow ones are wanted: armed before the program goes on
                    following = (
                        None
                        if last
                        else Trigger(slower_than_ms=slower_than, frame_end=FrameEnd[frame_end], later=every)
                    )
                    collect = Collect(not skip_unused, depth, not skip_following)
                    try:
                        got = target.capture(trigger, timeout, show, then=following, collect=collect)
                    except TargetError as error:
                        if not taken:
                            raise
                        progress_end(json)
                        say(f"{error}; kept are the {plural(len(taken), 'frame')} taken before")
                        break
                    writer.add(got)
                    taken.append(_summary(got))
                    del got  # one frame at a time is in memory
                    trigger = following or trigger
        finally:
            if keep_running:
                target.let_go()
        progress_end(json)
        written = [_told(item, frame_path(base, number), json) for number, item in enumerate(taken, 1)]
    if json:
        emit({"frames": written})


def _summary(taken: Frame) -> dict[str, object]:
    return {
        "frame": taken.metadata.frame_number,
        "calls": taken.call_count,
        "steps": len(taken.steps),
        "passes": len(taken.passes),
        "held_seconds": taken.metadata.held_seconds,
        "caveats": taken.caveats,
    }


def _told(taken: dict[str, Any], path: Path, json: bool) -> dict[str, object]:
    """Say what was taken; returns it as JSON tells it."""
    from wendascope.frame.places import place_of

    summary = {"file": str(path), **taken, "bytes": place_of(path)[0].stat().st_size}
    if not json:
        put(path)
        say(f"frame {summary['frame']}: {summary['calls']} calls, {summary['steps']} steps, {summary['passes']} passes")
        for caveat in taken["caveats"]:
            say(f"caveat: {caveat}")
    return summary


def _check_trigger(frame: int, after: float, slower_than: float) -> None:
    if sum(map(bool, (frame, after, slower_than))) > 1:
        raise UsageError("choose one of --frame, --after and --slower-than")


def _environment(assignments: list[str]) -> dict[str, str]:
    """The environment of the program: ours, with what was asked for."""
    environment = dict(os.environ)
    for assignment in assignments:
        name, equals, value = assignment.partition("=")
        if not name or not equals:
            raise UsageError(f"--env wants NAME=VALUE, not {assignment}")
        environment[name] = value
    return environment


def _sit(
    name: str,
    program: list[str],
    out: Path,
    frame_end: Any,
    folder: Path | None,
    environment: dict[str, str],
    json: bool,
) -> None:
    """Serve a capture session until the program ends."""
    import signal

    from wendascope.errors import FileError, TargetError
    from wendascope.tap.launch import Target
    from wendascope.tap.messages import Ended, Event, Output, Taken
    from wendascope.tap.session import CaptureSession
    from wendascope.tap.sessions import listen

    def told(event: Event) -> None:
        if json and isinstance(event, Taken | Ended):
            emit_line(event)
        elif not json and isinstance(event, Taken):
            put(event.file)
            sys.stdout.flush()
        elif not json and isinstance(event, Output):
            say(*event.lines)

    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"cannot make the folder {out}: {error.strerror}; choose another with --out") from error
    early: list[int] = []
    signal.signal(signal.SIGTERM, lambda number, _frame: early.append(number))  # no program may be left running
    server = listen(name)
    try:
        target = Target(program, folder, environment, None, frame_end)
    except WendascopeError:
        server.close()
        raise
    say(f"listening as {name}; take frames with `wendascope trigger {name}` or from the window's Capture page")
    with target:
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
        if early:
            sys.exit(143)
        session = CaptureSession(name, server, target, out.resolve(), told)
        text = session.run()
    if not session.drew:
        raise TargetError(text, target.output.tail)
    say(text)


@app.command()
def mark(
    name: Annotated[str, typer.Argument(help="Name given to `wendascope capture --listen`.")],
    timeout: Annotated[float, typer.Option(help="Give up after this many seconds.", min=0.1)] = 60.0,
    json: JsonOption = False,
) -> None:
    """Keep what lives in the graphics memory of a running program, to be compared with later marks by `memory`."""
    from wendascope.errors import TargetError
    from wendascope.tap.client import SessionClient
    from wendascope.tap.messages import Do, Marked
    from wendascope.texts import memory

    with SessionClient(name) as client:
        client.send(Do("mark"))
        made = next((event for event in client.events(timeout) if isinstance(event, Marked)), None)
    if made is None:
        raise TargetError(f"no frame ended within {timeout:g} s, and marks are made at the end of frames")
    if json:
        emit(made)
        return
    put(made.file)
    say(f"mark {made.number} at frame {made.frame:,}: {memory(made.bytes)} in {made.objects:,} objects")


@app.command()
def trigger(
    name: Annotated[str, typer.Argument(help="Name given to `wendascope capture --listen`.")],
    frame: Annotated[int, typer.Option(help="Take frame number N.", min=0)] = 0,
    after: AfterOption = 0.0,
    slower_than: SlowerOption = 0.0,
    frames: FramesOption = 1,
    every: EveryOption = 1,
    skip_unused: UnusedOption = False,
    depth: DepthOption = False,
    skip_following: FollowingOption = False,
    timeout: Annotated[float, typer.Option(help="Give up after this many seconds.", min=0.1)] = 60.0,
    json: JsonOption = False,
) -> None:
    """Take a frame of a program that was started with `capture --listen`: from a script, or from a key binding."""
    from wendascope.errors import TargetError
    from wendascope.tap.client import SessionClient
    from wendascope.tap.messages import Take, Taken

    _check_trigger(frame, after, slower_than)
    taken: list[Taken] = []
    with SessionClient(name) as client:
        client.send(Take(frame, after, slower_than, frames, not skip_unused, depth, not skip_following, every))
        for event in client.events(timeout + after):
            if isinstance(event, Taken):
                taken.append(event)
                if not json:
                    put(event.file)
                if len(taken) == frames:
                    break
        else:
            raise TargetError(f"no frame was taken within {timeout + after:g} s")
    if json:
        emit({"frames": taken})
