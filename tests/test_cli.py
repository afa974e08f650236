"""The command line as users and scripts meet it: output, JSON, exit codes."""

from __future__ import annotations

import csv
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from tests.conftest import program
from wendascope import headless
from wendascope.demo.data import demo_files, shipped_file
from wendascope.errors import MachineError
from wendascope.task import Task

pytestmark = pytest.mark.driver


def run(*arguments: object, env: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "wendascope.cli", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, timeout=320, env={**os.environ, **(env or {})})


def result(*arguments: object) -> Any:
    done = run(*arguments, "--json")
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def test_capture_show_verify(tmp_path: Path) -> None:
    out = tmp_path / "taken.wend"
    done = run("capture", "--frame", 5, "--out", out, "--json", "--", *program("shapes"))
    assert done.returncode == 0, done.stderr
    taken = json.loads(done.stdout)["frames"]
    assert [f["file"] for f in taken] == [str(out)] and taken[0]["frame"] == 5 and taken[0]["steps"] == 22
    shown = result("show", out)
    assert (
        shown["api"].startswith("OpenGL 4.5")
        and shown["profile"] == "core"
        and shown["steps"] == 22
        and shown["caveats"] == []
    )
    verified = result("verify", out)
    assert verified["identical"] and verified["pixels"] == 96 * 96 and verified["max_difference"] == 0


def test_a_sequence_is_one_file(tmp_path: Path) -> None:
    path = tmp_path / "many.wend"
    done = run("capture", "--frame", 3, "--frames", 3, "--every", 2, "--out", path, "--", *program("shapes"))
    assert done.returncode == 0, done.stderr
    assert done.stdout.split() == [str(path), f"{path}#2", f"{path}#3"] and list(tmp_path.iterdir()) == [path]
    assert [result("show", name)["frame_number"] for name in done.stdout.split()] == [3, 5, 7]
    assert result("show", path)["frames"] == 3
    verified = result("verify", path)
    assert verified["identical"] and [f["file"] for f in verified["frames"]] == done.stdout.split()
    assert "frames" not in result("verify", f"{path}#2")


def test_a_program_that_ends_in_the_middle_leaves_what_was_taken(tmp_path: Path) -> None:
    path = tmp_path / "short.wend"
    done = run("capture", "--frame", 3, "--frames", 50, "--out", path, "--", *program("shapes", "--frames", "8"))
    assert done.returncode == 0, done.stderr
    count = result("show", path)["frames"]
    assert 1 < count < 8 and f"kept are the {count} frames taken before" in done.stderr
    assert result("verify", path)["identical"]


def test_a_survey_of_times_only(own_small: Path) -> None:
    found = result("survey", own_small, "--repeats", 2, "--until", "times")
    assert found["findings"] == [] and found["passes"][0]["layers"] is None and found["steps"][5]["survivors"] is None


def test_survey_and_its_forms(own_small: Path, tmp_path: Path) -> None:
    html, tables, trace = tmp_path / "report.html", tmp_path / "tables", tmp_path / "trace.json"
    found = result("survey", own_small, "--repeats", 2, "--html", html, "--csv", tables, "--trace", trace)
    assert found["method"] == "drain" and {"median", "low", "high"} == set(found["frame_ms"])
    assert set(found["passes"][0]) >= {"index", "name", "steps", "ms", "ms_low", "ms_high", "target", "width", "height"}
    step = found["steps"][5]
    assert set(step) == {
        "index",
        "call",
        "kind",
        "name",
        "pass",
        "ms",
        "ms_low",
        "ms_high",
        "vertices",
        "triangles",
        "instances",
        "fragments",
        "survivors",
        "program",
        "idle",
        "wasted_ms",
        "rasterised_triangles",
        "triangles_without_sample",
        "vertices_run",
    }
    assert 0 <= step["survivors"] <= step["fragments"]
    assert all(
        set(f) >= {"id", "rule", "title", "steps", "estimate_ms", "state", "evidence", "proof"}
        for f in found["findings"]
    )
    page = html.read_text()
    assert (
        found["sentence"] in page
        and page.count("<figure>") == len(found["passes"])
        and "http" not in page.split("</style>")[1]
    )
    rows = list(csv.DictReader((tables / "steps.csv").open()))
    assert (
        len(rows) == 22 and float(rows[5]["ms"]) == pytest.approx(step["ms"]) and rows[5]["pass"] == str(step["pass"])
    )
    events = json.loads(trace.read_text())["traceEvents"]
    assert {"ph", "ts", "dur", "name"} <= set(events[-1]) and any(e["name"] == "glClear" for e in events)


def test_pictures(small: Path, tmp_path: Path) -> None:
    out = tmp_path / "step.png"
    assert result("picture", small, "--step", 4, "--out", out) == {
        "file": str(out),
        "width": 96,
        "height": 96,
        "target": "window",
    }
    assert Image.open(out).size == (96, 96)
    depth = run("picture", small, "--step", 0, "--lens", "depth", "--out", out)
    assert depth.returncode == 1 and "has no depth" in depth.stderr


