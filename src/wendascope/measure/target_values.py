"""Which values the render targets of a frame hold that have more than eight bits a channel."""

from __future__ import annotations

import numpy as np

from wendascope.analysis.memory_use import TargetValues
from wendascope.backends.opengl.objects.contents import image_values, renderbuffer_values
from wendascope.backends.opengl.objects.objects import RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.objects.texel_sizes import format_name, texel_size
from wendascope.backends.opengl.running.left_behind import read_images
from wendascope.backends.opengl.running.session import ReplaySession
from wendascope.backends.opengl.tables.written import Written, images_of
from wendascope.frame.blobs import BlobStore
from wendascope.replay.jobs import remote
from wendascope.replay.progress import Job

_NARROW = 32
"""Bits of a texel of four channels with eight each."""


@remote
def target_values(session: ReplaySession, job: Job) -> list[TargetValues]:
    """Of every target with one sample that can be read and is larger than it would be with eight bits a channel, after
    a replay of the frame. Raises ReplayError.
    """
    job.progress("values of render targets", 0.0)
    written = images_of(session.frame.passes.targets)
    wanted = Written(
        textures={t.name for t in session.frame.objects.textures if t.name in written.textures and _is_wide(t)},
        renderbuffers={
            r.name for r in session.frame.objects.renderbuffers if r.name in written.renderbuffers and _is_wide(r)
        },
    )
    if not wanted.textures and not wanted.renderbuffers:
        return []
    session.run(session.prepare())
    blobs = BlobStore()
    read = read_images(session, wanted, blobs)
    found = []
    for texture in read.textures:
        image = next((i for i in texture.images if i.level == 0 and i.contents is not None), None)
        if image is not None and image.contents is not None:
            data = blobs.get(image.contents)
            layers = [image_values(texture, image, data, layer) for layer in range(max(image.depth, 1))]
            known = [layer for layer in layers if layer is not None]
            if known:
                values = np.stack([layer.values for layer in known])
                found.append(_summed("texture", texture.name, known[0].channels, values))
    for record in read.renderbuffers:
        whole = renderbuffer_values(record, blobs.get(record.contents)) if record.contents else None
        if whole is not None:
            found.append(_summed("renderbuffer", record.name, whole.channels, whole.values))
    return found


def _is_wide(record: TextureRecord | RenderbufferRecord) -> bool:
    if isinstance(record, RenderbufferRecord):
        internal, samples = record.internal_format, record.samples
    else:
        internal, samples = record.format, record.images[0].samples if record.images else 1
    name, size = format_name(internal), texel_size(internal)
    return not samples and "DEPTH" not in name and "I" not in name and size is not None and size.bits > _NARROW


def _summed(kind: str, name: int, channels: list[str], values: np.ndarray) -> TargetValues:
    rows = values.reshape(-1, len(channels)).astype(np.float64)
    finite = bool(np.isfinite(rows).all())
    clean = np.nan_to_num(rows, nan=0.0, posinf=1e30, neginf=-1e30)
    return TargetValues(kind, name, channels, clean.min(axis=0).tolist(), clean.max(axis=0).tolist(), finite)
