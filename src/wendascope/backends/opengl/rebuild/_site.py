"""What the parts of a rebuild share: the frame, an executor, the names here, what the context offers."""

from __future__ import annotations

from dataclasses import dataclass, field

from wendascope.backends.opengl.calls.packed import CallBatch, Executor
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.rebuild.names import NameMap
from wendascope.backends.opengl.state.offers import Offers
from wendascope.backends.opengl.state.state_table import UNPACK_STORE
from wendascope.registry import GL

_BATCH_BYTES = 64 << 20


@dataclass
class Site:
    """Where a frame is rebuilt."""

    frame: OpenGLFrame
    executor: Executor
    offers: Offers
    names: NameMap = field(default_factory=NameMap)
    caveats: list[str] = field(default_factory=list)

    @property
    def spare_buffer(self) -> int:
        """A buffer target to upload through."""
        return GL.COPY_WRITE_BUFFER if self.offers.value(GL.COPY_WRITE_BUFFER) else GL.ARRAY_BUFFER

    def batch(self) -> CallBatch:
        """A batch that leaves out what the context does not offer."""
        return CallBatch(self.offers)

    def upload_batch(self) -> CallBatch:
        """The same, in which pixel uploads read tightly packed client memory."""
        batch = self.batch()
        if self.offers.value(GL.PIXEL_UNPACK_BUFFER):
            batch.call("glBindBuffer", GL.PIXEL_UNPACK_BUFFER, 0)
        for name in UNPACK_STORE:
            if self.offers(f"GL_{name}"):
                batch.call("glPixelStorei", getattr(GL, name), 1 if name == "UNPACK_ALIGNMENT" else 0)
        batch.call("glActiveTexture", GL.TEXTURE0)
        return batch

    def flush(self, batch: CallBatch) -> CallBatch:
        """Run the batch when it has grown large; returns the one to go on with."""
        if len(batch.arena) < _BATCH_BYTES:
            return batch
        self.executor.run(batch)
        return self.upload_batch()
