"""Frames against a budget: what is read of it, what is counted, what is measured, and how it is told."""

from __future__ import annotations

import dataclasses
import json
import subprocess
import sys
import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import DATA, load_opengl, program
from wendascope.backends.opengl.calls.packed import in_order
from wendascope.errors import FileError, UsageError
from wendascope.frame.call_use import NO_STATE, STEP
from wendascope.frame.file import load, save
from wendascope.frame.steps import KINDS
from wendascope.measure.statistics import Interval
from wendascope.report.checks import check_forms
from wendascope.trials.checks.amounts import How, amounts
from wendascope.trials.checks.budget import Budget, Limit, Unsure, allowance, read_budget
from wendascope.trials.checks.checking import Check, Checked, FrameCheck, ShaderPlace, State, check_files
from wendascope.trials.checks.first_budget import _rounded_up, first_budget

YARD = DATA / "signal-box.wend"


def _budget(*limits: Limit, **more: Any) -> Budget:
    return Budget(1, list(limits), **more)


def _checked(path: Path, budget: Budget, baseline: Path | None = None) -> list[Check]:
    return check_files([path], budget, Path("budget.toml"), baseline).frames[0].checks


def _with_repeated(path: Path, to: Path, share: float) -> Path:
    """The same frame in which a part of the calls that set state come twice in a row."""
    frame = load_opengl(path)
    use = frame.call_use().use
    setting = np.flatnonzero((use != NO_STATE) & (use != STEP))
    again = setting[:: max(round(1 / share), 1)]
    calls = in_order(frame.calls, np.sort(np.concatenate([np.arange(len(frame.calls)), again]), kind="stable"))
    save(dataclasses.replace(frame, calls=calls), to)
    return to


# ---- the budget file ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("format = 2\n[[limit]]\nwhat = 'draws'\nat_most = 1", "update it"),
        ("limit = []", "format"),
        ("format = 1\nlimit = []", "nothing would be checked"),
        ("format = 1\n[[limit]]\nwhat = 'draws'", "at_most"),
        ("format = 1\n[[limit]]\nwhat = 'draws'\nat_most = 'few'", "limit 1 (draws)"),
        ("format = 1\n[[limit]]\nwhat = 'draws'\nat_most = '5 %'", "a part of what"),
        ("format = 1\n[[limit]]\nwhat = 'draws'\nat_most = 1\npass = 'a'\nrole = 'b'", "choose one of pass"),
        ("format = 1\n[[limit]]\nwhat = 'draws'\nat_most = 1\ncolour = 'a'", "colour"),
        ("format = 1\nunsure = 'maybe'\n[[limit]]\nwhat = 'draws'\nat_most = 1", "maybe"),
        ("format = ", "check --init"),
    ],
)
def test_a_bad_budget_is_one_error_that_names_the_place(tmp_path: Path, text: str, says: str) -> None:
    path = tmp_path / "budget.toml"
    path.write_text(text)
    with pytest.raises(FileError) as caught:
        read_budget(path)
    assert says in str(caught.value) and "budget.toml" in str(caught.value) and "\n" not in str(caught.value).strip()


@given(st.integers(0, 10**9), st.sampled_from(["", " MiB", " KiB", " ms"]), st.sampled_from(["", "+", "-"]))
def test_limits_are_read_as_they_are_written(number: int, unit: str, sign: str) -> None:
    found = allowance(f"{sign}{number}{unit}")
    factor = {" MiB": 1 << 20, " KiB": 1 << 10}.get(unit, 1)
    assert found.amount == number * factor * (-1 if sign == "-" else 1) and found.relative == bool(sign)
    assert found.beyond(1000.0) == (1000.0 + found.amount if sign else found.amount)
    assert allowance("+5 %").beyond(200.0) == pytest.approx(210.0)


@given(st.floats(1e-6, 1e12))
def test_a_first_budget_rounds_up_and_never_below(value: float) -> None:
    rounded = float(_rounded_up(value))
    assert value <= rounded * (1 + 1e-9) and rounded <= value * 1.0101


# ---- what is counted ------------------------------------------------------------------------------------------


