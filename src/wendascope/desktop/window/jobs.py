"""Work in the background: replay jobs of one document, one after another, their results on the interface thread."""

from __future__ import annotations

import functools
import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue
from typing import Any, TypeVar

from PySide6.QtCore import QObject, Qt, Signal

from wendascope.desktop.models.commands import Failed, JobName, Work
from wendascope.errors import CancelledError, InternalError, WendascopeError
from wendascope.replay.client import Replay
from wendascope.task import Task

T = TypeVar("T")
_log = logging.getLogger(__name__)


@dataclass
class _Job:
    name: JobName
    work: Work[Any]
    done: Callable[[Any], None]
    failed: Failed
    replaces: bool
    cancelled: threading.Event


class JobRunner(QObject):
    """Runs jobs in a thread of its own with a replay process of its own."""

    progress = Signal(str, str, float)
    """(job, what is being done, how much of it is done)"""
    busy = Signal(str, bool)
    """(job, whether it runs)"""
    _ended = Signal(object, object, object)
    """(job, its result, what it raised)"""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._replay = Replay(path)
        self._queue: SimpleQueue[_Job | None] = SimpleQueue()
        self._waiting: dict[JobName, _Job] = {}
        self._current: _Job | None = None
        self._lock = threading.Lock()
        self._closed = False
        self._ended.connect(self._deliver, Qt.ConnectionType.QueuedConnection)
        self._thread = threading.Thread(target=self._serve, name="replay jobs", daemon=True)
        self._thread.start()

    def submit(
        self, name: JobName, work: Work[T], done: Callable[[T], None], failed: Failed, replaces: bool = False
    ) -> None:
        """Queue a job. With `replaces`, one of the same name that has not begun is forgotten."""
        job = _Job(name, work, done, failed, replaces, threading.Event())
        with self._lock:
            if replaces and name in self._waiting:
                self._waiting[name].cancelled.set()
            self._waiting[name] = job
        self._queue.put(job)

    def cancel(self, name: JobName) -> None:
        """Stop a job, running or not."""
        with self._lock:
            if name in self._waiting:
                self._waiting[name].cancelled.set()
            if self._current is not None and self._current.name == name:
                self._current.cancelled.set()

    def running(self, name: JobName) -> bool:
        """Whether a job of a name runs now."""
        with self._lock:
            return self._current is not None and self._current.name == name

    def close(self) -> None:
        """End the process and the thread; nothing is delivered afterwards, not even what has ended already."""
        self._closed = True
        with self._lock:
            for job in self._waiting.values():
                job.cancelled.set()
            if self._current is not None:
                self._current.cancelled.set()
        self._queue.put(None)
        self._thread.join(5)
        self._replay.close()

    def _serve(self) -> None:
        while (job := self._queue.get()) is not None:
            with self._lock:
                if self._waiting.get(job.name) is job:
                    del self._waiting[job.name]
                if job.cancelled.is_set():
                    continue
                self._current = job
            self.busy.emit(job.name, True)
            result: Any = None
            problem: Exception | None = None
            try:
                task = Task(functools.partial(self.progress.emit, job.name), job.cancelled.is_set)
                result = job.work(self._replay, task)
            except CancelledError as error:
                problem = error
            except WendascopeError as error:
                _log.warning("%s: %s", job.name, error, exc_info=error.__cause__)
                problem = error
            except Exception as error:
                _log.exception("%s failed", job.name)
                problem = InternalError.of(error)
            with self._lock:
                self._current = None
            self._ended.emit(job, result, problem)

    def _deliver(self, job: _Job, result: Any, problem: Exception | None) -> None:
        if self._closed:
            return  # the views that asked are gone
        self.busy.emit(job.name, False)
        if problem is not None:
            job.failed(problem)
        elif not job.cancelled.is_set():
            job.done(result)
