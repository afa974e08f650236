"""What steps depend on, as numbers: one byte of an input changed, and two steps are not the same any more."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import load_opengl
from tests.synthetic import TINT, draw, frame_of, objects
from wendascope.analysis.sequence.same_steps import FrameInputs, same_steps, static_part
from wendascope.backends.opengl.calls.packed import CallBatch, stream_of
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import AttachmentRecord, FramebufferRecord
from wendascope.demo.data import demo_files
from wendascope.frame.blobs import BlobStore
from wendascope.registry import GL

Change = Callable[[OpenGLFrame], None]


def _frame(before: Callable[[CallBatch], None] = lambda _: None, **state: object) -> OpenGLFrame:
    """Four draws: of two programs, two meshes and two textures."""
    blobs, batch = BlobStore(), CallBatch()
    made = objects(blobs, 2, 2, 2)
    batch.call("glClear", GL.COLOR_BUFFER_BIT | GL.DEPTH_BUFFER_BIT)
    before(batch)
    for program, mesh, texture in ((1, 1, 1), (1, 2, 1), (2, 1, 2), (2, 2, 2)):
        draw(batch, program, mesh, texture, model=0.5, tint=0.25)
    return frame_of(batch, made, blobs, **state)  # type: ignore[arg-type]


def _numbers(frame: OpenGLFrame) -> list[int]:
    numbers, known = frame.step_inputs
    assert known.all()
    return [int(n) for n in numbers]


def _texel(frame: OpenGLFrame) -> None:
    image = frame.objects.textures[0].images[0]
    assert image.contents is not None
    data = bytearray(frame.blobs.get(image.contents))
    data[17] ^= 1
    frame.objects.textures[0].images[0] = msgspec.structs.replace(image, contents=frame.blobs.put(bytes(data)))


def _vertex(frame: OpenGLFrame) -> None:
    buffer = frame.objects.buffers[0]
    assert buffer.contents is not None
    data = bytearray(frame.blobs.get(buffer.contents))
    data[5] ^= 1
    frame.objects.buffers[0] = msgspec.structs.replace(buffer, contents=frame.blobs.put(bytes(data)))


def _source(frame: OpenGLFrame) -> None:
    record = frame.objects.programs[0]
    shaders = [msgspec.structs.replace(s, source=s.source + "// other\n") for s in record.shaders]
    frame.objects.programs[0] = msgspec.structs.replace(record, shaders=shaders)


def _uniform(frame: OpenGLFrame) -> None:
    record = frame.objects.programs[0]
    more = msgspec.structs.replace(record.uniforms[1], name="more", locations=[7], values=bytes(15) + b"\1")
    frame.objects.programs[0] = msgspec.structs.replace(record, uniforms=[*record.uniforms, more])


def test_the_same_frame_has_the_same_numbers_and_each_draw_its_own() -> None:
    first, again = _numbers(_frame()), _numbers(_frame())
    assert first == again and len(set(first)) == len(first)


@pytest.mark.parametrize(
    ("change", "touched"),
    [(_texel, [1, 2]), (_vertex, [1, 3]), (_source, [1, 2]), (_uniform, [1, 2])],
    ids=["a texel", "a byte of a vertex", "a word of a source", "a uniform set before the frame"],
)
def test_one_byte_of_an_input_changes_its_steps_and_no_others(change: Change, touched: list[int]) -> None:
    frame, plain = _frame(), _numbers(_frame())
    change(frame)
    found = _numbers(frame)
    assert [k for k, (a, b) in enumerate(zip(plain, found, strict=True)) if a != b] == touched


@pytest.mark.parametrize(
    "call",
    [("glEnable", GL.BLEND), ("glDepthFunc", GL.LEQUAL), ("glViewport", 0, 0, 32, 32), ("glPolygonOffset", 1.0, 2.0)],
    ids=lambda call: call[0],
)
def test_state_counts_where_it_is_found(call: tuple[Any, ...]) -> None:
    def setting(batch: CallBatch) -> None:
        batch.call(*call)

    plain, found = _numbers(_frame()), _numbers(_frame(setting))
    assert plain[0] == found[0] and all(a != b for a, b in zip(plain[1:], found[1:], strict=True))


def test_what_is_set_again_before_each_draw_changes_nothing() -> None:
    def setting(batch: CallBatch) -> None:
        batch.call("glUseProgram", 1)
        batch.call("glUniform4f", TINT, 9.0, 9.0, 9.0, 9.0)

    assert _numbers(_frame(setting)) == _numbers(_frame())


@settings(max_examples=30)
@given(st.integers(0, 15), st.integers(1, 255))
def test_a_byte_uploaded_to_a_buffer_or_a_texture_counts_from_then_on(at: int, other: int) -> None:
    def uploading(data: bytes) -> Callable[[CallBatch], None]:
        def calls(batch: CallBatch) -> None:
            batch.call("glBindBuffer", GL.ARRAY_BUFFER, 2)
            batch.call("glBufferSubData", GL.ARRAY_BUFFER, 0, 16, data)
            batch.call("glBindTexture", GL.TEXTURE_2D, 2)
            batch.call("glTexSubImage2D", GL.TEXTURE_2D, 0, 0, 0, 2, 2, GL.RGBA, GL.UNSIGNED_BYTE, data)

        return calls

    plain = bytes(16)
    changed = bytearray(plain)
    changed[at] = other
    first, same, found = (_numbers(_frame(uploading(data))) for data in (plain, bytes(16), bytes(changed)))
    assert first == same
    assert [k for k, (a, b) in enumerate(zip(first, found, strict=True)) if a != b] == [1, 3, 4]


def _conditionally(batch: CallBatch) -> None:
    batch.call("glBeginConditionalRender", 1, GL.QUERY_WAIT)


def test_what_is_not_followed_is_never_called_the_same() -> None:
    frame = _frame()
    record = frame.objects.programs[0]
    fixed = [
        msgspec.structs.replace(s, source=s.source.replace("model *", "gl_ModelViewMatrix *")) for s in record.shaders
    ]
    frame.objects.programs[0] = msgspec.structs.replace(record, shaders=fixed)
    frame.context.profile = "compatibility"
    assert frame.step_inputs[1].tolist() == [True, False, False, True, True]
    stored = _frame()
    stored.objects.programs[1] = msgspec.structs.replace(stored.objects.programs[1], storage_blocks={"b": (0, 0)})
    assert stored.step_inputs[1].tolist() == [True, True, True, False, False]
    assert not _frame(_conditionally).step_inputs[1].any()


def test_every_step_of_the_demo_is_known_and_what_follows_a_change_changes() -> None:
    frame = load_opengl(demo_files()[1])
    numbers, known = frame.step_inputs
    assert known.all()
    shadow = frame.passes.names.index("shadow")
    step = int(frame.passes.first[shadow]) + 1
    batch = CallBatch()
    for call in range(len(frame.calls)):
        if call != int(frame.steps.call[step]):
            batch.copy(frame.calls, call)
    other, _ = dataclasses.replace(frame, calls=stream_of(batch)).step_inputs
    rest = np.delete(numbers, step)
    names = np.delete(np.array(frame.passes.names)[frame.passes.of_step], step)
    same = other == rest
    assert same[names == "shadow"].all(), "the other casters are what they were"
    for reader in ("mirror", "depot", "grade"):
        changed = ~same[names == reader]
        assert changed.sum() >= changed.size - 1 and changed.any(), "all but the clear: what they read is another image"
    assert same[names == "rain"].all(), "it reads nothing that was drawn"


def test_steps_are_the_same_only_where_all_frames_have_them_in_that_pass() -> None:
    view, shadow = ("view", 0), ("shadow", 0)
    frames = [
        FrameInputs([5, 6, 7, 0], [shadow, shadow, view, view]),
        FrameInputs([6, 5, 8, 7], [shadow, shadow, view, view]),
        FrameInputs([5, 6, 9, 7], [shadow, shadow, view, shadow]),
    ]
    found = same_steps(frames)
    assert [found.of_frame(k) for k in (1, 2, 3)] == [[0, 1], [0, 1], [0, 1]]
    assert found.runs[0] == [(0, 2)]
    assert same_steps([]).runs == []


def test_the_part_that_can_be_kept_begins_with_a_clear_and_passes_nothing_that_mixes() -> None:
    frame = _frame()
    every = np.ones(5, bool)
    assert static_part(frame, 0, every) == [0, 1, 2, 3, 4]
    moving = every.copy()
    moving[2] = False
    assert static_part(frame, 0, moving) == [0, 1, 3, 4], "depth decides, whatever the order"
    unclear = every.copy()
    unclear[0] = False
    assert static_part(frame, 0, unclear) == []
    mixing = _frame(blend_enabled={(0, 0): (1,)})
    assert static_part(mixing, 0, moving) == [0, 1], "what is blended keeps its place"


def _uploads(*calls: tuple[Any, ...]) -> list[tuple[int, int]]:
    """What of some calls, made before the draws of a frame, writes what is there already."""

    def before(batch: CallBatch) -> None:
        batch.call("glBindBuffer", GL.ARRAY_BUFFER, 2)
        batch.call("glBindTexture", GL.TEXTURE_2D, 1)
        for call in calls:
            batch.call(*call)

    return _frame(before).same_uploads


VERTICES = np.full((24, 3), 1, np.float32).tobytes()
TEXELS = bytes([1]) * 64
SUB = ("glBufferSubData", GL.ARRAY_BUFFER)
PART = ("glTexSubImage2D", GL.TEXTURE_2D, 0, 2, 2, 4, 4, GL.RGBA, GL.UNSIGNED_BYTE)


def test_uploads_of_what_is_there_are_found() -> None:
    assert _uploads((*SUB, 12, 24, VERTICES[12:36])) == [(3, 24)]
    assert _uploads((*PART, TEXELS)) == [(3, 64)]
    other = bytes([9]) * 64
    assert _uploads((*PART, other), (*PART, other), (*PART, TEXELS)) == [(4, 64)], "the first and the last change it"
    whole = ("glBufferData", GL.ARRAY_BUFFER, len(VERTICES), VERTICES)
    assert _uploads((*whole, GL.STATIC_DRAW)) == [(3, len(VERTICES))]
    assert _uploads((*whole, GL.STREAM_DRAW)) == [], "it asks for memory of another kind"


@given(st.integers(0, 287), st.integers(1, 255), st.integers(0, 63))
def test_an_upload_with_another_byte_is_never_called_the_same(at: int, other: int, texel: int) -> None:
    data, texels = bytearray(VERTICES), bytearray(TEXELS)
    data[at] ^= other
    texels[texel] ^= other
    assert _uploads((*SUB, 0, 288, bytes(data)), (*PART, bytes(texels))) == []


def test_uploads_into_what_is_not_followed_are_left_out() -> None:
    assert _uploads(("glGenerateMipmap", GL.TEXTURE_2D), (*PART, TEXELS)) == []
    assert _uploads((*PART[:-1], GL.BYTE, TEXELS)) == [], "read in another way"
    assert _uploads((*PART[:3], 6, 6, *PART[5:], TEXELS)) == [], "it reaches over the edge"


def test_a_clear_of_a_part_leaves_the_rest_of_a_target() -> None:
    """Two tiles of one image: the second is cleared and drawn anew, the first is what its own draw left."""

    def reader(tint: float) -> int:
        blobs, batch = BlobStore(), CallBatch()
        made = objects(blobs, 1, 1, 2)
        attached = AttachmentRecord(GL.COLOR_ATTACHMENT0, "texture", 2)
        made.framebuffers.append(FramebufferRecord(1, [attached]))
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 1)
        batch.call("glEnable", GL.SCISSOR_TEST)
        for tile, colour in enumerate((tint, 0.5)):
            batch.call("glViewport", 4 * tile, 0, 4, 8)
            batch.call("glScissor", 4 * tile, 0, 4, 8)
            batch.call("glClear", GL.COLOR_BUFFER_BIT)
            draw(batch, 1, 1, 1, tint=colour)
        batch.call("glBindFramebuffer", GL.FRAMEBUFFER, 0)
        draw(batch, 1, 1, 2)
        return _numbers(frame_of(batch, made, blobs))[-1]

    assert reader(0.25) == reader(0.25) and reader(0.25) != reader(0.75)