def test_counts_are_those_of_the_frame_and_need_no_driver() -> None:
    frame = load(YARD)
    draws = int((frame.steps.kind == KINDS.index("draw")).sum())
    first = frame.passes.names[0]
    in_first = int((frame.steps.kind[np.asarray(frame.passes.of_step) == 0] == KINDS.index("draw")).sum())
    checks = _checked(
        YARD,
        _budget(
            Limit("draws", draws),
            Limit("draws", draws - 1, note="ask the yard master"),
            Limit("draws", in_first, pass_=first),
            Limit("calls", frame.call_count),
            Limit("memory", "1 KiB"),
            Limit("triangles", int(frame.steps.triangles.sum())),
            Limit("draws", 1, role="no such role"),
            Limit("draws", 1, label="no such label", unsure=Unsure.FAIL),
        ),
    )
    states = [check.state for check in checks]
    assert states == [
        State.WITHIN, State.OVER, State.WITHIN, State.WITHIN, State.OVER, State.WITHIN, State.UNSURE, State.UNSURE,
    ]  # fmt: skip
    assert [check.counts_as for check in checks][-2:] == ["warn", "fail"]
    assert checks[1].sentence.endswith(f"{draws:,}, more than {draws - 1:,}. ask the yard master")
    assert "nothing that fits role no such role" in checks[6].sentence


def test_parts_of_a_frame_add_up_to_it() -> None:
    frame = load(YARD)
    for what in ("draws", "calls", "state calls", "redundant state calls", "triangles", "vertices"):
        whole, *parts = _checked(YARD, _budget(Limit(what, 0), Limit(what, 0, pass_="*")))
        assert whole.value == sum(part.value or 0 for part in parts) > 0, what
        assert len(parts) == len(frame.passes)


def test_every_amount_says_what_it_is_and_a_wrong_one_is_named() -> None:
    for item in amounts():
        assert item.tip and not item.tip.endswith("."), item.name
    with pytest.raises(UsageError, match="there are calls, draws"):
        _checked(YARD, _budget(Limit("drawcalls", 1)))
    with pytest.raises(UsageError, match="whole frames only"):
        _checked(YARD, _budget(Limit("memory", 1, pass_="*")))
    with pytest.raises(UsageError, match="no limit of draws"):
        _checked(YARD, _budget(Limit("draws", "3 MiB")))
    with pytest.raises(UsageError, match="on top of a baseline"):
        _checked(YARD, _budget(Limit("draws", "+3 %")))


def test_counts_on_top_of_a_baseline(tmp_path: Path) -> None:
    more = _with_repeated(YARD, tmp_path / "more.wend", 0.1)
    before, after = load(YARD).call_count, load(more).call_count
    assert after > 1.05 * before
    limits = _budget(
        Limit("calls", "+5 %"), Limit("calls", "+20 %"), Limit("draws", "+0"), Limit("calls", "+5 %", pass_="*")
    )
    found = _checked(more, limits, YARD)
    assert [check.state for check in found[:3]] == [State.OVER, State.WITHIN, State.WITHIN]
    assert found[0].base == before and f"+5 % of the baseline's {before:,}" in found[0].sentence
    assert len(found) == 3 + len(load(YARD).passes) and State.OVER in {check.state for check in found[3:]}
    assert all(check.state is State.WITHIN for check in _checked(YARD, limits, YARD))


def test_a_pass_is_found_in_the_baseline_though_its_name_says_how_much_it_draws(tmp_path: Path) -> None:
    frame = load_opengl(YARD)
    first = next(s for s in range(len(frame.steps)) if frame.steps.kind_name(s) == "draw")
    order = np.sort(np.append(np.arange(len(frame.calls)), int(frame.steps.call[first])), kind="stable")
    more = tmp_path / "more.wend"
    save(dataclasses.replace(frame, calls=in_order(frame.calls, order)), more)
    name = load(more).passes.names[0]
    assert name != frame.passes.names[0]
    found = _checked(more, _budget(Limit("draws", "+0", pass_=name), Limit("draws", "+1", pass_=name)), YARD)
    assert [check.state for check in found] == [State.OVER, State.WITHIN]
    assert found[0].value == (found[0].base or 0) + 1


# ---- how it is told -------------------------------------------------------------------------------------------