@pytest.mark.parametrize("command", [("show",), ("verify",), ("survey",)])
def test_a_bad_file_is_exit_3(command: tuple[str, ...], tmp_path: Path) -> None:
    bad = tmp_path / "bad.wend"
    bad.write_bytes(b"not a frame" * 50)
    done = run(*command, bad)
    assert done.returncode == 3
    assert done.stderr.strip().splitlines() == [
        f"wendascope: {bad} is not a Wendascope file; open one made by `wendascope capture`"
    ]
    assert [p.name for p in tmp_path.iterdir()] == ["bad.wend"] and bad.read_bytes() == b"not a frame" * 50


def test_errors_as_json(tmp_path: Path) -> None:
    done = run("show", tmp_path / "no.wend", "--json")
    assert done.returncode == 3 and json.loads(done.stdout)["exit_code"] == 3


def test_a_target_that_fails_is_exit_4(tmp_path: Path) -> None:
    assert run("capture", "--out", tmp_path / "x.wend", "--", "/no/such/program").returncode == 4
    done = run(
        "capture",
        "--out",
        tmp_path / "x.wend",
        "--",
        sys.executable,
        "-c",
        "print('points frozen'); raise SystemExit(3)",
    )
    assert done.returncode == 4 and "exit code 3" in done.stderr and "points frozen" in done.stderr
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize(
    "arguments",
    [
        ("capture",),
        ("show",),
        ("survey", "x", "--budget", "none"),
        ("nonsense",),
        ("capture", "--frame-end", "tea", "--", "ls"),
        ("capture", "--frame", "3", "--after", "2", "--", "ls"),
    ],
)
def test_wrong_usage_is_exit_2(arguments: tuple[str, ...]) -> None:
    done = run(*arguments)
    assert done.returncode == 2, done.stderr
    assert done.stderr.startswith("wendascope: ") and done.stderr.count("\n") == 1


def test_a_step_or_lens_that_is_not_there(small: Path, tmp_path: Path) -> None:
    assert "steps 0 to 21" in run("picture", small, "--step", 999, "--out", tmp_path / "p.png").stderr
    assert "choose colour or " in run("picture", small, "--lens", "feelings", "--out", tmp_path / "p.png").stderr


def test_no_egl_driver_is_exit_5(small: Path) -> None:
    done = run("verify", small, env={"__EGL_VENDOR_LIBRARY_FILENAMES": "/nonexistent.json"})
    assert done.returncode == 5
    assert "libegl1" in done.stderr


def test_no_display_is_exit_5(small: Path) -> None:
    done = run(small, env={"DISPLAY": "", "WAYLAND_DISPLAY": "", "QT_QPA_PLATFORM": ""})
    assert done.returncode == 5 and "no display" in done.stderr


def test_the_demo_runs_headless(tmp_path: Path) -> None:
    done = run("demo", "--headless", "--size", "480x270", "--out", tmp_path / "out", env={"DISPLAY": ""})
    assert done.returncode == 0, done.stderr
    assert "identical" in done.stdout and "6 of 6" in done.stdout and "proved" in done.stdout
    made = {p.name for p in (tmp_path / "out").iterdir()}
    assert {"depot.wend", "report.html", "finished.png", "tables"} <= made
    assert Image.open(tmp_path / "out" / "finished.png").size == (480, 270)


def test_the_demo_program_says_what_it_misses() -> None:
    """Its packages are an extra: captured frames open without them."""
    code = "import sys; sys.modules['glfw'] = None; from wendascope.demo.__main__ import main; main()"
    done = subprocess.run([sys.executable, "-c", code, "--off-screen"], capture_output=True, text=True, timeout=60)
    assert done.returncode == MachineError.exit_code
    assert "missing (glfw): install wendascope[demo]" in done.stderr and "Traceback" not in done.stderr


def test_the_lenses_of_the_command_line_are_those_there_are() -> None:
    from wendascope.cli.looking import LENSES
    from wendascope.measure.lenses import lenses

    assert sorted(LENSES) == sorted(lens.name for lens in lenses())


def test_the_groupings_of_the_command_line_are_those_there_are() -> None:
    from wendascope.cli.looking import GROUPINGS
    from wendascope.frame.grouping import BY

    assert GROUPINGS == BY


def test_steps_are_shown_in_groups() -> None:
    depot = demo_files()[0]
    done = run("show", "--by", "mesh", depot)
    assert done.returncode == 0 and "box, 36 vertices" in done.stdout and "% " in done.stdout
    found = json.loads(run("show", "--by", "purpose", "--json", depot).stdout)
    assert sum(item["steps"] for item in found) == 1073 and sum(item["share"] for item in found) == pytest.approx(1.0)
    refused = run("show", "--by", "colour", depot)
    assert refused.returncode != 0 and "choose one of pass, role" in refused.stderr


def test_the_headless_demo_takes_the_frame_that_came_along_where_its_program_cannot_run(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    class _EnoughError(Exception):
        pass

    def replay(path: Path) -> object:
        assert path.read_bytes() == shipped_file("depot.wend").read_bytes()
        raise _EnoughError

    said: list[str] = []
    monkeypatch.setattr(headless, "missing_packages", lambda: ["glfw"])
    monkeypatch.setattr(headless, "Replay", replay)
    with pytest.raises(_EnoughError):
        headless.run_demo(tmp_path, Task(), said.append)
    assert "glfw" in said[0] and "wendascope[demo]" in said[0]
