"""Memory: sizes, values, groups, comparisons and growth on their own; the demo's store room against its own figures."""

from __future__ import annotations

import json
import shutil
import struct
import sys
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from tests.conftest import DATA, Capture, program
from tests.synthetic import frame_of, objects
from tests.test_cli import result, run
from wendascope import records
from wendascope.analysis.geometry.drawn import StepDrawn
from wendascope.analysis.memory.memory_use import MemoryUse, SampledTexture, SampledTextures
from wendascope.analysis.memory.sums import (
    ChangeKind,
    compared,
    grouped,
    grows_without_end,
    is_unused,
    memory_answer,
    total,
)
from wendascope.analysis.memory.traffic import Moved, moved, traffic
from wendascope.analysis.memory.treemap_layout import squarified
from wendascope.backends.edit import Edit
from wendascope.backends.opengl.calls.packed import CallBatch, Raw
from wendascope.backends.opengl.instruments.noting import note
from wendascope.backends.opengl.objects.records import ImageRecord, RenderbufferRecord, TextureRecord
from wendascope.backends.opengl.objects.texel_formats import texel_format_named
from wendascope.backends.opengl.objects.texel_sizes import texel_size
from wendascope.backends.opengl.objects.texel_values import texel_values
from wendascope.desktop.pages.memory import MemoryPage
from wendascope.desktop.window.main_window import MainWindow
from wendascope.errors import UsageError
from wendascope.frame.blobs import BlobStore
from wendascope.frame.contents import NO_NUMBER, BufferColumn, BufferLayout, ImageValues
from wendascope.frame.file import load, save
from wendascope.frame.formats import Format
from wendascope.frame.frame import Picture
from wendascope.frame.memory import MemoryItem, MemoryKind
from wendascope.frame.stored_image import Packing, StoredImage
from wendascope.frame.vertex_widths import narrower
from wendascope.measure.pictures import verify
from wendascope.registry import GL, tables
from wendascope.replay.client import Replay
from wendascope.report.gltf import MAGIC
from wendascope.report.ktx2 import IDENTIFIER, ktx2
from wendascope.report.memory import as_csv, memory_document
from wendascope.tap.driver_memory import driver_memory
from wendascope.tap.launch import Target, Trigger
from wendascope.trials.proofs.proof import measured_proof
from wendascope.trials.proofs.runs import edited_picture
from wendascope.trials.survey import sampled_levels
from wendascope.trials.survey.examine import Examined, examine_file

# ---- sizes and values ----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "bits"),
    [
        ("RGBA8", 32), ("SRGB8_ALPHA8", 32), ("RGB10_A2", 32), ("R11F_G11F_B10F", 32), ("RGB9_E5", 32),
        ("RGB565", 16), ("RGB5_A1", 16), ("RGBA32F", 128), ("RG16I", 32), ("R8", 8), ("DEPTH_COMPONENT24", 24),
        ("DEPTH24_STENCIL8", 32), ("DEPTH32F_STENCIL8", 64), ("LUMINANCE8_ALPHA8", 16), ("ALPHA8", 8),
        ("COMPRESSED_RGB_S3TC_DXT1_EXT", 4), ("COMPRESSED_RGBA_S3TC_DXT5_EXT", 8), ("COMPRESSED_RGBA8_ETC2_EAC", 8),
        ("COMPRESSED_R11_EAC", 4), ("COMPRESSED_RGBA_BPTC_UNORM", 8), ("COMPRESSED_RGBA_ASTC_8x8", 2),
    ],
)  # fmt: skip
def test_bits_of_a_texel(name: str, bits: float) -> None:
    found = texel_size(tables().enum_value[f"GL_{name}"])
    assert found is not None and found.of_a_texel == bits


def test_blocks_are_whole_at_the_edges() -> None:
    size = texel_size(GL.COMPRESSED_RGBA_S3TC_DXT5_EXT)
    assert size is not None and size.image(5, 1) == 2 * 16 and size.image(0, 7) == 0
    assert texel_size(0x1234567) is None, "a format that nobody knows has no size"
    assert texel_size(GL.RGBA, GL.RGBA, GL.UNSIGNED_BYTE) == texel_size(GL.RGBA8), "of an unsized one the driver tells"


