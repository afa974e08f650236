"""Which clocks to believe: known work at two sizes, by timer query, by draining the pipeline, and by CPU time."""

from __future__ import annotations

import struct
from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from wendascope.backends.opengl.calls.gl_helpers import small_program
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.measure.clocks import CPU, READING_BYTES, WALL, Clock, read_clocks, readings
from wendascope.measure.records import Calibration, ClockTrial
from wendascope.registry import GL
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job

_SIZE = 512
_SMALL = 128
_REPEATS = 5
_VERTEX = """{version}
{input} vec2 corner;
void main() {{ gl_Position = vec4(corner, 0.0, 1.0); }}
"""
_FRAGMENT = """{version}
{precision}{output}
void main() {{ vec2 p = gl_FragCoord.xy * 0.01; for (int i = 0; i < 64; i++) p = vec2(sin(p.y), cos(p.x));
    {color} = vec4(p, 0.0, 1.0); }}
"""
_CORNERS = struct.pack("<6f", -1, -1, 3, -1, -1, 3)


@remote
def calibrate(session: ReplaySession, job: Job) -> Calibration:
    """Draw known work at two sizes, alone and under load, and choose. Leaves the session to be restored by the next
    run.
    """
    job.progress("calibrating the clock", 0.0)
    work = _Work(session)
    work.drained(_SIZE)  # the shader is compiled here
    empty = min(float(work.drained(0)[WALL]) for _ in range(_REPEATS))
    alone = work.tried()
    loaded = None
    if session.busy is not None:
        job.progress("calibrating the clock under load", 0.5)
        with session.busy.running():
            loaded = work.tried()
    work.close()
    ratio = (_SIZE / _SMALL) ** 2
    trials = clock_trials(alone, loaded, ratio)
    drained = next(t for t in trials if t.clock == Clock.DRAIN)
    query = next((t for t in trials if t.clock == Clock.QUERY), None)
    small_query, large_query = (query.small_ms, query.large_ms) if query else (None, None)
    method, reason = choose_clock(drained.small_ms, drained.large_ms, small_query, large_query, ratio)
    verdict, why = choose_verdict_clock(trials)
    return Calibration(
        method,
        reason,
        drained.small_ms,
        drained.large_ms,
        small_query,
        large_query,
        ratio,
        empty,
        verdict,
        why,
        trials,
    )


Tried = Mapping[Clock, npt.NDArray[np.float64]]
"""Clock -> ms of the small and the large work, shape (repeats, 2)."""


def clock_trials(alone: Tried, loaded: Tried | None, ratio: float) -> list[ClockTrial]:
    """What the clocks showed, from runs alone and, where there were any, under load.

    A clock is credible when it grows with the work as it should, within a factor of three, and shows at least half of
    the drained time of the wall.
    """
    wall = float(np.median(alone[Clock.DRAIN][:, 1]))
    trials = []
    for clock, rows in alone.items():
        small, large = np.median(rows, axis=0).tolist()
        grows = ratio / 3 <= large / max(small, 1e-9) <= ratio * 3
        trials.append(
            ClockTrial(
                clock, small, large, _spread(rows), _spread(loaded[clock]) if loaded else None,
                (grows or clock == Clock.DRAIN) and large >= 0.5 * wall,
            )
        )  # fmt: skip
    return trials


def _spread(rows: npt.NDArray[np.float64]) -> float:
    large = rows[:, 1]
    return float((large.max() - large.min()) / max(np.median(large), 1e-9))


def choose_verdict_clock(trials: list[ClockTrial]) -> tuple[str, str]:
    """The clock that verdicts go by, and why: of the credible ones the least shaken, by load where that was tried.

    A timer query goes first unless another is steadier by half: it shows what the GPU does and nothing else.
    """

    def shaken(trial: ClockTrial) -> float:
        return trial.spread if trial.loaded_spread is None else trial.loaded_spread

    credible = [trial for trial in trials if trial.credible]
    if not credible:
        return Clock.DRAIN, "no clock is credible"
    best = min(credible, key=lambda t: shaken(t) * (0.5 if t.clock == Clock.QUERY else 1.0))
    others = ", ".join(f"{t.clock} {100 * shaken(t):.0f} %" for t in credible if t is not best)
    under = "under load" if best.loaded_spread is not None else "without load"
    return best.clock, (
        f"{best.clock} scatters by {100 * shaken(best):.0f} % {under}" + (f" ({others})" if others else "")
    )


def choose_clock(
    small: float, large: float, small_query: float | None, large_query: float | None, ratio: float
) -> tuple[str, str]:
    """Method and reason, from milliseconds of both clocks for work that grows by `ratio`.

    A timer query is believed when it grows with the work as it should, within a factor of three, and when
    what it shows for the large work is at least half of the drained time.
    """
    if small_query is None or large_query is None:
        return "drain", "the context has no timer queries"
    if large_query < 0.5 * large:
        return "drain", f"timer query shows {large_query:.4f} ms for work that takes {large:.2f} ms"
    if not ratio / 3 <= large_query / max(small_query, 1e-9) <= ratio * 3:
        return (
            "drain",
            f"timer query grows {large_query / max(small_query, 1e-9):.1f} times for {ratio:.0f} times the work",
        )
    return "timer query", f"timer query and drained time agree on known work ({large_query:.2f} and {large:.2f} ms)"


