"""The recorded calls as trace-event JSON: a lane for the program's calls, one for its waits, one for passes by time."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from wendascope.files import write_atomically
from wendascope.frame.file import load
from wendascope.report.formats._registry import form
from wendascope.report.survey import SurveyDocument

_CALLS, _WAITS, _PASSES = 1, 2, 3


@form("trace", "the recorded calls as trace events", ".json")
def write(document: SurveyDocument, path: Path, frame_file: Path) -> None:
    """Times in microseconds, as the format has them; passes follow one another as measured in the replay."""
    frame = load(frame_file)
    lane = frame.cpu_lane
    events: list[dict[str, Any]] = [
        {"ph": "M", "pid": 1, "tid": lane_id, "name": "thread_name", "args": {"name": name}}
        for lane_id, name in ((_CALLS, "recorded calls"), (_WAITS, "waits"), (_PASSES, "passes, replayed"))
    ]
    for call in np.argsort(lane.begin, kind="stable").tolist():
        events.append(
            {
                "ph": "X",
                "pid": 1,
                "tid": _WAITS if lane.waits[call] else _CALLS,
                "name": frame.call_name(call),
                "ts": float(lane.begin[call] * 1000),
                "dur": float(lane.duration[call] * 1000),
                "args": {"call": call},
            }
        )
    at = 0.0
    for row in document.passes:
        events.append(
            {
                "ph": "X",
                "pid": 1,
                "tid": _PASSES,
                "name": row.name,
                "ts": at,
                "dur": row.ms * 1000,
                "args": {"steps": row.steps},
            }
        )
        at += row.ms * 1000
    data = msgspec.json.encode({"traceEvents": events, "displayTimeUnit": "ms"})
    write_atomically(path, lambda scratch: scratch.write_bytes(data))