def _told() -> Checked:
    hostile = "tram | <script>alert(1)</script> [x](y) `z`\u202e"
    place = ShaderPlace("program-3.frag", "void main() {}\n", 1)
    checks = [
        Check("draws", hostile, How.COUNTED, "", State.OVER, "fail", "10", 12.0, 10.0, note="ask | somebody"),
        Check("shader cost", "frame", How.MODELLED, "", State.OVER, "fail", "5", 7.5, 5.0, place=place),
        Check("work ms", "frame", How.MEASURED, "ms", State.UNSURE, "warn", "+5 %", 3.1, 3.15, 3.0,
              Interval(0.0, -0.2, 0.2), why="-0.20 to +0.20 ms beyond the limit in 48 runs"),
        Check("memory", "frame", How.COUNTED, "bytes", State.WITHIN, "pass", "2 MiB", 1048576.0, 2097152.0),
    ]  # fmt: skip
    return Checked("budget.toml", "base.wend", [FrameCheck("a b.wend", checks, ["it differs"])])


def test_sarif_is_what_hosts_of_code_expect() -> None:
    run = json.loads(check_forms()["sarif"].text(_told()))["runs"][0]
    results = run["results"]
    assert [r["level"] for r in results] == ["error", "error", "warning", "none"]
    assert [r["kind"] for r in results] == ["fail", "fail", "fail", "pass"]
    rules = {rule["id"] for rule in run["tool"]["driver"]["rules"]}
    assert {r["ruleId"] for r in results} == rules
    assert run["invocations"][0]["toolExecutionNotifications"][0]["message"]["text"] == "a b.wend: it differs"
    place = results[1]["locations"][0]["physicalLocation"]
    assert place == {"artifactLocation": {"uri": "program-3.frag"}, "region": {"startLine": 1}}
    assert {"location": {"uri": "program-3.frag"}, "contents": {"text": "void main() {}\n"}} in run["artifacts"]
    assert results[0]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"] == "a%20b.wend"


def test_junit_counts_and_markdown_and_html_show_text_as_text() -> None:
    suite = ET.fromstring(check_forms()["junit"].text(_told()).partition("\n")[2])[0]
    assert (suite.get("tests"), suite.get("failures"), suite.get("skipped")) == ("4", "2", "1")
    assert [child.tag for case in suite.iter("testcase") for child in case] == ["failure", "failure", "skipped"]
    text = check_forms()["markdown"].text(_told())
    assert text.startswith("### Over budget: 1 of 4 limits are kept, 2 are exceeded, 1 cannot be told")
    assert "<script>" not in text and "\\<script\\>" in text and "ask \\| somebody" in text
    rows = [line for line in text.splitlines() if line.startswith("| ") and "| limit |" not in line]
    assert all(line.replace("\\|", "").count("|") == 7 for line in rows) and len(rows) == 4
    page = check_forms()["html"].text(_told())
    assert "<script>" not in page and "&lt;script&gt;" in page and "default-src &#39;none&#39;" not in page
    assert "Content-Security-Policy" in page and page.index("draws") < page.index("memory")


# ---- from end to end --------------------------------------------------------------------------------------------


def _run(*arguments: object, code: int = 0) -> subprocess.CompletedProcess[str]:
    done = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", "check", *map(str, arguments)], capture_output=True, text=True
    )
    assert done.returncode == code, done.stdout + done.stderr
    return done


def test_the_command_says_what_is_exceeded_and_ends_with_1(tmp_path: Path) -> None:
    path = tmp_path / "budget.toml"
    path.write_text(
        'format = 1\n[[limit]]\nwhat = "draws"\nat_most = 1\nnote = "ask"\n[[limit]]\nwhat = "passes"\nat_most = 99\n'
    )
    lines = _run(path, YARD, "--junit", tmp_path / "out.xml", code=1).stdout.splitlines()
    assert lines[1].split()[:2] == ["draws", "frame"] and lines[1].endswith("OVER: ask") and "within" in lines[2]
    assert lines[-1] == "over budget: 1 of 2 limits are kept, 1 is exceeded"
    assert ET.parse(tmp_path / "out.xml").getroot()[0].get("failures") == "1"
    told = json.loads(_run(path, YARD, "--json", code=1).stdout)
    assert told["passed"] is False and told["frames"][0]["checks"][0]["state"] == "over"
    assert "### Over budget" in _run(path, YARD, "--markdown", "-", code=1).stdout
    assert "name frames to check" in _run(path, code=2).stderr
    assert "cannot read" in _run(tmp_path / "no.toml", YARD, code=3).stderr


