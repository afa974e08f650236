"""What block compression would make of a frame's textures: their bytes and how much of them is lost."""

from __future__ import annotations

import time

from wendascope.analysis.memory.memory_use import CompressedTexture
from wendascope.backends.doors import Session
from wendascope.frame.block_codec import (
    BlockFormat,
    block_formats,
    block_plan,
    opaque_format,
    signal_to_noise,
)
from wendascope.frame.memory import MemoryKind
from wendascope.frame.stored_image import StoredImage
from wendascope.replay.jobs import remote
from wendascope.task import Task

_LEAST_BYTES = 16 << 10
_MOST_TEXELS = 1 << 18
"""Of a texture that are compressed to tell what is lost."""
_LOSSLESS = 99.0


@remote
def compressible(session: Session, job: Task, seconds: float) -> list[CompressedTexture]:
    """Of textures that the frame does not write and that are not of one colour, the largest first, as far as some
    seconds reach. Compressed on the CPU, for the GPUs that the frame's API is for. Raises CancelledError.
    """
    frame, until, found = session.frame, time.monotonic() + seconds, []
    formats = block_formats(frame.context.es)
    items = [
        item for item in frame.memory if item.kind == MemoryKind.TEXTURE and item.size >= _LEAST_BYTES and item.stays
    ]
    items.sort(key=lambda item: -item.size)
    for number, item in enumerate(items):
        job.progress("compressing textures", number / len(items))
        if time.monotonic() > until:
            break
        image = frame.stored_image(item.name)
        row = _compressed(item.name, image, formats) if image is not None else None
        if row is not None:
            found.append(row)
    return found


def _compressed(name: int, image: StoredImage, formats: tuple[BlockFormat, ...]) -> CompressedTexture | None:
    opaque = opaque_format(image)
    if opaque is not None:
        size = sum(len(level) for level in image.levels) // 2
        return CompressedTexture(name, opaque.without.word, size, _LOSSLESS, True)
    plan = block_plan(image, formats) if not image.solid else None
    if plan is None:
        return None
    psnr = min(signal_to_noise(plan, image, _MOST_TEXELS), _LOSSLESS)
    return CompressedTexture(name, plan.format.word, plan.size(image), round(psnr, 1))
