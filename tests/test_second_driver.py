"""OpenGL over Vulkan, a second driver on every machine: captured and replayed on it, and told apart from the first."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests import SECOND_DRIVER
from tests.conftest import program
from wendascope import records
from wendascope.trials.proofs.proof import stored_proofs

pytestmark = pytest.mark.driver


def _run(*arguments: object, second: bool, code: int | None = 0) -> dict[str, Any]:
    """What a command answers as JSON, on the second driver or the first."""
    done = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", *map(str, arguments)],
        env={**os.environ, **(SECOND_DRIVER if second else {})},
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
        timeout=180,
    )
    assert code in (done.returncode, None), done.stdout + done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    return found


@pytest.fixture(scope="module")
def taken(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("second") / "wasteful.wend"
    _run("capture", "--json", "--frame", 3, "--out", path, "--", *program("wasteful"), second=True)
    return path


def test_a_frame_of_the_second_driver_replays_there(taken: Path) -> None:
    assert _run("verify", "--json", taken, second=True)["identical"]


def test_numbers_of_two_drivers_are_not_mixed(taken: Path) -> None:
    measured = _run("survey", "--json", "--repeats", 1, taken, second=True)
    assert "zink" in measured["renderer"] and measured["method"] == "timer query", "whose queries are right"
    finding = next(f["id"] for f in measured["findings"] if f["rule"] == "outside-view")
    proof = _run("prove", "--json", "--finding", finding, "--seconds", 2, taken, second=True)["proofs"][0]
    assert proof["pixels_different"] == 0 and finding in stored_proofs(taken)
    here = _run("verify", "--json", taken, second=False, code=1 if not _same_here(taken) else 0)
    refused = _run("plan", "--prove", "--json", taken, second=False, code=2)
    assert "was surveyed on zink" in json.dumps(refused) and here["pixels_different"] <= here["pixels"]
    again = _run("survey", "--json", "--repeats", 1, taken, second=False)
    assert "zink" not in again["renderer"]
    assert finding not in stored_proofs(taken), "it was made with the other driver"
    assert "made on zink" in " ".join(_run("plan", "--json", taken, second=False, code=None)["caveats"])
    survey = records.SURVEY.newest(taken)
    assert survey is not None and survey.renderer == again["renderer"]


def _same_here(path: Path) -> bool:
    done = subprocess.run(
        [sys.executable, "-m", "wendascope.cli", "verify", str(path)], capture_output=True, stdin=subprocess.DEVNULL
    )
    return done.returncode == 0
