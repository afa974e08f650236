"""Work in the background: replay jobs of one document, their results on the interface thread."""

from __future__ import annotations

import contextlib
import functools
import logging
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue
from typing import Any, TypeVar

from PySide6.QtCore import QObject, Qt, Signal

from wendascope.desktop.models.commands import Failed, JobName, Work
from wendascope.errors import CancelledError, InternalError, WendascopeError
from wendascope.replay.client import Replay
from wendascope.task import Task
from wendascope.trials.frame_process import FrameProcess

T = TypeVar("T")
_log = logging.getLogger(__name__)


_MEASURING = (JobName.MEASURE, JobName.SURVEY)
"""Jobs that take long. They have a replay process of their own, so that pictures come meanwhile."""
_STUDYING = (JobName.STUDY, JobName.PROGRAMS)
"""Jobs that replay nothing and compute much, in a Python process."""
_STANDS_BACK = 10
"""How much they leave processors to what is looked at."""


class _Clocks:
    """Who reads clocks is alone; others work beside each other. Who wants to be alone waits for no newcomer."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._working, self._wanted, self._alone = 0, 0, False

    @contextlib.contextmanager
    def beside_others(self) -> Iterator[None]:
        with self._changed:
            self._changed.wait_for(lambda: not self._alone and not self._wanted)
            self._working += 1
        try:
            yield
        finally:
            with self._changed:
                self._working -= 1
                self._changed.notify_all()

    @contextlib.contextmanager
    def alone(self) -> Iterator[None]:
        with self._changed:
            self._wanted += 1
            self._changed.wait_for(lambda: not self._alone and not self._working)
            self._wanted -= 1
            self._alone = True
        try:
            yield
        finally:
            with self._changed:
                self._alone = False
                self._changed.notify_all()


@dataclass
class _Job:
    name: JobName
    work: Work[Any]
    done: Callable[[Any], None]
    failed: Failed
    alone: bool
    cancelled: threading.Event


class _Lane:
    """Jobs that are done one after another, in a thread with a replay process and one for Python work, which start when
    they are first needed.
    """

    def __init__(self, path: Path, run: Callable[[_Lane, _Job], None], name: str, niceness: int = 0) -> None:
        self.replay = Replay(path)
        self.computing = FrameProcess(path, niceness)
        self.queue: SimpleQueue[_Job | None] = SimpleQueue()
        self.waiting: dict[JobName, _Job] = {}
        self.current: _Job | None = None
        self.thread = threading.Thread(target=self._serve, args=(run,), name=name, daemon=True)
        self.thread.start()

    def _serve(self, run: Callable[[_Lane, _Job], None]) -> None:
        while (job := self.queue.get()) is not None:
            run(self, job)

    def jobs(self) -> list[_Job]:
        """Those that wait, and the one that runs."""
        return [*self.waiting.values(), *([self.current] if self.current is not None else [])]

    def close(self) -> None:
        self.thread.join(5)
        self.replay.close()
        self.computing.close()


class JobRunner(QObject):
    """Runs the jobs of a document in three lanes, each a thread with processes of its own: one for what takes long, one
    for what is looked at meanwhile, one for what is computed of the calls. While a job reads clocks, nothing else of
    the document runs.
    """

    progress = Signal(str, str, float)
    """(job, what is being done, how much of it is done)"""
    busy = Signal(str, bool)
    """(job, whether it runs)"""
    _ended = Signal(object, object, object)
    """(job, its result, what it raised)"""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._lock, self._clocks = threading.Lock(), _Clocks()
        self._closed = False
        self._ended.connect(self._deliver, Qt.ConnectionType.QueuedConnection)
        self._looking = _Lane(path, self._run, "replay jobs")
        self._measuring = _Lane(path, self._run, "measuring")
        self._studying = _Lane(path, self._run, "studying", _STANDS_BACK)

    @property
    def _lanes(self) -> tuple[_Lane, ...]:
        return self._looking, self._measuring, self._studying

    def _lane(self, name: JobName) -> _Lane:
        if name in _MEASURING:
            return self._measuring
        return self._studying if name in _STUDYING else self._looking

    def submit(
        self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed, replaces: bool = False,
        alone: bool = True,
    ) -> None:  # fmt: skip
        """Queue a job. With `replaces`, one of the same name that has not begun is forgotten. Of those that measure,
        one that is not `alone` reads no clocks, and others may run beside it.
        """
        job, lane = _Job(name, work, done, failed, alone, threading.Event()), self._lane(name)
        with self._lock:
            if replaces and name in lane.waiting:
                lane.waiting[name].cancelled.set()
            lane.waiting[name] = job
        lane.queue.put(job)

    def replay_of(self, name: JobName) -> Replay:
        """The replay process that jobs of a name are given."""
        return self._lane(name).replay

    def computing_of(self, name: JobName) -> FrameProcess:
        """The process for Python work that jobs of a name may use."""
        return self._lane(name).computing

    def cancel(self, name: JobName) -> None:
        """Stop a job, running or not."""
        with self._lock:
            for job in self._lane(name).jobs():
                if job.name == name:
                    job.cancelled.set()

    def running(self, name: JobName) -> bool:
        """Whether a job of a name runs now."""
        with self._lock:
            current = self._lane(name).current
            return current is not None and current.name == name

    def pending(self, name: JobName) -> bool:
        """Whether a job of a name runs or waits."""
        with self._lock:
            return any(job.name == name and not job.cancelled.is_set() for job in self._lane(name).jobs())

    @property
    def reads_clocks(self) -> bool:
        """Whether what is asked for now has to wait for times."""
        with self._lock:
            current = self._measuring.current
            return current is not None and current.alone

    def close(self) -> None:
        """End processes and threads; nothing is delivered afterwards, not even what has ended already."""
        self._closed = True
        with self._lock:
            for lane in self._lanes:
                for job in lane.jobs():
                    job.cancelled.set()
                lane.queue.put(None)
        for lane in self._lanes:
            lane.close()

    def _run(self, lane: _Lane, job: _Job) -> None:
        with self._lock:
            if lane.waiting.get(job.name) is job:
                del lane.waiting[job.name]
            if job.cancelled.is_set():
                return
            lane.current = job
        alone = job.alone and lane is self._measuring
        self.busy.emit(job.name, True)
        result: Any = None
        problem: Exception | None = None
        try:
            with self._clocks.alone() if alone else self._clocks.beside_others():
                task = Task(functools.partial(self.progress.emit, job.name), job.cancelled.is_set)
                task.check()
                result = job.work(lane.replay, task)
        except CancelledError as error:
            problem = error
        except WendascopeError as error:
            _log.warning("%s: %s", job.name, error, exc_info=error.__cause__)
            problem = error
        except Exception as error:
            _log.exception("%s failed", job.name)
            problem = InternalError.of(error)
        with self._lock:
            lane.current = None
        self._ended.emit(job, result, problem)

    def _deliver(self, job: _Job, result: Any, problem: Exception | None) -> None:
        if self._closed:
            return  # the views that asked are gone
        self.busy.emit(job.name, False)
        if problem is not None:
            job.failed(problem)
        elif not job.cancelled.is_set():
            job.done(result)
