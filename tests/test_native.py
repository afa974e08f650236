"""The C side against its Python reference, without a driver: packed calls, the executor, and sizes of pixels."""

from __future__ import annotations

import ctypes
import itertools
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.native.driver import build_driver, build_sizes, scalar_commands
from wendascope.backends.opengl.objects.formats import _COMPONENTS, _PACKED_SIZE, _TYPE_SIZE
from wendascope.registry import GL, native_library

ROOT = Path(__file__).parent.parent
_LAYOUT = ("ALIGNMENT", "ROW_LENGTH", "SKIP_ROWS", "SKIP_PIXELS", "IMAGE_HEIGHT", "SKIP_IMAGES")


@pytest.fixture(scope="module")
def driver(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return build_driver(tmp_path_factory.mktemp("driver"))


@pytest.fixture(scope="module")
def sizes(tmp_path_factory: pytest.TempPathFactory) -> ctypes.CDLL:
    library = ctypes.CDLL(str(build_sizes(tmp_path_factory.mktemp("sizes"))))
    for name in ("type", "pixel", "image", "map", "string"):
        getattr(library, f"alone_{name}").restype = ctypes.c_uint64
    library.alone_image.argtypes = [
        ctypes.c_int, ctypes.c_uint, ctypes.c_uint, *[ctypes.c_int64] * 3, ctypes.c_int,
    ]  # fmt: skip
    library.alone_map.argtypes = [ctypes.c_uint, *[ctypes.c_int64] * 4]
    library.alone_string.argtypes = [ctypes.c_char_p, ctypes.c_int64]
    return library


@pytest.mark.parametrize("seed", range(3))
def test_the_driver_gets_what_was_packed(driver: Path, seed: int) -> None:
    assert len(scalar_commands()) > 1000
    environment = {**os.environ, "LD_PRELOAD": f"{native_library()}:{driver}", "PYTHONPATH": str(ROOT)}
    done = subprocess.run(
        [sys.executable, "-m", "tests.native.noting", str(seed)],
        cwd=ROOT, env=environment, capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert (done.returncode, done.stdout) == (0, "done\n"), done.stdout[-2000:] + done.stderr[-2000:]


def test_sizes_of_pixels_are_those_of_the_reference(sizes: ctypes.CDLL) -> None:
    for type_, size in _TYPE_SIZE.items():
        assert sizes.alone_type(type_) == size
        for format_, count in _COMPONENTS.items():
            assert sizes.alone_pixel(format_, type_) == count * size, (hex(format_), hex(type_))
    for type_, size in _PACKED_SIZE.items():
        assert sizes.alone_pixel(GL.RGBA, type_) == size, hex(type_)


@given(st.data())
@settings(max_examples=300, deadline=None)
def test_a_rectangle_reaches_to_its_last_pixel(sizes: ctypes.CDLL, data: st.DataObject) -> None:
    """The size is one more than the largest byte that any pixel of the rectangle touches, by the addresses that the
    OpenGL specification (4.6, section 8.4.4.1) gives.
    """
    pack, dimensions = data.draw(st.booleans()), data.draw(st.sampled_from([1, 2, 3]))
    width, height, depth = (data.draw(st.integers(1, 9)) if d < dimensions else 1 for d in range(3))
    format_, type_ = data.draw(st.sampled_from(sorted(_COMPONENTS))), data.draw(st.sampled_from(sorted(_TYPE_SIZE)))
    alignment = data.draw(st.sampled_from([1, 2, 4, 8]))
    row_length = data.draw(st.sampled_from([0, width, width + 3]))
    image_height = data.draw(st.sampled_from([0, height, height + 2])) if dimensions > 2 else 0
    skip_rows, skip_pixels = data.draw(st.integers(0, 4)), data.draw(st.integers(0, 4))
    skip_images = data.draw(st.integers(0, 2)) if dimensions > 2 else 0
    sizes.alone_version(0, 4)
    values = (alignment, row_length, skip_rows, skip_pixels, image_height, skip_images)
    for name, value in zip(_LAYOUT, values, strict=True):
        sizes.alone_set(int(getattr(GL, f"{'PACK' if pack else 'UNPACK'}_{name}")), value)
    pixel = sizes.alone_pixel(format_, type_)
    row = -(-(row_length or width) * pixel // alignment) * alignment
    image = row * (image_height or height)
    ends = [
        (z + skip_images) * image + (y + skip_rows) * row + (x + skip_pixels + 1) * pixel
        for z, y, x in itertools.product(range(depth), range(height), range(width))
    ]
    assert sizes.alone_image(pack, format_, type_, width, height, depth, dimensions) == max(ends)


def test_early_es_knows_no_layout_but_alignment(sizes: ctypes.CDLL) -> None:
    sizes.alone_version(1, 2)
    for name in _LAYOUT:
        sizes.alone_set(int(getattr(GL, f"UNPACK_{name}")), 0)
    sizes.alone_set(int(GL.UNPACK_ROW_LENGTH), 100)
    sizes.alone_set(int(GL.UNPACK_ALIGNMENT), 4)
    assert sizes.alone_image(0, GL.RGB, GL.UNSIGNED_BYTE, 3, 2, 1, 2) == 12 + 9
    sizes.alone_version(0, 3)
    assert sizes.alone_image(0, GL.RGB, GL.UNSIGNED_BYTE, 3, 2, 1, 2) == 300 + 9


@given(st.integers(-3, 9), st.integers(-3, 9), st.integers(-3, 9))
def test_no_rectangle_has_no_bytes(sizes: ctypes.CDLL, width: int, height: int, depth: int) -> None:
    size = sizes.alone_image(0, GL.RGBA, GL.FLOAT, width, height, depth, 3)
    assert (size == 0) == (min(width, height, depth) <= 0)


@given(st.sampled_from([(0x0D97, 3), (0x0D98, 4), (0x0D91, 1), (0x0D94, 2)]), st.integers(1, 8), st.integers(1, 8))
def test_control_points(sizes: ctypes.CDLL, target: tuple[int, int], ustride: int, uorder: int) -> None:
    name, values = target
    assert sizes.alone_map(name, ustride, uorder, 0, 1) == max(u * ustride + values for u in range(uorder))
    assert sizes.alone_map(name, ustride, 0, 0, 1) == 0


@given(st.binary(max_size=20).filter(lambda text: b"\0" not in text), st.integers(-1, 20))
def test_strings(sizes: ctypes.CDLL, text: bytes, length: int) -> None:
    assert sizes.alone_string(text, length) == (length if length >= 0 else len(text) + 1)
    assert sizes.alone_string(None, length) == 0


def test_arrays_of_every_kind_fit_numpy(sizes: ctypes.CDLL) -> None:
    """The reference's own sizes are those of NumPy's types."""
    kinds = {GL.UNSIGNED_BYTE: np.uint8, GL.SHORT: np.int16, GL.HALF_FLOAT: np.float16, GL.FLOAT: np.float32}
    assert all(sizes.alone_type(int(t)) == np.dtype(kind).itemsize for t, kind in kinds.items())
