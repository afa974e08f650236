"""The command that says what to change first, and how far it brings the frame."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

from wendascope.cli._app import (
    JsonOption,
    app,
    emit,
    progress,
    progress_end,
    put_text,
    say,
    stopping,
    typer,
    verify_with,
    warn,
    warn_stored,
)


@app.command()
def plan(
    file: Path,
    budget: Annotated[float, typer.Option(help="Frame time budget in milliseconds.", min=0.1)] = 16.7,
    prove: Annotated[
        bool,
        typer.Option(
            "--prove",
            help=(
                "Try all that could matter, the best value for time first, then the best set of it as one frame. Each"
                " proof is kept in the file as it is made; a plan that is stopped goes on from there."
            ),
        ),
    ] = False,
    seconds: Annotated[
        float | None, typer.Option(help="Longest measuring for one proof. The guidelines say 6.", min=0.5, max=600)
    ] = None,
    within: Annotated[
        float | None,
        typer.Option(help="With --prove: seconds for all proofs; unless given, 90 frames and 25 at least.", min=1),
    ] = None,
    html: Annotated[Path | None, typer.Option(help="Write the plan as one HTML page.")] = None,
    sarif: Annotated[Path | None, typer.Option(help="Write the recommendations as SARIF 2.1.0.")] = None,
    markdown: Annotated[Path | None, typer.Option(help="Write the plan as a check list in Markdown.")] = None,
    json: JsonOption = False,
) -> None:
    """What to change first, what each change brings, and whether the budget is reached. Exit 1 when what is proved does
    not reach it.
    """
    from wendascope import records
    from wendascope.errors import CancelledError
    from wendascope.frame.file import load
    from wendascope.replay.client import Replay
    from wendascope.report.plan import plan_report, plan_text, write_plan
    from wendascope.trials.plan import prove_plan
    from wendascope.trials.survey.examine import case_of, examine_file, stored_examination

    show = progress(json)
    frame = load(file)
    drawn, findings = stored_examination(file)
    survey = records.SURVEY.newest(file)
    if drawn is None or survey is None:
        if not json:
            say("this frame was not measured yet; measuring it first")
        examined = examine_file(file, task=show, resume=True)
        drawn, findings, survey = examined.drawn, examined.findings, examined.survey
    warn_stored(file, json)
    case = case_of(frame, drawn, survey)
    stopped = False
    if prove:
        try:
            with Replay(file) as replay, stopping() as cancelled:
                warn(verify_with(replay, show), json)
                prove_plan(file, case, findings, replay, seconds, show.until(cancelled), budget=within)
        except CancelledError:
            stopped = True
    progress_end(json)
    report = plan_report(file, case, survey, findings, budget)
    for path in write_plan(report, html, sarif, markdown):
        say(f"wrote {path}")
    if json:
        emit(report)
    else:
        put_text(plan_text(report))
    if stopped:
        say("stopped; what was proved by then is kept, and --prove goes on from there")
    if not report.plan.reached:
        raise typer.Exit(1)