class _Work:
    """A full-screen triangle with a loop, drawn into a texture of its own."""

    def __init__(self, session: ReplaySession) -> None:
        self._session = session
        context = session.frame.context
        modern = context.number >= (30 if context.es else 33)
        version = (
            ("#version 300 es" if context.es else "#version 330")
            if modern
            else ("#version 100" if context.es else "#version 110")
        )
        words = {
            "version": version,
            "input": "in" if modern else "attribute",
            "output": "out vec4 color;" if modern else "",
            "color": "color" if modern else "gl_FragColor",
            "precision": "precision highp float; " if context.es else "",
        }
        sources = ((GL.VERTEX_SHADER, _VERTEX.format(**words)), (GL.FRAGMENT_SHADER, _FRAGMENT.format(**words)))
        make = CallBatch(session.offers)
        outs = [make.out(4) for _ in range(4)]
        for command, out in zip(
            ("glGenTextures", "glGenFramebuffers", "glGenBuffers", "glGenVertexArrays"), outs, strict=True
        ):
            make.call(command, 1, out)
        queries = make.out(8)
        make.call("glGenQueries", 2, queries)
        self._run(make)
        self._program = small_program(session.executor, sources, session.offers, {0: "corner"})
        self._texture, self._framebuffer, self._buffer, self._vertex_array = (out.uints()[0] for out in outs)
        self._queries = queries.uints()
        build = CallBatch(session.offers)
        build.call("glBindTexture", GL.TEXTURE_2D, self._texture)
        build.call("glTexImage2D", GL.TEXTURE_2D, 0, GL.RGBA, _SIZE, _SIZE, 0, GL.RGBA, GL.UNSIGNED_BYTE, None)
        build.call("glBindFramebuffer", GL.FRAMEBUFFER, self._framebuffer)
        build.call("glFramebufferTexture2D", GL.FRAMEBUFFER, GL.COLOR_ATTACHMENT0, GL.TEXTURE_2D, self._texture, 0)
        self._run(build)

    def _run(self, batch: CallBatch) -> None:
        self._session.executor.run(batch)

    def _setup(self, size: int) -> CallBatch:
        batch = CallBatch(self._session.offers)
        for cap in ("DEPTH_TEST", "STENCIL_TEST", "SCISSOR_TEST", "CULL_FACE", "BLEND", "RASTERIZER_DISCARD"):
            if self._session.offers("GL_" + cap):
                batch.call("glDisable", getattr(GL, cap))
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, self._framebuffer)
        batch.call("glUseProgram", self._program)
        batch.call("glBindVertexArray", self._vertex_array)
        batch.call("glBindBuffer", GL.ARRAY_BUFFER, self._buffer)
        batch.call("glBufferData", GL.ARRAY_BUFFER, len(_CORNERS), _CORNERS, GL.STATIC_DRAW)
        batch.call("glVertexAttribPointer", 0, 2, GL.FLOAT, 0, 0, Raw(0))
        batch.call("glEnableVertexAttribArray", 0)
        batch.call("glViewport", 0, 0, max(size, 1), max(size, 1))
        batch.call("glFinish")
        return batch

    def drained(self, size: int) -> npt.NDArray[np.float64]:
        """Draw once, drained on both sides; ms by three clocks, shape (3,)."""
        batch = self._setup(size)
        read_clocks(batch, drained=True)
        if size:
            batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
        read_clocks(batch, drained=True)
        self._run(batch)
        first, last = (readings(out.data + bytes(READING_BYTES - len(out.data)))[0] for out in batch.outs)
        return last - first

    def tried(self) -> dict[Clock, npt.NDArray[np.float64]]:
        """Both sizes by every clock; see `Tried`."""
        rows = np.array([[self.drained(size) for size in (_SMALL, _SIZE)] for _ in range(_REPEATS)])
        found: dict[Clock, npt.NDArray[np.float64]] = {Clock.DRAIN: rows[..., WALL], Clock.CPU: rows[..., CPU]}
        if self._session.offers("GL_TIME_ELAPSED") and self._session.offers("glGetQueryObjectui64v"):
            found[Clock.QUERY] = self.queried()
        return found

    def queried(self) -> npt.NDArray[np.float64]:
        """The small and the large work by timer query, one after the other with no drain between, as steps are."""
        rows = []
        for _ in range(_REPEATS):
            batch = self._setup(_SMALL)
            outs = [batch.out(8), batch.out(8)]
            for size, query in zip((_SMALL, _SIZE), self._queries, strict=True):
                batch.call("glViewport", 0, 0, size, size)
                batch.call("glBeginQuery", GL.TIME_ELAPSED, query)
                batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
                batch.call("glEndQuery", GL.TIME_ELAPSED)
            for out, query in zip(outs, self._queries, strict=True):
                batch.call("glGetQueryObjectui64v", query, GL.QUERY_RESULT, out)
            self._run(batch)
            rows.append([out.int64() / 1e6 for out in outs])
        return np.array(rows)

    def close(self) -> None:
        batch = CallBatch(self._session.offers)
        batch.call("glDisableVertexAttribArray", 0)
        for command, name in (
            ("glDeleteTextures", self._texture), ("glDeleteFramebuffers", self._framebuffer),
            ("glDeleteVertexArrays", self._vertex_array), ("glDeleteBuffers", self._buffer),
        ):  # fmt: skip
            batch.call(command, 1, struct.pack("<I", name))
        batch.call("glDeleteQueries", 2, struct.pack("<II", *self._queries))
        batch.call("glUseProgram", 0)
        batch.call("glDeleteProgram", self._program)
        self._run(batch)
        self._session.redefine_vertex_arrays()
