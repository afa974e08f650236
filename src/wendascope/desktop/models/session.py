"""What the Capture page shows, without Qt: the state of a capture session, its frames, its captures."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from pathlib import Path

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.analysis.time.frame_bound import Bound, bound_by
from wendascope.desktop.models.document import Observable
from wendascope.measure.statistics import Interval, difference_of_medians
from wendascope.tap.launch import program_title
from wendascope.tap.messages import Beat, Beats, Ended, Event, Hello, Marked, Output, Problem, StateIs, Taken

KEPT_FRAMES = 240
KEPT_MOMENTS = 1000
_KEPT_LINES = 2000


@dataclass
class CaptureRow:
    """One capture of the capture session. Thumbnail and frame times are filled in when its file has been read."""

    taken: Taken
    note: str = ""
    thumbnail: npt.NDArray[np.uint8] | None = None
    """Shape (height, width, 3), top row first."""
    frame_ms: npt.NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    """The program's own frames before the capture."""

    @property
    def path(self) -> Path:
        return Path(self.taken.file)


class SessionModel(Observable):
    """Takes the events of a capture session in."""

    def __init__(self) -> None:
        super().__init__()
        self.name = ""
        self.program: list[str] = []
        self.state = "none"
        self.text = ""
        self.part = 0.0
        self.problem = ""
        self.rows: list[CaptureRow] = []
        self.baseline: Path | None = None
        self.output: deque[str] = deque(maxlen=_KEPT_LINES)
        self.lines_written = 0
        """How many lines there ever were, of which the last are kept."""
        self._differences: dict[tuple[Path, Path], Interval] = {}
        self._beats: deque[Beat] = deque(maxlen=KEPT_FRAMES)
        self.marked: list[Marked] = []
        """What was marked in this session, in order."""
        self._memory: list[Beat] = []
        self._memory_every = self._memory_skipped = 0

    @property
    def running(self) -> bool:
        return self.state not in ("none", "ended")

    @property
    def beats(self) -> npt.NDArray[np.float64]:
        """Shape (frames, 10): number, CPU ms, ms blocked in the swap, calls, draws, vertices; bytes of textures,
        renderbuffers and buffers, objects.
        """
        found = np.array([msgspec.structs.astuple(beat) for beat in self._beats], np.float64).reshape(-1, 10)
        found[:, 1:3] /= 1e6
        return found

    @property
    def memory(self) -> npt.NDArray[np.float64]:
        """Over the whole session, shape (moments, 5): frame, bytes of textures, renderbuffers and buffers, objects."""
        rows = [(b.frame, b.texture_bytes, b.renderbuffer_bytes, b.buffer_bytes, b.objects) for b in self._memory]
        return np.array(rows, np.float64).reshape(-1, 5)

    def _remember_memory(self, beat: Beat) -> None:
        """Every moment of a short session; of longer ones every second of them, every fourth, and so on."""
        if self._memory_skipped < self._memory_every:
            self._memory_skipped += 1
            return
        self._memory_skipped = 0
        self._memory.append(beat)
        if len(self._memory) >= KEPT_MOMENTS:
            del self._memory[1::2]
            self._memory_every = 2 * self._memory_every + 1

    def begin(self, program: list[str]) -> None:
        """A new session; captures of the one before stay in the list, which is the log of what was tried."""
        self.program, self.state, self.text, self.problem = program, "starting", "", ""
        self._beats.clear()
        self.marked = []
        self._memory, self._memory_every, self._memory_skipped = [], 0, 0
        self.output.clear()
        self.lines_written = 0
        self.changed()

    def _add_output(self, lines: list[str]) -> None:
        self.output.extend(lines)
        self.lines_written += len(lines)

    def take_in(self, event: Event) -> list[CaptureRow]:
        """Follow one event; returns the captures that are new."""
        fresh: list[CaptureRow] = []
        match event:
            case Hello():
                self.name, self.program, self.state = event.name, event.program, event.state
                self._add_output(event.output)
                known = {row.taken.file for row in self.rows}
                fresh = [CaptureRow(taken) for taken in event.taken if taken.file not in known]
                self.marked = list(event.marked)
            case Beats():
                self._beats.extend(event.rows)
                if event.rows:
                    self._remember_memory(event.rows[-1])
            case StateIs():
                self.state, self.text, self.part = event.state, event.text, event.part
            case Output():
                self._add_output(event.lines)
            case Problem():
                self.problem = event.text
            case Ended():
                self.state, self.text = "ended", event.text
                self.problem = "" if event.asked else event.text
                if not self.output:
                    self._add_output(event.output)
            case Marked():
                self.problem = ""
                self.marked = [*self.marked, event]
            case Taken():
                self.problem = ""
                fresh = [CaptureRow(event)]
        self.rows += fresh
        if self.baseline is None and self.rows:
            self.baseline = self.rows[0].path
        self.changed()
        return fresh

    def bound(self) -> Bound | None:
        """Who sets the pace of the running program, by its last frames."""
        beats = self.beats
        return bound_by(beats[:, 1].tolist(), beats[:, 2].tolist())

    def difference(self, row: CaptureRow) -> Interval | None:
        """Frame time of a capture less the baseline's, ms, of the program's own frames before each; None when not
        known.
        """
        base = next((r for r in self.rows if r.path == self.baseline), None)
        if base is None or base is row or len(base.frame_ms) < 6 or len(row.frame_ms) < 6:
            return None
        # asked for with every repaint, and frame times never change once they are read
        pair = (base.path, row.path)
        if pair not in self._differences:
            self._differences[pair] = difference_of_medians(base.frame_ms, row.frame_ms)
        return self._differences[pair]

    def sentence(self, budget_ms: float) -> str:
        """The answer at the top of the page."""
        name = program_title(self.program)
        beats = self.beats
        if self.state == "none":
            return "No program is running."
        if self.state == "ended":
            return f"{self.text[0].upper()}{self.text[1:]}." if self.text else f"{name} ended."
        if len(beats) == 0:
            return f"{name} is starting; it has drawn nothing yet."
        frame = float(np.median(beats[:, 1] + beats[:, 2]))
        calls, draws, vertices = (int(np.median(beats[:, k])) for k in (3, 4, 5))
        return (
            f"{name}: {frame:.1f} ms per frame, {frame / budget_ms:.1f} times the {budget_ms:g} ms budget; {calls:,}"
            f" calls, {draws:,} draws, {vertices:,} vertices."
        )
