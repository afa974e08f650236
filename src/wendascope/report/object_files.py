"""Objects in memory as files: textures as PNG or KTX 2, buffers as CSV or as they are."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import numpy as np
import numpy.typing as npt
from PIL import Image

from wendascope.errors import UsageError
from wendascope.files import write_atomically
from wendascope.frame.contents import BufferLayout, ImageValues
from wendascope.frame.frame import Frame
from wendascope.frame.memory import MemoryItem
from wendascope.report.gltf import glb
from wendascope.report.ktx2 import ktx2
from wendascope.texts import cell

IMAGE_FORMS = {".png": "picture", ".ktx2": "all levels, layers and faces as they are stored"}
BUFFER_FORMS = {".csv": "its elements", ".bin": "its bytes"}


def save_texture(frame: Frame, item: MemoryItem, path: Path) -> None:
    """A texture as the frame finds it; the ending of the name tells the form. Raises UsageError, FileError."""
    if path.suffix == ".ktx2":
        image = frame.stored_image(item.name) if item.object_class == "texture" else None
        if image is None:
            raise UsageError(f"{item.title} has no contents that were kept whole")
        data = ktx2(image)
    elif path.suffix == ".png":
        values = frame.stored_values(item.name) if item.object_class == "texture" else None
        if values is None:
            raise UsageError(
                f"{item.title} has no contents that can be shown without replaying; save it from the window"
            )
        data = png(pixels_of(values))
    else:
        raise UsageError(f"{path.name}: textures are written as {' or '.join(IMAGE_FORMS)}")
    write_atomically(path, lambda scratch: scratch.write_bytes(data))


def pixels_of(values: ImageValues) -> npt.NDArray[np.uint8]:
    """An image with all its channels where it has colours, else its first as grey from its smallest value to its
    largest. Shape (height, width, 1, 3 or 4), bottom row first.
    """
    names = values.channels
    if names[:3] == ["red", "green", "blue"]:
        return (np.clip(np.nan_to_num(values.values.astype(np.float64)), 0.0, 1.0) * 255 + 0.5).astype(np.uint8)
    low, high = values.ends([0])
    whole = (
        (0.0, 1.0)
        if values.values.dtype.kind == "f" and low >= 0 and high <= 1 and names[0] != "depth"
        else (low, high)
    )
    return values.shown([0], *whole)[..., :1]


def png(pixels: npt.NDArray[np.uint8]) -> bytes:
    """A PNG file of pixels of shape (height, width, 1, 3 or 4), bottom row first."""
    flipped = np.ascontiguousarray(pixels[::-1])
    picture = Image.fromarray(flipped[..., 0] if flipped.shape[2] == 1 else flipped)
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def save_mesh(frame: Frame, step: int, path: Path) -> None:
    """The mesh of a draw as binary glTF. Raises UsageError, FileError."""
    if path.suffix != ".glb":
        raise UsageError(f"{path.name}: meshes are written as .glb")
    if not 0 <= step < len(frame.steps):
        raise UsageError(f"the frame has no step {step}; its steps are 0 to {len(frame.steps) - 1}")
    mesh = frame.step_mesh(step)
    if mesh is None:
        raise UsageError(f"step {step} draws no triangles from buffers whose contents are known")
    write_atomically(path, lambda scratch: scratch.write_bytes(glb(mesh)))


def save_buffer(frame: Frame, item: MemoryItem, path: Path, layout: int = 0) -> None:
    """A buffer as the frame finds it, by one of its layouts. Raises UsageError, FileError."""
    data = frame.buffer_bytes(item.name)
    if data is None:
        raise UsageError(f"{item.title} has no contents that were kept")
    if path.suffix == ".bin":
        write_atomically(path, lambda scratch: scratch.write_bytes(data))
        return
    if path.suffix != ".csv":
        raise UsageError(f"{path.name}: buffers are written as {' or '.join(BUFFER_FORMS)}")
    layouts = frame.buffer_layouts(item.name)
    if not 0 <= layout < len(layouts):
        raise UsageError(f"nothing of the frame tells how {item.title} is read; write it as .bin")
    text = elements_csv(data, layouts[layout])
    write_atomically(path, lambda scratch: scratch.write_text(text))


def elements_csv(data: bytes, layout: BufferLayout) -> str:
    """One row an element, one column a component."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    heads = [
        column.name if column.components == 1 else f"{column.name}.{k}"
        for column in layout.columns
        for k in range(column.components)
    ]
    writer.writerow(["element", *map(cell, heads)])
    for index in range(layout.count(len(data))):
        cells = [part for text in layout.element(data, index) for part in text.split(", ")]
        writer.writerow([index, *cells])
    return out.getvalue()
