"""What all parts of the snapshot share: batches that leave no trace, names alive, contents in pieces."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TypeVar

from wendascope.frame.journal import Journal
from wendascope.frame.objects import BlobStore, ContextInfo
from wendascope.frame.packed import Batch, Executor, Out
from wendascope.frame.state_table import PIXEL_STORE, TEXTURE_TARGETS
from wendascope.registry import GL

State = dict[str, dict[tuple[int, int], tuple[int, ...]]]
_T = TypeVar("_T")
_CONTENT_BATCH = 64 << 20
"""Contents are read in batches of about this many bytes, so that the shared memory stays small."""


class Reader:
    """Runs the queries of one snapshot.

    `names` maps object classes (as in the registry) to the names alive; `journal` knows the programs; `size` is
    that of the window. `context` and `state` are filled in first, since every batch is restored by them.
    """

    def __init__(self, executor: Executor, names: dict[str, list[int]], journal: Journal, size: tuple[int, int]) -> None:
        self.executor = executor
        self.names = names
        self.journal = journal
        self.size = size
        self.blobs = BlobStore()
        self.caveats: list[str] = []
        self.context = ContextInfo()
        self.state: State = {}

    def batch(self) -> Batch:
        batch = Batch()
        call = batch.call
        if self.value("capability", GL.DEBUG_OUTPUT):
            call("glDisable", GL.DEBUG_OUTPUT)  # the program's own callback should not hear of our calls
        call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
        for name in PIXEL_STORE:
            if name.startswith("PACK"):
                call("glPixelStorei", getattr(GL, name), 1 if name == "PACK_ALIGNMENT" else 0)
        call("glActiveTexture", GL.TEXTURE0)
        return batch

    def run(self, batch: Batch) -> None:
        """Append what puts everything back, and run."""
        call = batch.call
        for name in PIXEL_STORE:
            if name.startswith("PACK"):
                call("glPixelStorei", getattr(GL, name), self.value("pixel_store", getattr(GL, name)))
        for target in ("PIXEL_PACK_BUFFER", "COPY_READ_BUFFER"):
            call("glBindBuffer", getattr(GL, target), self.value("buffer", getattr(GL, target)))
        for target, (_, since) in TEXTURE_TARGETS.items():
            if self.context.number >= since:
                call("glBindTexture", getattr(GL, target), self.value("texture", GL.TEXTURE0, getattr(GL, target)))
        call("glActiveTexture", self.value("active_texture"))
        call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, self.value("framebuffer", GL.DRAW_FRAMEBUFFER))
        call("glBindFramebuffer", GL.READ_FRAMEBUFFER, self.value("framebuffer", GL.READ_FRAMEBUFFER))
        call("glBindRenderbuffer", GL.RENDERBUFFER, self.value("renderbuffer"))
        call("glBindVertexArray", self.value("vertex_array"))
        if self.value("capability", GL.DEBUG_OUTPUT):
            call("glEnable", GL.DEBUG_OUTPUT)
        self.executor.run(batch)

    def value(self, pattern: str, i: int = 0, j: int = 0) -> int:
        return self.state.get(pattern, {}).get((i, j), (0,))[0]

    def alive(self, class_name: str, test: str) -> list[int]:
        """Names that are really objects: a name that was only reserved is none yet."""
        names = sorted(self.names.get(class_name, []))
        batch = Batch()
        results = [batch.call(test, name) for name in names]
        self.executor.run(batch)
        return [name for name, result in zip(names, results, strict=True) if result.value & 1]

    def labels(self, identifier: int, names: Sequence[int]) -> list[str]:
        if not names or (self.context.number < 43 and "GL_KHR_debug" not in self.context.extensions):
            return [""] * len(names)
        batch = Batch()
        outs = [batch.out(256) for _ in names]
        for name, out in zip(names, outs, strict=True):
            batch.call("glGetObjectLabel", identifier, name, 256, None, out)
        self.executor.run(batch)
        return [out.text() for out in outs]

    def contents(
        self, items: Iterable[_T], size: Callable[[_T], int], read: Callable[[_T, Batch], Out]
    ) -> Iterator[tuple[_T, Out]]:
        """Read contents in batches of bounded size."""
        batch, total = self.batch(), 0
        pending: list[tuple[_T, Out]] = []
        for item in items:
            if pending and total + size(item) > _CONTENT_BATCH:
                self.run(batch)
                yield from pending
                batch, pending, total = self.batch(), [], 0
            pending.append((item, read(item, batch)))
            total += size(item)
        if pending:
            self.run(batch)
            yield from pending