@pytest.mark.driver
def test_a_first_budget_is_kept_by_the_frame_it_was_made_of(own_small: Path, tmp_path: Path) -> None:
    path = tmp_path / "budget.toml"
    path.write_text(first_budget(own_small, 3.0))
    budget = read_budget(path)
    assert {limit.what for limit in budget.limit} == {item.name for item in amounts()}
    found = check_files([own_small], budget, path)
    assert found.passed and not [c.sentence for c in found.frames[0].checks if c.state is State.OVER]
    exact = [c for c in found.frames[0].checks if c.how != How.MEASURED]
    assert all(c.state is State.WITHIN for c in exact)
    measured = {item.name for item in amounts() if item.how == How.MEASURED}
    counted = msgspec.structs.replace(budget, limit=[x for x in budget.limit if x.what not in measured])
    again = check_files([own_small], counted, path)
    assert [c.value for c in again.frames[0].checks] == [c.value for c in exact], "counts are the same each time"


@pytest.mark.driver
def test_times_are_over_or_within_only_where_that_is_sure(own_small: Path, tmp_path: Path) -> None:
    first = load(own_small).passes.names[0]
    budget = _budget(
        Limit("work ms", 1e6), Limit("submission ms", 1e6), Limit("work ms", 1e6, pass_=first),
        Limit("work ms", 1e-6), Limit("submission ms", 1e-6), seconds=10.0,
    )  # fmt: skip
    states = [check.state for check in _checked(own_small, budget)]
    assert states == [State.WITHIN] * 3 + [State.OVER] * 2
    relative = _budget(Limit("submission ms", "+40 %"), Limit("work ms", "+200 %"), seconds=20.0)
    more = _with_repeated(YARD, tmp_path / "more.wend", 1.0)
    for _ in range(3):
        more = _with_repeated(more, tmp_path / "more.wend", 1.0)
    slower = _checked(more, relative, YARD)
    assert slower[0].state is State.OVER and slower[0].beyond is not None and slower[0].beyond.low > 0
    assert slower[1].state is not State.OVER
    same = _checked(YARD, relative, YARD)
    assert State.OVER not in {check.state for check in same}


@pytest.mark.driver
def test_a_program_is_checked_as_it_runs(tmp_path: Path) -> None:
    path = tmp_path / "budget.toml"
    path.write_text('format = 1\n[capture]\nframe = 5\n[[limit]]\nwhat = "draws"\nat_most = 1000\n')
    done = _run(path, "--", *program("shapes", "--frames", "40"))
    assert "shapes" in done.stdout or "python" in done.stdout
    assert done.stdout.splitlines()[-1] == "within budget: 1 of 1 limits are kept"


def test_git_bisect_finds_the_commit_that_broke_a_limit(tmp_path: Path) -> None:
    repository, frame = tmp_path / "depot", load(YARD)
    repository.mkdir()
    more = _with_repeated(YARD, tmp_path / "more.wend", 0.1)

    def git(*arguments: str) -> str:
        own = ["-c", "user.name=yard", "-c", "user.email=yard@depot", "-c", "init.defaultBranch=main"]
        command = ["git", *own, "-C", str(repository), *arguments]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout

    git("init", "-q")
    (repository / "budget.toml").write_text(f'format = 1\n[[limit]]\nwhat = "calls"\nat_most = {frame.call_count}\n')
    for number, drawn in enumerate((YARD, YARD, YARD, more, more, more)):
        (repository / "draws").write_text(f"{drawn}\n{number}\n")
        git("add", ".")
        git("commit", "-q", "-m", f"change {number}")
    git("bisect", "start", "HEAD", "HEAD~5")
    checked = f'"{sys.executable}" -m wendascope.cli check budget.toml "$(head -1 draws)"'
    assert "change 3" in git("bisect", "run", "sh", "-c", checked)
