"""What all parts of the snapshot share: batches that leave no trace, names alive, contents in pieces."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TypeVar

from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.packed import CallBatch, Executor
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import PIXEL_STORE, TEXTURE_TARGETS
from wendascope.frame.blobs import BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.registry import GL

State = dict[str, dict[tuple[int, int], tuple[int, ...]]]
_T = TypeVar("_T")
_R = TypeVar("_R")
_INVENTED = ("buffer", "texture", "framebuffer", "renderbuffer", "query", "assembly program")
_INVENTED_NAMES = 4096
_CONTENT_BATCH = 64 << 20
"""Contents are read in batches of about this many bytes, so that the shared memory stays small."""


class Reader:
    """Runs the queries of one snapshot.

    `names` maps object classes (as in the registry) to the names alive; `journal` knows the programs, `kept` what
    GL cannot tell; `size` is that of the window; `invented` says whether names that a program made up are looked
    for. `state` is filled in first, since every batch is restored by it.
    """

    def __init__(
        self,
        executor: Executor,
        context: ContextInfo,
        names: dict[str, list[int]],
        journal: Journal,
        kept: Kept,
        size: tuple[int, int],
        invented: bool = True,
    ) -> None:
        self.executor = executor
        self.names = names
        self.journal = journal
        self.kept = kept
        self.size = size
        self.blobs = BlobStore()
        self.caveats: list[str] = []
        self.mapped: list[int] = []
        """Buffers that the program holds mapped."""
        self.offers = Offers(context)
        self.context = context
        self.state: State = {}
        self.own = not invented
        """Whether this is a replay of ours, of which only named objects are asked."""
        self._invented = invented and context.profile != "core"

    def plain(self) -> CallBatch:
        """A batch that leaves out what the context does not offer, for calls that change nothing."""
        return CallBatch(self.offers)

    def batch(self) -> CallBatch:
        """The same, with pixels packed tightly; `run` puts back what such batches change."""
        batch = self.plain()
        call = batch.call
        if self.value("capability", GL.DEBUG_OUTPUT):
            call("glDisable", GL.DEBUG_OUTPUT)  # the program's own callback should not hear of our calls
        if self.offers.value(GL.PIXEL_PACK_BUFFER):
            call("glBindBuffer", GL.PIXEL_PACK_BUFFER, 0)
        for name in PIXEL_STORE:
            if name.startswith("PACK") and self.offers("GL_" + name):
                call("glPixelStorei", getattr(GL, name), 1 if name == "PACK_ALIGNMENT" else 0)
        call("glActiveTexture", GL.TEXTURE0)
        return batch

    def run(self, batch: CallBatch) -> None:
        """Append what puts everything back, and run."""
        call = batch.call
        for name in PIXEL_STORE:
            if name.startswith("PACK") and self.offers("GL_" + name):
                call("glPixelStorei", getattr(GL, name), self.value("pixel_store", getattr(GL, name)))
        for target in ("PIXEL_PACK_BUFFER", self.spare_buffer):
            if self.offers.value(getattr(GL, target)):
                call("glBindBuffer", getattr(GL, target), self.value("buffer", getattr(GL, target)))
        for target, binding in TEXTURE_TARGETS.items():
            if self.offers.value(getattr(GL, binding)):
                call("glBindTexture", getattr(GL, target), self.value("texture", GL.TEXTURE0, getattr(GL, target)))
        call("glActiveTexture", self.value("active_texture"))
        call("glBindFramebuffer", self.offers.draw_target, self.value("framebuffer", GL.DRAW_FRAMEBUFFER))
        if self.offers.read_target != self.offers.draw_target:
            call("glBindFramebuffer", self.offers.read_target, self.value("framebuffer", GL.READ_FRAMEBUFFER))
        call("glBindRenderbuffer", GL.RENDERBUFFER, self.value("renderbuffer"))
        call("glBindVertexArray", self.value("vertex_array"))
        if self.value("capability", GL.DEBUG_OUTPUT):
            call("glEnable", GL.DEBUG_OUTPUT)
        self.executor.run(batch)

    @property
    def spare_buffer(self) -> str:
        """A buffer target that the snapshot may bind, and puts back."""
        return "COPY_READ_BUFFER" if self.offers.value(GL.COPY_READ_BUFFER) else "ARRAY_BUFFER"

    def value(self, pattern: str, i: int = 0, j: int = 0) -> int:
        return self.state.get(pattern, {}).get((i, j), (0,))[0]

    def alive(self, class_name: str, test: str) -> list[int]:
        """Names that are really objects: a name that was only reserved is none yet.

        Outside the core profile a program may bind names that it made up; small ones are tried.
        """
        if not self.offers(test):
            return []
        names = set(self.names.get(class_name, []))
        if self._invented and class_name in _INVENTED:
            names |= set(range(1, _INVENTED_NAMES))
        batch = CallBatch()
        ordered = sorted(names)
        results = [batch.call(test, name) for name in ordered]
        self.executor.run(batch)
        return [name for name, result in zip(ordered, results, strict=True) if result.value & 1]

    def labels(self, identifier: int, names: Sequence[int]) -> list[str]:
        if not names or not self.offers("glGetObjectLabel"):
            return [""] * len(names)
        batch = CallBatch()
        outs = [batch.out(256) for _ in names]
        for name, out in zip(names, outs, strict=True):
            batch.call("glGetObjectLabel", identifier, name, 256, None, out)
        self.executor.run(batch)
        return [out.text() for out in outs]

    def contents(
        self, items: Iterable[_T], size: Callable[[_T], int], read: Callable[[_T, CallBatch], _R]
    ) -> Iterator[tuple[_T, _R]]:
        """Read contents in batches of bounded size."""
        batch, total = self.batch(), 0
        pending: list[tuple[_T, _R]] = []
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