@given(st.binary(max_size=200), st.sampled_from([*tables().enum_value.values()][:4000]), st.data())
def test_pixels_of_whatever_format_are_values_or_a_clear_error(data: bytes, format_: int, more: Any) -> None:
    type_ = more.draw(st.sampled_from([GL.UNSIGNED_BYTE, GL.HALF_FLOAT, GL.UNSIGNED_INT_24_8, format_, 0]))
    shape = more.draw(st.tuples(st.integers(0, 5), st.integers(0, 5)))
    try:
        names, values = texel_values(data, shape, format_, type_)
    except ValueError:
        return
    assert values.shape == (*shape, len(names))


@given(st.lists(st.integers(0, 255), min_size=4, max_size=64).filter(lambda row: len(row) % 4 == 0))
def test_bytes_come_back_as_parts_of_one(row: list[int]) -> None:
    names, values = texel_values(bytes(row), (len(row) // 4,), GL.BGRA, GL.UNSIGNED_BYTE)
    assert names == ["red", "green", "blue", "alpha"]
    assert np.rint(values[:, [2, 1, 0, 3]] * 255).astype(int).reshape(-1).tolist() == row


def test_small_floats_are_read_as_they_are_written() -> None:
    # 1.0 has exponent 15 and mantissa 0 in all three; 0.5 has exponent 14
    word = (15 << 6) | (14 << 6) << 11 | (15 << 5) << 22
    names, values = texel_values(word.to_bytes(4, "little"), (1,), GL.RGB, GL.UNSIGNED_INT_10F_11F_11F_REV)
    assert names == ["red", "green", "blue"] and values[0].tolist() == [1.0, 0.5, 1.0]
    shared = (16 << 27) | 256
    _, values = texel_values(shared.to_bytes(4, "little"), (1,), GL.RGB, GL.UNSIGNED_INT_5_9_9_9_REV)
    assert values[0].tolist() == [1.0, 0.0, 0.0]


def test_a_range_is_shown_from_black_to_white() -> None:
    values = ImageValues(["red"], np.array([[[0.0], [5.0], [np.nan], [10.0]]], np.float32))
    assert values.ends([0]) == (0.0, 10.0)
    shown = values.shown([0], 0.0, 10.0)[0]
    assert shown[[0, 1, 3], 0].tolist() == [0, 128, 255] and tuple(shown[2]) == NO_NUMBER
    assert values.histogram(0, 0.0, 10.0, 2).tolist() == [1, 2]
    empty = ImageValues(["red"], np.full((1, 1, 1), np.inf, np.float32))
    assert empty.ends([0]) == (0.0, 1.0) and empty.shown([0], 0.0, 0.0).shape == (1, 1, 3)


def test_a_layout_reads_elements() -> None:
    place = BufferColumn("position", np.dtype("<f4"), 2, 4)
    layout = BufferLayout("vertices", 12, [place])
    data = np.array([9, 1, 2, 9, 3, 4], np.float32).tobytes()
    assert layout.count(len(data)) == 2 and layout.element(data, 1) == ["3, 4"]
    assert BufferLayout("nothing", 12, [place]).count(5) == 0


@given(st.lists(st.floats(1e-3, 1e6), min_size=1, max_size=60), st.floats(1, 2000), st.floats(1, 2000))
def test_rectangles_fill_their_room(sizes: list[float], width: float, height: float) -> None:
    sizes.sort(reverse=True)
    boxes = squarified(sizes, 3.0, 4.0, width, height)
    scale = width * height / sum(sizes)
    for size, (x, y, w, h) in zip(sizes, boxes, strict=True):
        assert w * h == pytest.approx(size * scale, rel=1e-6, abs=1e-6)
        assert x >= 3.0 - 1e-6 and y >= 4.0 - 1e-6
        assert x + w <= 3.0 + width * (1 + 1e-6) and y + h <= 4.0 + height * (1 + 1e-6)


# ---- vertices ------------------------------------------------------------------------------------------------


def _narrowed(name: str, values: Any) -> Any:
    rows = np.array(values, np.float32)
    return narrower(BufferColumn(name, np.dtype("<f4"), rows.shape[1], 0), rows)


def test_attributes_are_as_narrow_as_their_values_allow() -> None:
    random = np.random.default_rng(3)
    normals = random.normal(size=(200, 3))
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    found = _narrowed("normal", normals)
    assert found.kind == "snorm10" and found.bytes == 4 and found.error <= 0.5 / 511 + 1e-6
    assert _narrowed("normal", normals * 1.5) is None, "they are no unit vectors"
    assert _narrowed("tangent", np.concatenate([normals, np.full((200, 1), 0.3)], axis=1)) is None, "its sign is none"
    uv = random.uniform(0, 1, (50, 2))
    assert _narrowed("uv", uv).kind == "unorm16" and _narrowed("uv", uv * 16 - 8) is None, "halves are too coarse there"
    assert _narrowed("uv", np.round(uv * 64) / 16).kind == "half", "exact in halves"
    assert _narrowed("colour", random.uniform(0, 1, (9, 4))).bytes == 4
    place = _narrowed("position", random.uniform(-900, 40, (99, 3)))
    assert place.kind == "box16" and place.bytes == 8 and place.error <= 0.51 / 65535
    assert _narrowed("weights", uv) is None and _narrowed("position", [[np.nan, 0.0, 1.0]]) is None


# ---- files -------------------------------------------------------------------------------------------------------


def _levels(data: bytes) -> tuple[tuple[int, ...], list[bytes]]:
    """(the nine numbers of the head, the bytes of each level) of a KTX 2 file."""
    assert data[:12] == IDENTIFIER
    head = struct.unpack_from("<9I", data, 12)
    dfd_at, dfd_size, values_at, values_size = struct.unpack_from("<4I", data, 48)
    assert struct.unpack_from("<I", data, dfd_at)[0] == dfd_size and values_at == dfd_at + dfd_size
    assert b"KTXorientation\0ru\0" in data[values_at : values_at + values_size]
    rows = [struct.unpack_from("<3Q", data, 80 + 24 * k) for k in range(head[7])]
    assert all(at % 4 == 0 for at, _, _ in rows) and rows == sorted(rows, reverse=True), "the smallest lies first"
    return head, [data[at : at + size] for at, size, _ in rows]


@pytest.mark.parametrize(
    ("channels", "kind", "srgb", "number", "size"),
    [
        ("RGBA", "unorm8", False, 37, 4), ("RGBA", "unorm8", True, 43, 4), ("BGRA", "unorm8", False, 44, 4),
        ("R", "sfloat16", False, 76, 2), ("RGB", "sfloat32", False, 106, 12), ("RG", "uint16", False, 81, 4),
        ("D", "unorm16", False, 70, 2), ("LA", "unorm8", False, 16, 2),
    ],
)  # fmt: skip
def test_a_texture_is_a_ktx_file(channels: str, kind: str, srgb: bool, number: int, size: int) -> None:
    levels = [bytes([k + 1]) * (size * (4 >> k) * (2 >> k or 1)) for k in range(3)]
    image = StoredImage(Format("any", srgb=srgb), channels, kind, Packing.CHANNELS, 4, 2, 0, 0, 1, levels)
    head, read = _levels(ktx2(image))
    assert head[0] == number and head[2:8] == (4, 2, 0, 0, 1, 3) and read == levels


def test_blocks_and_packed_texels_are_ktx_files() -> None:
    for name, number, size in (
        ("COMPRESSED_RGB_S3TC_DXT1_EXT", 131, 8), ("COMPRESSED_SRGB_ALPHA_S3TC_DXT5_EXT", 138, 16),
        ("COMPRESSED_RGBA_ASTC_8x5", 167, 16), ("COMPRESSED_RG11_EAC", 155, 16),
    ):  # fmt: skip
        image = StoredImage(texel_format_named(name), "", "", Packing.BLOCKS, 4, 4, 0, 0, 1, [bytes(size)])
        assert _levels(ktx2(image))[0][0] == number
    packed = StoredImage(
        texel_format_named("R11F_G11F_B10F"), "", "10F_11F_11F", Packing.PACKED, 2, 2, 0, 3, 6, [bytes(288)]
    )
    assert _levels(ktx2(packed))[0][:7] == (122, 4, 2, 2, 0, 3, 6)
    with pytest.raises(UsageError, match="choose PNG"):
        ktx2(StoredImage(Format("COMPRESSED_RGB_FXT1_3DFX"), "", "", Packing.BLOCKS, 4, 4, 0, 0, 1, [bytes(8)]))


# ---- objects -------------------------------------------------------------------------------------------------


def _item(name: int, size: int = 1024, label: str = "", **more: Any) -> MemoryItem:
    return MemoryItem(MemoryKind.BUFFER, "buffer", name, label, "vertices", "", bytes=size, **more)


def test_what_came_and_went_between_two_moments() -> None:
    before = [_item(1), _item(2), _item(3, 50), _item(4)]
    after = [_item(1), _item(2, 4096), _item(4), _item(7, 300), _item(8, 300)]
    found = compared(before, after)
    changes = {(c.kind, c.item.name): c.bytes for c in found.changes}
    assert changes == {
        (ChangeKind.LARGER, 2): 3072, (ChangeKind.GONE, 3): -50, (ChangeKind.NEW, 7): 300, (ChangeKind.NEW, 8): 300
    }  # fmt: skip
    assert found.same == 2 and found.after - found.before == sum(changes.values())
    assert [[i.name for i in group.items] for group in found.same_named] == [[7, 8]]
    assert "2 objects came, 1 object went, 2 stayed" in found.answer


def test_another_run_is_matched_by_labels() -> None:
    """Names are given out anew in each run: the same number is another object."""
    before = [_item(k, 100 * k, f"part {k}") for k in range(1, 6)]
    after = [_item(k + 3, 100 * k, f"part {k}") for k in range(1, 6)]
    found = compared(before, after)
    assert not found.changes and found.same == 5


def test_only_what_stays_grows_without_end() -> None:
    moments = [[_item(k) for k in range(1, 4 + n)] + [_item(100 + n, 77)] for n in range(4)]
    (found,) = grows_without_end(moments)
    assert [i.name for i in found.items] == [4, 5, 6], "the one that is made anew each time is no leak"
    assert grows_without_end(moments[:2]) == [], "two moments are no trend"
    assert grows_without_end([*moments, moments[-1]]) == [], "it has stopped growing"


def test_items_of_a_frame_and_their_uses() -> None:
    blobs, batch = BlobStore(), CallBatch()
    made = objects(blobs, 1, 2, 2)
    made.textures.append(TextureRecord(9, GL.TEXTURE_2D))
    made.textures.append(TextureRecord(10, GL.TEXTURE_3D, [ImageRecord(GL.TEXTURE_3D, 0, 4, 4, 4, 0x7FFF)]))
    cubes = [ImageRecord(GL.TEXTURE_CUBE_MAP_ARRAY, 0, 8, 8, 12, GL.RGBA8)]
    made.textures.append(TextureRecord(11, GL.TEXTURE_CUBE_MAP_ARRAY, cubes))
    made.renderbuffers.append(RenderbufferRecord(5, 0, 0, GL.RGBA8, 0))
    made.renderbuffers.append(RenderbufferRecord(6, 10, 10, GL.RGBA8, 4))
    batch.call("glUseProgram", 1)
    batch.call("glActiveTexture", GL.TEXTURE0)
    batch.call("glBindTexture", GL.TEXTURE_2D, 2)
    batch.call("glBindVertexArray", 1)
    batch.call("glDrawElements", GL.TRIANGLES, 36, GL.UNSIGNED_SHORT, Raw(0))
    frame = frame_of(batch, made, blobs)
    items = {(i.object_class, i.name): i for i in frame.memory}
    assert items["texture", 2].used and is_unused(items["texture", 1])
    assert items["texture", 9].bytes == 0 and "nothing was stored" in items["texture", 9].how
    assert items["texture", 10].bytes is None and "tells no size" in items["texture", 10].how
    assert items["texture", 11].bytes == 8 * 8 * 12 * 4 and items["texture", 11].shape == "cube array"
    assert items["renderbuffer", 5].bytes == 0 and items["renderbuffer", 6].bytes == 10 * 10 * 4 * 4
    assert items["buffer", 2].read_parts.keys() == {"vertices"} and items["buffer", 3].read_parts.keys() == {"indices"}
    assert is_unused(items["buffer", 4]) and is_unused(items["buffer", 5])
    assert (
        total(frame.memory)
        == sum(g.bytes for by in ("kind", "pass", "size") for g in grouped(frame, frame.memory, by)) // 3
    )
    assert "not used" in memory_answer(frame)[1]
    fetched = frame.fetched
    assert fetched[2].bytes == 24 * 12 and fetched[3].bytes == 72 and fetched[3].largest_index == 23
    rows = memory_document(frame, {("texture", 2): Moved(7, 3)}).objects
    assert as_csv(rows).count("\n") == len(frame.memory) + 1
    (told,) = [row for row in rows if row.read_bytes is not None]
    assert (told.object, told.name, told.read_bytes, told.written_bytes) == ("texture", 2, 7, 3)


def test_what_a_frame_moves_is_told_by_what_was_counted() -> None:
    """Targets by fragments, blended ones read as well; depth by the samples tested; textures by samples; buffers by the
    bytes that draws fetch.
    """
    steps = np.array([0, 1])
    colour = MemoryItem(MemoryKind.TARGET, "texture", 1, "", "RGBA8", "2D", 10, 10, levels=1, bytes=400, writes=steps)
    depth = MemoryItem(
        MemoryKind.TARGET,
        "renderbuffer",
        2,
        "",
        "DEPTH24",
        "2D",
        10,
        10,
        samples=4,
        bytes=1600,
        writes=steps,
        texels=texel_format_named("DEPTH_COMPONENT24"),
    )
    picture = MemoryItem(MemoryKind.TEXTURE, "texture", 3, "", "R8", "2D", 4, 4, levels=3, bytes=21)
    buffer = MemoryItem(MemoryKind.BUFFER, "buffer", 4, "", "vertices", "", bytes=100)
    unknown = MemoryItem(MemoryKind.BUFFER, "buffer", 5, "", "vertices", "", bytes=100)
    items = [colour, depth, picture, buffer, unknown]
    frame = SimpleNamespace(memory=items, fetched={4: SimpleNamespace(bytes=60)})
    opaque = StepDrawn("opaque", fragments=50, covered=70, depth_test=True, depth_write=True)
    blended = StepDrawn("blended", fragments=20, covered=30, depth_test=True)
    use = MemoryUse(SampledTextures([SampledTexture(3, 0.0, 0.0, 2, 0, [0])]))
    found = traffic(frame, SimpleNamespace(steps=[opaque, blended]), use)  # type: ignore[arg-type]
    assert found["texture", 1] == Moved(read=20 * 4, written=70 * 4)
    assert found["renderbuffer", 2] == Moved(read=(70 + 30) * 4, written=50 * 4)
    assert found["texture", 3] == Moved(read=2 * 16, written=0) and found["buffer", 4] == Moved(60, 0)
    assert ("buffer", 5) not in found and not moved(found, [unknown])
    assert list(moved(found, [colour, buffer]).values()) == [20 * 4 + 70 * 4 + 60]
    assert not traffic(SimpleNamespace(memory=[colour], fetched={}), None, None)  # type: ignore[arg-type]


_AMD = """pos: 0
flags: 02100002
drm-driver: amdgpu
drm-client-id: {client}
drm-pdev: 0000:0b:00.0
drm-memory-vram: 1000 KiB
drm-total-vram: 2048 KiB
drm-total-gtt: 3 MiB
drm-engine-gfx: 1 ns
"""


def test_the_kernels_figure_counts_each_client_once(tmp_path: Path) -> None:
    folder = tmp_path / "7" / "fdinfo"
    folder.mkdir(parents=True)
    for number, text in enumerate((_AMD.format(client=1), _AMD.format(client=1), _AMD.format(client=2), "pos: 0\n")):
        (folder / str(number)).write_text(text)
    (folder / "9").write_bytes(b"\xff\xfe drm-driver:")
    assert driver_memory(7, tmp_path) == {"vram": 2 * 2048 << 10, "gtt": 2 * 3 << 20}
    assert driver_memory(8, tmp_path) == {}, "it is gone, or of somebody else"
    frame = frame_of(CallBatch(), objects(BlobStore(), 1, 1, 1), BlobStore())
    frame.metadata.driver_memory = {"vram": 5 << 20}
    frame.context.limits["TEXTURE_FREE_MEMORY_ATI"] = 2048
    notes = memory_answer(frame)[1]
    assert "kernel counts 5.00 MiB" in notes and "2.00 MiB left for all" in notes


# ---- the store room ------------------------------------------------------------------------------------------

_WIDTH, _HEIGHT = 320, 180


def _taken(folder: Path, name: str, options: list[str]) -> Path:
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--view", "store"]
    with Target([*command, "--size", f"{_WIDTH}x{_HEIGHT}", *options]) as target:
        frame = target.capture(Trigger(frame=20), 120.0)
    save(frame, folder / name)
    return folder / name


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Examined]:
    path = _taken(tmp_path_factory.mktemp("store"), "store.wend", [])
    return path, examine_file(path, repeats=2)


def _mipmapped(side: int) -> int:
    return sum(4 * (side >> k) ** 2 for k in range(side.bit_length()))


@pytest.mark.driver
def test_totals_are_those_of_the_program(store: tuple[Path, Examined]) -> None:
    """Every object of the store room, by what its source asks for."""
    frame = store[1].frame
    labelled = {i.label: i for i in frame.memory if i.label}
    assert labelled["poster"].bytes == _mipmapped(2048) and labelled["floor"].bytes == 4 * 1024 * 1024
    assert labelled["crate"].bytes == labelled["crate again"].bytes == _mipmapped(256)
    assert labelled["room"].bytes == 16 * _WIDTH * _HEIGHT
    wheel = 4 * 160 + 2  # vertices of a cylinder's rings and caps
    assert labelled["stock of wheels"].bytes == 32 * 10 * wheel
    textures = _mipmapped(2048) + 4 * 1024**2 + 2 * _mipmapped(256) + _mipmapped(4)
    targets = 16 * _WIDTH * _HEIGHT + 3 * _WIDTH * _HEIGHT
    box, quad = 24 * 32 + 36 * 4, 4 * 32 + 6 * 4
    wheels = 32 * 10 * wheel + 4 * 10 * (160 * 6 + 2 * 3 * 158)
    by_kind = {g.name: g.bytes for g in grouped(frame, frame.memory, "kind")}
    assert by_kind["texture"] == textures and by_kind["render target"] == targets
    assert by_kind["buffer"] == 240 + box + 2 * quad + wheels


@pytest.mark.driver
def test_every_flaw_of_the_store_room_is_found(store: tuple[Path, Examined]) -> None:
    found: dict[str, list[Any]] = {}
    for finding in store[1].findings:
        found.setdefault(finding.rule, []).append(finding)
    poster = next(f for f in found["oversized-texture"] if f.title.startswith("poster"))
    assert poster.evidence["bytes then"] <= _mipmapped(64) and poster.remedy.kind == "drop-levels"
    (twins,) = found["same-contents"]
    assert twins.evidence["bytes saved"] == _mipmapped(256) and twins.remedy is not None
    (target,) = found["wide-target"]
    assert target.title.startswith("room") and target.evidence["bytes then"] == 4 * _WIDTH * _HEIGHT
    (floor,) = found["missing-mip-levels"]
    assert floor.title.startswith("floor") and floor.tried is not None and floor.tried.pixels_different > 0
    stock = next(f for f in found["mostly-unread-buffer"] if f.title.startswith("stock"))
    assert stock.evidence["bytes fetched"] * 10 == stock.evidence["bytes"]


@pytest.mark.driver
def test_without_its_flaws_the_store_room_has_none(tmp_path: Path) -> None:
    better = "poster,twins,deep-target,mip-levels,stock"
    examined = examine_file(_taken(tmp_path, "better.wend", ["--better", better]), repeats=2)
    rules = {f.rule for f in examined.findings}
    assert not rules & {"same-contents", "wide-target", "missing-mip-levels", "mostly-unread-buffer"}
    large = [f for f in examined.findings if f.rule == "oversized-texture" and f.title.startswith("poster")]
    assert all(f.evidence["bytes now"] == _mipmapped(64) for f in large), "of so small a window half is enough"


@pytest.mark.driver
def test_the_page_shows_areas_rows_and_contents(
    window: MainWindow, store: tuple[Path, Examined], tmp_path: Path, qtbot: Any
) -> None:
    window.open_files([Path(shutil.copy(store[0], tmp_path / "store.wend"))])
    window.show_page("Memory")
    page = window.page("Memory")
    assert isinstance(page, MemoryPage)
    assert page.figure().endswith("MiB") and "textures" in page.answer.text()
    page.words.setText("crate")
    assert [item.label for item in page.table.rows.rows] == ["crate", "crate again"]
    page.words.clear()
    page.which.setCurrentText("not used in this frame")
    assert page.table.rows.rows == [] and not page.treemap._cells
    page.which.setCurrentText("all objects")
    page.by.setCurrentText("by format")
    assert len(page.treemap._groups) >= 2
    page.tabs.setCurrentWidget(page.contents)
    box = next(cell for cell in page.treemap._cells if cell.items[0].label == "poster").box
    assert page.treemap.items_at(box.center().x(), box.center().y())[0].label == "poster"
    page.treemap._choose(next(i for i in page.table.rows.rows if i.label == "poster"))
    image = page.contents.image
    qtbot.waitUntil(lambda: image.picture.image is not None, timeout=60_000)
    (moved_column,) = [c for c in page.table.rows.columns if c.title == "moved"]
    target = next(item for item in page.table.rows.rows if item.label == "room")
    qtbot.waitUntil(lambda: moved_column.text(target).endswith("MiB"), timeout=60_000)
    shown = image.picture.image
    assert shown is not None and shown.width() == 2048 and image.level.maximum() == 11
    image.level.setValue(3)
    qtbot.waitUntil(lambda: image.picture.image is not None and image.picture.image.width() == 256, timeout=60_000)
    image.save_to(tmp_path / "level.png")
    with Image.open(tmp_path / "level.png") as saved:
        assert saved.size == (256, 256)
    image.channels.setCurrentText("alpha")
    assert image._numbers() == [3]
    page.treemap._choose(next(i for i in page.table.rows.rows if i.label == "room"))
    qtbot.waitUntil(lambda: image.picture.image is not None and image.picture.image.width() == _WIDTH, timeout=60_000)
    page.treemap._choose(next(i for i in page.table.rows.rows if i.label == "stock of wheels"))
    assert page.contents.currentWidget() is page.contents.buffer
    table = page.contents.buffer.table
    assert table.model().rowCount() == 10 * (4 * 160 + 2) and "position" in table.as_text().splitlines()[0]
    page.contents.buffer.save_to(tmp_path / "wheels.csv")
    assert (tmp_path / "wheels.csv").read_text().startswith("element,position.0")
    page.contents.buffer.layouts.setCurrentIndex(page.contents.buffer.layouts.count() - 1)
    assert "hexadecimal" in table.as_text().splitlines()[0]


@pytest.mark.driver
def test_the_command_tells_compares_and_refuses(store: tuple[Path, Examined], tmp_path: Path) -> None:
    told = result("memory", store[0])
    assert told["bytes"] == sum(row["bytes"] for row in told["objects"]) and told["objects"][0]["label"] == "poster"
    frame = load(store[0])
    objects_ = frame.objects  # type: ignore[attr-defined]
    objects_.textures = [
        t if t.label != "crate again" else msgspec.structs.replace(t, name=999) for t in objects_.textures
    ]
    other = tmp_path / "other.wend"
    save(frame, other)
    against = result("memory", other, "--against", store[0])
    assert sorted(row["change"] for row in against["changes"]) == ["gone", "new"]
    lines = run("memory", store[0], "--csv").stdout.splitlines()
    assert lines[0].startswith("object,name,label") and len(lines) == len(told["objects"]) + 1
    assert run("memory", store[0], "--by", "colour").returncode == 2
    assert run("memory", store[0], "--csv", "--json").returncode == 2
    assert "render target" in run("memory", store[0], "--by", "kind").stdout


def _glb(data: bytes) -> tuple[Any, bytes]:
    magic, version, size = struct.unpack_from("<3I", data)
    length, kind = struct.unpack_from("<2I", data, 12)
    assert (magic, version, size, kind) == (MAGIC, 2, len(data), 0x4E4F534A)
    return json.loads(data[20 : 20 + length]), data[28 + length :]


@pytest.mark.driver
def test_a_mesh_is_a_gltf_file(store: tuple[Path, Examined], tmp_path: Path) -> None:
    frame, path = store[1].frame, tmp_path / "wheel.glb"
    step = max(range(len(frame.steps)), key=lambda s: int(frame.steps.triangles[s]))
    assert run("mesh", store[0], "--step", step, "--out", path).returncode == 0
    document, binary = _glb(path.read_bytes())
    (primitive,) = document["meshes"][0]["primitives"]
    assert set(primitive["attributes"]) == {"POSITION", "NORMAL", "TEXCOORD_0"}
    place, faces = (document["accessors"][k] for k in (primitive["attributes"]["POSITION"], primitive["indices"]))
    assert faces["count"] == 3 * int(frame.steps.triangles[step]) and place["count"] == 4 * 160 + 2
    assert place["min"] == pytest.approx([-1, -1, -1]) and place["max"] == pytest.approx([1, 1, 1])
    view = document["bufferViews"][faces["bufferView"]]
    indices = np.frombuffer(binary, "<u4", faces["count"], view["byteOffset"])
    assert indices.max() == place["count"] - 1 and len(np.unique(indices)) == place["count"]
    assert run("mesh", store[0], "--step", 0, "--out", path).returncode == 2, "a clear has none"
    assert run("mesh", store[0], "--step", step, "--out", tmp_path / "x.obj").returncode == 2
    assert run("mesh", store[0], "--step", 9999, "--out", path).returncode == 2


@pytest.mark.driver
def test_objects_are_written_as_files(store: tuple[Path, Examined], tmp_path: Path) -> None:
    picture, whole, table, data = (tmp_path / f"x{suffix}" for suffix in (".png", ".ktx2", ".csv", ".bin"))
    assert run("memory", store[0], "--object", "crate", "--out", picture).returncode == 0
    with Image.open(picture) as image:
        assert image.size == (256, 256) and image.mode == "RGBA"
    assert run("memory", store[0], "--object", "crate", "--out", whole).returncode == 0
    head, levels = _levels(whole.read_bytes())
    assert head[0] == 37 and len(levels) == 9 and sum(map(len, levels)) == _mipmapped(256)
    assert run("memory", store[0], "--object", "stock of wheels", "--out", table).returncode == 0
    rows = table.read_text().splitlines()
    assert rows[0].startswith("element,position.0,position.1") and len(rows) == 1 + 10 * (4 * 160 + 2)
    assert run("memory", store[0], "--object", "stock of wheels", "--out", data).returncode == 0
    assert data.stat().st_size == 32 * 10 * (4 * 160 + 2)
    for wanted, out in (("none", picture), ("crate", tmp_path / "x.tga"), ("stock of wheels", picture)):
        assert run("memory", store[0], "--object", wanted, "--out", out).returncode == 2
    assert run("memory", store[0], "--object", "crate").returncode == 2


def test_pale_is_what_is_not_used() -> None:
    item = _item(1)
    assert not item.used and replace(item, by_calls=np.array([3])).used


class _Replayed:
    """A session whose second run may give another picture, and in which nothing is noted."""

    offers = staticmethod(lambda _name: True)

    def __init__(self, *shades: int) -> None:
        self.frame = SimpleNamespace(alpha_matters=True)
        self.names = SimpleNamespace(get=lambda _kind, name: name)
        self._shades = iter(shades)
        self.run = self.prepare = self.drain = self.add = lambda *_: None

    def run_batch(self, batch: CallBatch) -> None:
        for out in batch.outs:
            out.data = bytes(out.size)

    def final_picture(self) -> Picture:
        return Picture(np.full((2, 2, 4), next(self._shades), np.uint8))


def test_a_proof_leaves_the_frame_as_it_was(tmp_path: Path) -> None:
    """What a proof exchanges it puts back: targets that are attached, and indices that vertex arrays hold. Only a part
    of the frame is run again and again, and its end is never reached.
    """
    path = Path(shutil.copy(DATA / "store.wend", tmp_path))
    frame = load(path)
    stored = records.FINDINGS.newest(path)
    assert stored is not None
    items = {f.rule: f for f in stored.findings if f.remedy is not None}
    with Replay(path) as replay:
        for rule in ("wide-target", "wide-indices", "oversized-texture", "wide-target"):
            remedy = items[rule].remedy
            assert remedy is not None
            measured_proof(frame, items[rule].id, [remedy], replay, 0.3)
            assert replay.run(verify.asked()).identical, rule
            shown = replay.run(edited_picture.asked([remedy], [int(frame.passes.of_step[remedy.steps[0]])]))
            assert shown.before.shape and replay.run(verify.asked()).identical, rule


@pytest.mark.parametrize("version", ["100", "300"])
def test_levels_of_an_es_program_are_those_it_reads(version: str, capture: Capture) -> None:
    """Shaders of either version become GLSL ES 3.10, and tell levels 0 to 3 exactly."""
    path, frame = capture(program("es_levels", version))
    with Replay(path) as replay:
        found = replay.run(sampled_levels.sampled_levels.asked())
    assert not found.refused and not found.unclear, found
    side = {t.name: t.width for t in frame.objects.textures}
    assert {side[row.texture]: row.finest for row in found.textures} == {64: 0.0, 128: 1.0, 256: 2.0, 512: 3.0}


def test_levels_count_only_where_noting_them_leaves_the_picture() -> None:
    """What the shaders note is not believed where they draw something else than before."""
    new = SimpleNamespace(buffer=lambda _data, _use: (1, None), objects=None)
    change: Any = SimpleNamespace(new=new, insertions=[], edit=Edit, brought_in=None)
    assert note(_Replayed(7, 8), change, bytes(16), [], 16) is None  # type: ignore[arg-type]
    notes = note(_Replayed(7, 7), change, bytes(16), [], 16)  # type: ignore[arg-type]
    assert notes is not None and len(notes) == 16
