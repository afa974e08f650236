"""What the tap keeps, in Python: kept streams, display lists, mappings, waits, and who is late."""

from __future__ import annotations

import struct

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import DATA, Capture, program
from wendascope.analysis.time.frame_bound import bound_by, frame_bound
from wendascope.backends.opengl.calls.display_lists import display_lists, triangles_of
from wendascope.backends.opengl.calls.kept import Kept
from wendascope.backends.opengl.calls.mappings import settle_writes
from wendascope.backends.opengl.calls.packed import FLAG_EARLIER, CallBatch, CallStream, Raw, merge_streams
from wendascope.backends.opengl.calls.prune import drop_unused_contents, unused_bytes
from wendascope.backends.opengl.objects.formats import named_format
from wendascope.backends.opengl.state.offers import Offers
from wendascope.errors import DamagedFileError
from wendascope.frame.blobs import BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.frame.file import load
from wendascope.measure.statistics import difference_of_medians
from wendascope.registry import GL
from wendascope.trials.proofs.compare import match_passes


def stream(*calls: tuple[object, ...], earlier: tuple[int, ...] = ()) -> CallStream:
    batch = CallBatch()
    for name, *arguments in calls:
        batch.call(str(name), *arguments)
    words = np.array(batch.words, np.uint64)
    for call in earlier:
        words[batch.starts[call]] |= np.uint64(FLAG_EARLIER << 16)
    return CallStream.parse(words, np.frombuffer(bytes(batch.arena) + b"\0", np.uint8))


def row(kind: int, name: int, key: int, calls: CallStream) -> bytes:
    words, arena = calls.words.tobytes(), calls.arena.tobytes()
    arena += bytes(-len(arena) % 8)
    return struct.pack("<5Q", kind, name, key, len(words), len(arena)) + words + arena


# ---- kept streams ------------------------------------------------------------------------------------


def test_images_are_put_together_from_their_uploads() -> None:
    whole = bytes(range(6 * 4))
    upload = ("glTexImage2D", GL.TEXTURE_2D, 0, GL.LUMINANCE, 5, 4, 0, GL.LUMINANCE, GL.UNSIGNED_BYTE)
    padded = b"".join(whole[r * 5 : r * 5 + 5] + b"\xee" * 3 for r in range(4))[
        :-3
    ]  # rows of 8, as alignment 4 has them
    calls = stream(
        (*upload, padded),
        ("glTexSubImage2D", GL.TEXTURE_2D, 0, 1, 2, 2, 1, GL.LUMINANCE, GL.UNSIGNED_BYTE, b"\xaa\xbb"),
    )
    kept = Kept.parse(row(1, 9, GL.TEXTURE_2D << 8, calls))
    blobs = BlobStore()
    (image,) = kept.texture_images(9, blobs)
    assert (image.width, image.height, image.format) == (5, 4, GL.LUMINANCE)
    expected = bytearray(whole[:20])
    expected[11:13] = b"\xaa\xbb"
    assert image.contents is not None and blobs.get(image.contents) == bytes(expected)


def test_storage_gives_every_level_and_face() -> None:
    calls = stream(("glTexStorage2D", GL.TEXTURE_CUBE_MAP, 3, GL.RGBA8, 8, 8))
    images = Kept.parse(row(1, 4, GL.TEXTURE_CUBE_MAP << 8 | 255, calls)).texture_images(4, BlobStore())
    assert len(images) == 18 and {(i.level, i.width) for i in images} == {(0, 8), (1, 4), (2, 2)}
    assert all((i.format, i.type) == (GL.RGBA, GL.UNSIGNED_BYTE) for i in images)


def test_compressed_blocks_are_placed() -> None:
    base = stream(
        ("glCompressedTexImage2D", GL.TEXTURE_2D, 0, GL.COMPRESSED_RGB8_ETC2, 8, 8, 0, 32, bytes(32)),
        ("glCompressedTexSubImage2D", GL.TEXTURE_2D, 0, 4, 4, 4, 4, GL.COMPRESSED_RGB8_ETC2, 8, b"abcdefgh"),
    )
    blobs = BlobStore()
    (image,) = Kept.parse(row(1, 2, GL.TEXTURE_2D << 8, base)).texture_images(2, blobs)
    assert image.compressed and image.contents is not None
    assert blobs.get(image.contents) == bytes(24) + b"abcdefgh"


@settings(max_examples=200)
@given(st.binary(max_size=300), st.integers(0, 299))
def test_hostile_rows_are_refused_or_read_but_never_crash(noise: bytes, at: int) -> None:
    good = row(0, 1, 0, stream(("glNewList", 1, GL.COMPILE), ("glEndList",)))
    data = bytearray(good)
    data[at % len(good) : at % len(good) + len(noise)] = noise
    try:
        Kept.parse(bytes(data))
    except DamagedFileError as error:
        assert str(error)


