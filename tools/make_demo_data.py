"""Captures the two demo frames that ship with Wendascope, off-screen, from the running demo program."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from wendascope.frame.file import save
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.examine import examine_file

DATA = Path(__file__).parent.parent / "src" / "wendascope" / "demo" / "data"
FRAME = 30
LARGEST = 4 << 20


def main() -> None:
    for name, options in (("depot.wend", []), ("depot-better.wend", ["--better", "all"])):
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        with Target([sys.executable, "-m", "wendascope.demo", "--off-screen", *options], environment=environment) as target:
            frame = target.capture(Trigger(frame=FRAME), 120.0)
        frame.metadata.program, frame.metadata.arguments = "python", ["-m", "wendascope.demo", *options]
        path = DATA / name
        save(frame, path)
        survey = examine_file(path).survey
        assert survey.verification.identical, f"{name} does not replay to the same picture"
        size = path.stat().st_size
        assert size < LARGEST, f"{name} is {size} bytes"
        print(f"{name}: {len(frame.calls)} calls, {len(frame.steps)} steps, {size} bytes, {survey.frame_ms.median:.1f} ms")


if __name__ == "__main__":
    main()
