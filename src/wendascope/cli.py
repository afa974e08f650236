"""The command line. Every command takes `--json`; exit codes are those of `errors`."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

# typer loads rich, a fifth of the time that a short command takes, to draw boxes round its help texts
_rich = sys.modules.get("rich")
sys.modules["rich"] = _rich  # type: ignore[assignment]
import typer  # noqa: E402

if _rich is None:
    del sys.modules["rich"]

from wendascope.errors import UsageError, WendascopeError  # noqa: E402

if TYPE_CHECKING:
    from collections.abc import Callable

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Captures rendered frames of OpenGL programs, shows where their time goes, and proves what would make them faster.",
    context_settings={"help_option_names": ["-h", "--help"]},
)
AfterOption = Annotated[float, typer.Option(help="Take a frame after this many seconds.", min=0.0)]
SlowerOption = Annotated[float, typer.Option(help="Take the frame after one slower than this many milliseconds.", min=0.0)]
FramesOption = Annotated[int, typer.Option(help="Take this many frames, one after the other.", min=1, max=1000)]
UnusedOption = Annotated[bool, typer.Option("--skip-unused", help="Leave out contents of objects that the frame does not touch.")]
DepthOption = Annotated[bool, typer.Option("--depth", help="Also keep the depth of the finished picture.")]
JsonOption = Annotated[bool, typer.Option("--json", help="Print machine-readable JSON on standard output, and nothing else there.")]
COMMANDS = ("capture", "trigger", "show", "verify", "survey", "picture", "prove", "atlas", "compare", "demo")


class _Session:
    """Options of the running command, for the error handler."""

    debug = False


def _emit(value: Any) -> None:
    import msgspec

    sys.stdout.write(msgspec.json.format(msgspec.json.encode(value), indent=2).decode() + "\n")


def _say(text: str) -> None:
    """Progress and remarks: on standard error, so that standard output holds results only."""
    sys.stderr.write(text + "\n")


def _progress(quiet: bool) -> Callable[[str, float], None]:
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
            _say(f"  {what}")
        last[0] = what

    return show


def _progress_end(quiet: bool) -> None:
    if not quiet and sys.stderr.isatty():
        sys.stderr.write("\r\033[K")


@app.callback(invoke_without_command=True)
def _root(
    context: typer.Context,
    debug: Annotated[bool, typer.Option("--debug", help="Show the full trace of an error.")] = False,
    version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False,
) -> None:
    _Session.debug = debug
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
def capture(
    program: Annotated[list[str], typer.Argument(help="The program and its arguments, after --.", metavar="-- PROGRAM ARGS...")],
    frame: Annotated[int, typer.Option(help="Take frame number N (the first after a swap is 1).", min=0)] = 0,
    after: AfterOption = 0.0,
    slower_than: SlowerOption = 0.0,
    frames: FramesOption = 1,
    out: Annotated[Path | None, typer.Option(help="File to write; several frames get numbers.")] = None,
    boundary: Annotated[str, typer.Option(help="What ends a frame: swap, readback or marker.")] = "swap",
    timeout: Annotated[float, typer.Option(help="Give up when no frame was taken after this many seconds.", min=0.1)] = 60.0,
    keep_running: Annotated[bool, typer.Option("--keep-running", help="Leave the program running afterwards.")] = False,
    listen: Annotated[str, typer.Option(help="Take no frame yet: listen under this name, for the window and `wendascope trigger`.")] = "",
    folder: Annotated[Path | None, typer.Option(help="Folder to run the program in.")] = None,
    env: Annotated[list[str] | None, typer.Option(help="NAME=VALUE for the program's environment; may be repeated.")] = None,
    skip_unused: UnusedOption = False,
    depth: DepthOption = False,
    json: JsonOption = False,
) -> None:
    """Run a program under the tap, take frames of it, and print each file written."""
    from wendascope.frame.file import save
    from wendascope.tap.channel import Boundary
    from wendascope.tap.launch import Target, Trigger
    from wendascope.tap.take import Collect

    if boundary not in Boundary.__members__:
        raise UsageError(f"--boundary is swap, readback or marker, not {boundary}")
    _check_trigger(frame, after, slower_than)
    if "WENDASCOPE_SOCKET" in os.environ:
        raise UsageError("this is already running under the tap; capture from outside")
    environment = _environment(env or [])
    if listen:
        _sit(listen, program, out or Path.cwd(), Boundary[boundary], folder, environment, json)
        return
    base = out or Path(Path(program[0]).stem + ".wend")
    show = _progress(json)
    written = []
    target = Target(program, folder, environment, None if json else _say, Boundary[boundary])
    with target:
        trigger = Trigger(frame, after, slower_than, Boundary[boundary])
        for number in range(frames):
            last = number == frames - 1
            # the frame after this one, unless only slow ones are wanted: armed before the program goes on
            following = None if last else Trigger(frame=1, slower_than_ms=slower_than, boundary=Boundary[boundary])
            taken = target.capture(trigger, timeout, show, then=following, collect=Collect(not skip_unused, depth))
            trigger = following or trigger
            path = base if frames == 1 else base.with_name(f"{base.stem}-{number + 1:03d}{base.suffix}")
            save(taken, path)
            _progress_end(json)
            summary = {
                "file": str(path), "frame": taken.metadata.frame_number, "calls": len(taken.calls), "steps": len(taken.steps),
                "passes": len(taken.passes), "bytes": path.stat().st_size, "held_seconds": taken.metadata.held_seconds,
                "caveats": taken.caveats,
            }  # fmt: skip
            written.append(summary)
            if not json:
                print(path)
                _say(f"frame {summary['frame']}: {summary['calls']} calls, {summary['steps']} steps, {summary['passes']} passes")
                for caveat in taken.caveats:
                    _say(f"caveat: {caveat}")
        if keep_running:
            target.let_go()
    if json:
        _emit({"frames": written})


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


def _sit(name: str, program: list[str], out: Path, boundary: Any, folder: Path | None, environment: dict[str, str], json: bool) -> None:
    """Serve a sitting until the program ends."""
    import signal

    import msgspec

    from wendascope.errors import FileError, TargetError
    from wendascope.tap.launch import Target
    from wendascope.tap.messages import Ended, Event, Output, Taken
    from wendascope.tap.sitting import Sitting
    from wendascope.tap.sittings import listen

    def told(event: Event) -> None:
        if json and isinstance(event, Taken | Ended):
            sys.stdout.write(msgspec.json.encode(event).decode() + "\n")
            sys.stdout.flush()
        elif not json and isinstance(event, Taken):
            print(event.file, flush=True)
        elif not json and isinstance(event, Output):
            _say("\n".join(event.lines))

    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"cannot make the folder {out}: {error.strerror}; choose another with --out") from error
    server = listen(name)
    try:
        target = Target(program, folder, environment, None, boundary)
    except WendascopeError:
        server.close()
        raise
    _say(f"listening as {name}; take frames with `wendascope trigger {name}` or from the window's Capture page")
    with target:
        signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))  # so that the program is ended as well
        sitting = Sitting(name, server, target, out.resolve(), told)
        text = sitting.run()
    if not sitting.drew:
        raise TargetError(text, target.output.tail)
    _say(text)


@app.command()
def trigger(
    name: Annotated[str, typer.Argument(help="Name given to `wendascope capture --listen`.")],
    frame: Annotated[int, typer.Option(help="Take frame number N.", min=0)] = 0,
    after: AfterOption = 0.0,
    slower_than: SlowerOption = 0.0,
    frames: FramesOption = 1,
    skip_unused: UnusedOption = False,
    depth: DepthOption = False,
    timeout: Annotated[float, typer.Option(help="Give up after this many seconds.", min=0.1)] = 60.0,
    json: JsonOption = False,
) -> None:
    """Take a frame of a program that was started with `capture --listen`: from a script, or from a key binding."""
    from wendascope.errors import TargetError
    from wendascope.tap.client import SittingClient
    from wendascope.tap.messages import Take, Taken

    _check_trigger(frame, after, slower_than)
    taken: list[Taken] = []
    with SittingClient(name) as client:
        client.send(Take(frame, after, slower_than, frames, not skip_unused, depth))
        for event in client.events(timeout + after):
            if isinstance(event, Taken):
                taken.append(event)
                if not json:
                    print(event.file)
                if len(taken) == frames:
                    break
        else:
            raise TargetError(f"no frame was taken within {timeout + after:g} s")
    if json:
        _emit({"frames": taken})


@app.command()
def show(file: Path, json: JsonOption = False) -> None:
    """What is in a file: api, profile, size, calls, steps, passes, caveats."""
    from wendascope.frame.file import load
    from wendascope.frame.summary import summarise

    summary = summarise(load(file))
    if json:
        _emit(summary)
        return
    for label, value in (
        ("file", file), ("program", summary.program), ("captured", f"{summary.captured_at}, frame {summary.frame_number}"),
        ("context", f"{summary.api}, {summary.renderer}"), ("window", f"{summary.width} x {summary.height}"),
        ("calls", f"{summary.calls:,}"), ("steps", f"{summary.steps:,}"),
        ("vertices", f"{summary.vertices:,}"), ("triangles", f"{summary.triangles:,}"),
        ("objects", ", ".join(f"{n} {what}" for what, n in summary.objects.items())),
        ("own frame time", f"{summary.target_frame_ms:.2f} ms" if summary.target_frame_ms else "not known"),
    ):  # fmt: skip
        print(f"{label:>15}  {value}")
    print(f"{'passes':>15}  {len(summary.passes)}")
    for item in summary.passes:
        print(f"{'':>15}  {item.name:<32} {item.steps:>6} steps  {item.width} x {item.height}")
    for caveat in summary.caveats or ["none"]:
        print(f"{'caveats':>15}  {caveat}")


@app.command()
def verify(file: Path, json: JsonOption = False) -> None:
    """Replay a frame and compare it with the picture the program made. Exit 1 when they differ."""
    from wendascope.measure.records import Verification
    from wendascope.replay.client import Replay

    with Replay(file) as replay:
        _check(file)
        result = _typed(replay.run("measure.pictures", "verify", _progress(json)), Verification)
    _progress_end(json)
    if json:
        _emit(result)
    elif result.identical:
        print(f"identical: all {result.pixels:,} pixels")
    else:
        print(f"different: {result.pixels_different:,} of {result.pixels:,} pixels, by up to {result.max_difference} of 255")
    if not json and result.depth_different is not None:
        print(f"depth: {'identical' if not result.depth_different else f'{result.depth_different:,} pixels differ'}")
    if not json:
        for caveat in result.caveats:
            print(f"caveat: {caveat}")
    if not result.identical:
        raise typer.Exit(1)


def _check(file: Path) -> None:
    """Open the file here first, so that a bad one is one clear error and starts no process."""
    from wendascope.frame.file import load

    load(file)


def _typed(value: Any, type_: Any) -> Any:
    import msgspec

    return msgspec.convert(value, type_)


@app.command()
def survey(
    file: Path,
    html: Annotated[Path | None, typer.Option(help="Also write a report to this file.")] = None,
    csv: Annotated[Path | None, typer.Option(help="Also write tables into this folder.")] = None,
    trace: Annotated[Path | None, typer.Option(help="Also write the recorded calls to this file, as trace-event JSON.")] = None,
    budget: Annotated[float, typer.Option(help="Milliseconds a frame may take.", min=0.1)] = 16.7,
    repeats: Annotated[int, typer.Option(help="Timed runs of each kind.", min=1, max=1000)] = 6,
    dearest: Annotated[int, typer.Option(help="How many steps to list.", min=0)] = 10,
    times_only: Annotated[bool, typer.Option("--times-only", help="Only times: count no layers and look for nothing to change.")] = False,
    json: JsonOption = False,
) -> None:
    """Measure a frame: times, layers and triangles, and what to change. Kept in the file."""
    from wendascope.report.formats import export
    from wendascope.report.survey import survey_document
    from wendascope.trials.examine import examine_file, time_file
    from wendascope.trials.proof import stored_proofs

    examined = (time_file if times_only else examine_file)(file, repeats, _progress(json))
    _progress_end(json)
    result = examined.survey
    document = survey_document(examined.frame, result, budget, examined.drawn, examined.findings, stored_proofs(file))
    for kind, path in (("html", html), ("csv", csv), ("trace", trace)):
        if path is not None:
            export(kind, document, path, file)
            if not json:
                _say(f"wrote {path}")
    if json:
        _emit(document)
        return
    print(document.sentence)
    print(f"by {result.method} ({result.calibration.reason}), {result.repeats} repeats; on {result.renderer}")
    print(f"picture: {'identical' if result.verification.identical else 'DIFFERENT from the reference; times are marked'}")
    print()
    print(f"{'pass':<34} {'steps':>6} {'ms':>9} {'interval':>19} {'share':>7} {'CPU ms':>8}")
    for row in sorted(document.passes, key=lambda p: -p.ms):
        print(f"{row.name[:34]:<34} {row.steps:>6} {row.ms:>9.3f} {row.ms_low:>9.3f} {row.ms_high:>9.3f} {row.share:>7.1%} {row.cpu_ms:>8.3f}")
    print()
    print(f"{'step':>6}  {'pass':<20} {'what':<34} {'ms alone':>9} {'triangles':>10} {'fragments':>10}")
    for step in sorted(document.steps, key=lambda s: -s.ms)[:dearest]:
        count = "" if step.fragments is None else f"{step.fragments:,}"
        pass_name = document.passes[step.pass_].name
        print(f"{step.index:>6}  {pass_name[:20]:<20} {step.name[:34]:<34} {step.ms:>9.3f} {step.triangles:>10,} {count:>10}")
    print()
    for finding in document.findings:
        gain = "" if finding.estimate_ms is None else f"{finding.estimate_ms:.2f}"
        print(f"{gain:>8}  {finding.title}  [{finding.id}, {finding.state}]")
    for caveat in document.caveats:
        print(f"caveat: {caveat}")
    print()
    cpu = result.cpu
    print(
        f"CPU while recorded: {cpu.frame_ms:.2f} ms, of it {cpu.calls_ms:.2f} ms in calls, {cpu.waits_ms:.2f} ms waiting, "
        f"{cpu.program_ms:.2f} ms the program's own"
    )
    print(document.paced_by)
    for wait in document.waits[:5]:
        print(f"  {wait.ms:.2f} ms in {wait.command}, call {wait.call:,}: for {wait.what}")


@app.command()
def picture(
    file: Path,
    out: Annotated[Path, typer.Option(help="PNG file to write.")],
    step: Annotated[int | None, typer.Option(help="Show the target after this step; without it, the finished picture.", min=0)] = None,
    lens: Annotated[str, typer.Option(help="How to see it: colour or depth.")] = "colour",
    json: JsonOption = False,
) -> None:
    """Write one picture of a frame."""
    from PIL import Image

    from wendascope.frame.file import load
    from wendascope.measure.lenses import lens_named
    from wendascope.replay.client import Replay
    from wendascope.report.files import write_atomically

    chosen = lens_named(lens)
    frame = load(file)
    if step is not None and step >= len(frame.steps):
        raise UsageError(f"there is no step {step}; the frame has steps 0 to {len(frame.steps) - 1}")
    with Replay(file) as replay:
        found = replay.run("measure.pictures", "picture_at", _progress(json), step=step, lens=lens)
    _progress_end(json)
    image = Image.fromarray(chosen.paint(found))
    write_atomically(out, lambda path: image.save(path, "PNG"))
    if json:
        _emit({"file": str(out), "width": image.width, "height": image.height, "target": found["name"]})
    else:
        print(out)


@app.command()
def prove(
    file: Path,
    finding: Annotated[str, typer.Option(help="Prove this finding only, by its id.")] = "",
    every: Annotated[bool, typer.Option("--all", help="Prove every finding, and all that held as one edited frame.")] = False,
    repeats: Annotated[int, typer.Option(help="Pairs of replays.", min=6, max=1000)] = 12,
    code: Annotated[Path | None, typer.Option(help="Also write the shaders, data layouts and calls of batches into this folder.")] = None,
    json: JsonOption = False,
) -> None:
    """Try the remedies of findings on the frame itself: replayed in turns with the original, measured, compared. Kept in the file."""
    from wendascope.frame.file import load
    from wendascope.replay.client import Replay
    from wendascope.report.code import write_code
    from wendascope.trials.examine import examine_file, stored_examination
    from wendascope.trials.proof import prove as prove_findings
    from wendascope.trials.proof import prove_all, told

    if bool(finding) == every:
        raise UsageError("choose one finding with --finding ID, or --all; `wendascope survey` lists them")
    show = _progress(json)
    combined = None
    frame = load(file)
    with Replay(file) as replay:
        drawn, findings = stored_examination(file)
        if drawn is None:
            if not json:
                _say("this frame was not measured yet; measuring it first")
            findings = examine_file(file, progress=show, replay=replay).findings
        if finding:
            chosen = [item for item in findings if item.id == finding]
            if not chosen:
                raise UsageError(f"{file.name} has no finding {finding}; `wendascope survey` lists them")
            proofs = [prove_findings(file, frame, chosen, replay, repeats, show)]
        else:
            chosen = findings
            proofs, combined = prove_all(file, frame, findings, replay, repeats, show)
    _progress_end(json)
    if code is not None:
        for path in write_code(frame, chosen, code):
            _say(f"wrote {path}")
    titles = {item.id: item.title for item in findings}
    if json:
        _emit({"proofs": [told(p) for p in proofs]} | ({"combined": told(combined) if combined else None} if every else {}))
        return
    for proof in [*proofs, *([combined] if combined else [])]:
        print(f"{proof.verdict}: {titles.get(proof.finding, 'all that held, together')}  [{proof.finding}]")
        print(f"    {proof.summary}")
        if proof.submitting:
            print(f"    {proof.submitting}")


@app.command()
def atlas(
    file: Path,
    out: Annotated[Path, typer.Option(help="Folder to write pages, rectangles and figures into; it is made.")],
    page: Annotated[int, typer.Option(help="Largest width and height of a page in pixels; 0 for the yardstick.", min=0, max=32768)] = 0,
    padding: Annotated[int, typer.Option(help="Pixels round each texture, for its border repeated.", min=0, max=256)] = 2,
    rotation: Annotated[bool, typer.Option("--rotation", help="Textures may be turned by a quarter.")] = False,
    power_of_two: Annotated[bool, typer.Option("--power-of-two", help="Pages as wide and high as a power of two.")] = False,
    json: JsonOption = False,
) -> None:
    """Plan atlas pages for textures that are drawn together: pages as PNG, rectangles as JSON and CSV."""
    import msgspec

    from wendascope.analysis.atlas import Options, plan_atlases
    from wendascope.analysis.sharing import Sharing
    from wendascope.frame.file import load
    from wendascope.report.atlas import write_atlas

    frame = load(file)
    plans = plan_atlases(Sharing(frame), Options(page, padding, rotation, power_of_two))
    written = write_atlas(frame, plans, padding, out)
    if json:
        _emit({"files": [str(path) for path in written], "atlases": [msgspec.to_builtins(plan) for plan in plans]})
        return
    for plan in plans:
        print(f"{plan.title}: {len(plan.steps)} draws read {plan.textures} textures; {plan.draws_then} would do with {len(plan.pages)} pages")
        for number, found in enumerate(plan.pages):
            print(f"  page {number + 1}: {found.width} x {found.height}, {len(found.places)} textures, {found.wasted:.0%} free")
        print(f"  memory: {plan.bytes_before:,} bytes now, {plan.bytes_after:,} then")
        for reason, names in plan.left_out.items():
            print(f"  not on a page, {reason}: {', '.join(map(str, names))}")
        for caveat in plan.caveats:
            print(f"  {caveat}")
    if not plans:
        print("no textures are drawn together that could share a page")
    for path in written:
        _say(f"wrote {path}")


@app.command()
def compare(
    before: Path,
    after: Path,
    repeats: Annotated[int, typer.Option(help="Timed runs of each frame, taken in turns.", min=6, max=1000)] = 12,
    json: JsonOption = False,
) -> None:
    """Before and after: frame, passes and counts of two captures, replayed in turns."""
    from wendascope.trials.compare import Difference, compare_files, told

    _check(before)
    _check(after)
    found = compare_files(before, after, repeats, _progress(json))
    _progress_end(json)
    if json:
        _emit(told(found))
        return
    print(f"before: {before}\nafter:  {after}")
    print(f"by {found.method}, {found.repeats} pairs; a change is one whose 95 % interval excludes zero\n")
    print(f"{'':<34} {'steps':>13} {'before':>9} {'after':>9} {'difference':>10} {'interval':>19}")
    rows: list[tuple[str, str, Difference | None]] = [("frame", "", found.frame), ("submitting it", "", found.submit)]
    for item in found.passes:
        rows.append((item.name, f"{item.steps_before} > {item.steps_after}", item.ms))
    for name, steps, ms in rows:
        if ms is None:
            print(f"{name[:34]:<34} {steps:>13} {'only in one of the two':>30}")
            continue
        said = "change" if ms.changed else "no change"
        print(
            f"{name[:34]:<34} {steps:>13} {ms.before.median:>9.3f} {ms.after.median:>9.3f} {ms.difference.median:>+10.3f} "
            f"{ms.difference.low:>+9.3f} {ms.difference.high:>+9.3f}  {said}"
        )
    print()
    for count in found.counts:
        print(f"{count.what:<34} {count.before:>13,} {count.after:>19,} {count.after - count.before:>+10,}")
    if found.pixels_different is None:
        print("pictures: of different sizes")
    else:
        print(f"pictures: {found.pixels_different:,} of {found.pixels:,} pixels differ, by up to {found.max_difference}")


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

        result = run_demo(out, _progress(json), (lambda _text: None) if json else print)
        _progress_end(json)
        if json:
            _emit(result)
        return
    from wendascope.demo.data import demo_files

    raise typer.Exit(open_window(demo_files()))


def main() -> None:
    """Entry point: one line for every error, and its exit code."""
    arguments = sys.argv[1:]
    first = next((a for a in arguments if not a.startswith("-")), None)
    try:
        if first is not None and first not in COMMANDS and (first.endswith(".wend") or Path(first).exists()):
            raise SystemExit(open_window([Path(a) for a in arguments if not a.startswith("-")]))
        code = app(standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except WendascopeError as error:
        if _Session.debug or "--debug" in arguments:
            raise
        output = getattr(error, "output", "")
        if output:
            _say("the last lines it wrote:")
            _say("\n".join(f"  {line}" for line in output.splitlines()))
        if "--json" in arguments:
            _emit({"error": str(error), "exit_code": error.exit_code, "output": output})
        _say(f"wendascope: {error}")
        sys.exit(error.exit_code)
    except KeyboardInterrupt:
        _say("wendascope: stopped")
        sys.exit(130)
    except Exception as error:
        if type(error).__module__.startswith(("click", "typer")) and hasattr(error, "exit_code"):
            message = error.format_message() if hasattr(error, "format_message") else str(error)
            if message:
                _say(f"wendascope: {message}")
            sys.exit(2)
        raise


if __name__ == "__main__":
    main()