# ---- display lists and counts ------------------------------------------------------------------------


def test_lists_within_lists_are_counted() -> None:
    calls = stream(
        ("glNewList", 1, GL.COMPILE),
        ("glBegin", GL.QUADS),
        *[("glVertex2f", 0.0, 0.0)] * 8,
        ("glEnd",),
        ("glEndList",),
        ("glNewList", 2, GL.COMPILE),
        ("glCallList", 1),
        ("glCallLists", 2, GL.UNSIGNED_BYTE, bytes((1, 3))),
        ("glEndList",),
        ("glNewList", 3, GL.COMPILE),
        ("glCallList", 3),
        ("glDrawArrays", GL.TRIANGLES, 0, 9),
        ("glEndList",),
    )
    found = display_lists(calls)
    assert (found[1].vertices, found[1].triangles, found[1].draws) == (8, 4, 1)
    assert (found[3].vertices, found[3].draws) == (9, 1), "a list that calls itself ends"
    assert (found[2].vertices, found[2].triangles, found[2].draws) == (25, 11, 3)


@given(st.integers(0, 200))
def test_no_mode_makes_a_negative_number_of_triangles(count: int) -> None:
    modes = np.arange(0, 15, dtype=np.int64)
    assert (triangles_of(modes, np.full(15, count), np.full(15, 3)) >= 0).all()


def test_merging_keeps_every_argument() -> None:
    parts = [
        stream(
            ("glBufferData", GL.ARRAY_BUFFER, len(data), data, GL.STATIC_DRAW),
            ("glDrawElements", GL.LINES, 2, GL.UNSIGNED_INT, Raw(64)),
        )
        for data in (b"first", b"the second")
    ]
    merged = merge_streams(parts)
    merged.validate()
    assert [merged.argument(c, "data") for c in (0, 2)] == [b"first", b"the second"]
    assert merged.argument(3, "indices") == Raw(64) and len(merged) == 4


# ---- writes through mappings ---------------------------------------------------------------------------


def test_writes_go_right_after_the_wait_before_them() -> None:
    write = ("wendaWriteBuffer", 3, 0, 4)
    draw = ("glDrawArrays", GL.TRIANGLES, 0, 3)
    calls = stream(
        draw,
        (*write, b"one."),
        ("glFinish",),
        draw,
        draw,
        (*write, b"two."),
        (*write, b"more"),
        ("glFlush",),
        ("glFinish",),
        earlier=(1, 5, 6),
    )
    settled = settle_writes(calls)
    names = [settled.command(c).name for c in range(len(settled))]
    assert names == [
        "wendaWriteBuffer",
        "glDrawArrays",
        "glFinish",
        "wendaWriteBuffer",
        "wendaWriteBuffer",
        "glDrawArrays",
        "glDrawArrays",
        "glFlush",
        "glFinish",
    ]
    assert [settled.argument(c, "data") for c in (0, 3, 4)] == [b"one.", b"two.", b"more"]
    assert settle_writes(stream(draw)).words.tolist() == stream(draw).words.tolist()


# ---- what a context offers ---------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("context", "has", "lacks"),
    [
        (
            ContextInfo(major=2, minor=1, profile="compatibility"),
            ("glBegin", "glGetBufferSubData"),
            ("glBindSampler", "glBindVertexArray"),
        ),
        (
            ContextInfo(major=2, minor=1, profile="compatibility", extensions=["GL_ARB_vertex_array_object"]),
            ("glBindVertexArray",),
            (),
        ),
        (ContextInfo(major=3, minor=3), ("glBindSampler", "wendaClock"), ("glBegin", "glDispatchCompute")),
        (ContextInfo(major=4, minor=5), ("glDispatchCompute", "GL_TEXTURE_BUFFER"), ("GL_FOG",)),
        (
            ContextInfo(api="OpenGL ES", major=2, minor=0, profile="es"),
            ("glDrawArrays",),
            ("glGetTexImage", "glMapBufferRange", "GL_READ_BUFFER"),
        ),
        (
            ContextInfo(api="OpenGL ES", major=3, minor=1, profile="es"),
            ("glGetTexLevelParameteriv",),
            ("glGetBufferSubData", "glPolygonMode"),
        ),
    ],
)
def test_offers_follow_the_registry(context: ContextInfo, has: tuple[str, ...], lacks: tuple[str, ...]) -> None:
    offers = Offers(context)
    assert [name for name in has if not offers(name)] == []
    assert [name for name in lacks if offers(name)] == []


