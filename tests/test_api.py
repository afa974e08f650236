"""What scripts may count on: the examples of the docs run, and the names stay what they are."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import wendascope
from tests.conftest import DATA
from wendascope import api

DOCS = Path(__file__).parent.parent / "docs" / "api.md"
EXAMPLES = re.findall(r"```python\n(.*?)```", DOCS.read_text("utf-8"), re.DOTALL)


def test_names_are_those_that_are_promised() -> None:
    assert set(api.__all__) == wendascope._FOR_SCRIPTS <= set(dir(wendascope))
    for name in api.__all__:
        assert getattr(wendascope, name) is getattr(api, name)
        assert name == "API_VERSION" or getattr(api, name).__doc__
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        wendascope.nothing  # noqa: B018
    assert wendascope.API_VERSION == 1, "a name that goes or changes its meaning needs another version"


def test_the_package_alone_imports_little() -> None:
    told = "import wendascope, sys; print('wendascope.api' in sys.modules or 'numpy' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "False"


def test_a_frame_is_told_by_passes_steps_and_columns() -> None:
    frame = wendascope.open_frame(DATA / "depot.wend")
    steps, columns = list(frame.steps()), frame.columns
    assert [s.triangles for s in steps] == columns["triangles"].tolist()
    assert sum(part.end - part.first for part in frame.passes) == len(steps) == len(columns["ms"])
    assert [s.index for s in frame.steps(frame.passes[2])] == list(range(frame.passes[2].first, frame.passes[2].end))
    assert frame.findings and frame.findings[0].id and frame.proofs
    captured = frame.captured
    assert captured is not None and captured.shape == (frame.size[1], frame.size[0], 4)
    columns["triangles"][:] = 0
    assert frame.columns["triangles"].sum() > 0, "arrays are the caller's own"


@pytest.mark.driver
@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_the_examples_of_the_docs_run(number: int, tmp_path: Path) -> None:
    shutil.copy(DATA / "depot.wend", tmp_path / "depot.wend")
    shutil.copy(DATA / "depot-better.wend", tmp_path / "after.wend")
    (tmp_path / "budget.toml").write_text('format = 1\n[[limit]]\nwhat = "draws"\nat_most = "+0 %"\n')
    done = subprocess.run(
        [sys.executable, "-c", EXAMPLES[number]], cwd=tmp_path, capture_output=True, text=True, timeout=300
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout
    if "export" in EXAMPLES[number]:
        assert (tmp_path / "report.html").stat().st_size > 100_000
    if "check(" in EXAMPLES[number]:
        assert (tmp_path / "comment.md").read_text().startswith("### Within budget")


@pytest.mark.driver
def test_the_picture_of_the_finished_frame_is_the_captured_one() -> None:
    with wendascope.open_frame(DATA / "signal-box.wend") as frame:
        captured = frame.captured
        assert captured is not None and np.array_equal(frame.picture(), captured[..., :3]) and frame.verify()
        with pytest.raises(KeyError):
            frame.prove("no such finding")