def test_formats_by_name() -> None:
    assert named_format(GL.RGBA8) == (GL.RGBA, GL.UNSIGNED_BYTE)
    assert named_format(GL.RG16F) == (GL.RG, GL.HALF_FLOAT)
    assert named_format(GL.R32UI) == (GL.RED_INTEGER, GL.UNSIGNED_INT)
    assert named_format(GL.DEPTH24_STENCIL8) == (GL.DEPTH_STENCIL, GL.UNSIGNED_INT_24_8)
    assert named_format(GL.SRGB8_ALPHA8) == (GL.RGBA, GL.UNSIGNED_BYTE)
    assert named_format(GL.LUMINANCE) is None


# ---- waits and who is late ------------------------------------------------------------------------------------


def test_waits_say_what_they_wait_for(capture: Capture) -> None:
    _, frame = capture(program("mappings"), 5)
    commands = {frame.calls.command(c).name for c in range(len(frame.calls))}
    assert "glClientWaitSync" in commands
    frame.calls.words[frame.calls.offsets + 3] += np.uint64(2_000_000)  # as if every call had taken two ms longer
    found = {wait.command: wait.what for wait in frame.waits}
    fence = int(frame.calls.calls_of("glFenceSync")[0])
    assert found["glClientWaitSync"] == f"the fence of call {fence}, and all work before it"
    assert found["glMapBuffer"].startswith("work that uses buffer ")


def test_who_is_late_by_what_evidence() -> None:
    assert bound_by([], []) is None
    gpu = bound_by([4.0] * 9, [12.0] * 9, 0.0)
    assert (
        gpu is not None
        and gpu.who == "GPU"
        and "75 %" in gpu.sentence
        and "12.0 ms blocked in the swap" in gpu.sentence
    )
    cpu = bound_by([16.0] * 9, [0.5] * 9, 0.01)
    assert cpu is not None and cpu.who == "CPU"
    unclear = bound_by([16.0] * 9, [0.5] * 9)
    assert unclear is not None and unclear.who == "unclear", "frame statistics alone cannot see waits inside calls"
    blocked = bound_by([16.0] * 9, [0.5] * 9, 0.55, "glFinish for all work so far, 9.0 ms")
    assert blocked is not None and blocked.who == "GPU" and "glFinish" in blocked.sentence
    computing = bound_by([16.0] * 9, [0.5] * 9, 0.0, thread_ms=[15.8] * 9)
    assert computing is not None and computing.who == "CPU" and "computes 15.8 of 16.5 ms" in computing.sentence
    asleep = bound_by([16.0] * 9, [0.5] * 9, 0.0, thread_ms=[2.0] * 9, own_share=0.97)
    in_calls = bound_by([16.0] * 9, [0.5] * 9, 0.0, thread_ms=[2.0] * 9, own_share=0.05)
    assert in_calls is not None and in_calls.who == "GPU", (
        "it does not run, and is inside calls meanwhile: no single one has to be told apart"
    )
    assert asleep is not None and asleep.who == "elsewhere"
    waiting = bound_by([16.0] * 9, [0.5] * 9, 0.0, thread_ms=[2.0] * 9, waited_ms=[13.0] * 9)
    assert waiting is not None and waiting.who == "GPU"
    kept_from_running = bound_by([30.0] * 9, [0.5] * 9, 0.0, thread_ms=[15.0] * 9, switches=[(1, 40)] * 9)
    assert kept_from_running is not None and kept_from_running.who == "CPU" and kept_from_running.frame_ms < 16
    demo = frame_bound(load(DATA / "depot.wend"))
    assert demo is not None and demo.who == "GPU"


# ---- comparisons ------------------------------------------------------------------------------------------------


def test_passes_are_matched_by_name_then_by_role() -> None:
    before = ["shadow", "window, 800x600, 40 draws", "colour, 64², 3 draws", "glow"]
    after = ["glow", "window, 800x600, 4 draws", "shadow", "depth only, 64², 1 draw"]
    assert match_passes(before, after) == [(0, 2), (1, 1), (2, None), (3, 0), (None, 3)]


def test_a_difference_is_claimed_only_where_there_is_one() -> None:
    random = np.random.default_rng(3)
    same = difference_of_medians(random.normal(10, 1, 80), random.normal(10, 1, 80))
    assert same.low < 0 < same.high
    less = difference_of_medians(random.normal(10, 1, 80), random.normal(8, 1, 80))
    assert less.high < 0 and less.low < less.median < less.high
    with pytest.raises(ValueError, match="no samples"):
        difference_of_medians(np.zeros(0), np.ones(3))


def test_unused_contents_can_be_left_out(capture: Capture) -> None:
    _, frame = capture(program("everything"), 4)
    before = unused_bytes(frame)
    dropped = drop_unused_contents(frame)
    assert unused_bytes(frame) == 0 and (before > 0) == bool(dropped)
