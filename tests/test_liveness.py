"""Which steps have an effect, and links inside a frame: on calls and records alone, without a driver."""

from __future__ import annotations

import struct
from collections.abc import Callable

import numpy as np
import pytest

from wendascope.analysis.draws.liveness import reads_of_targets, without_effect
from wendascope.backends.opengl.calls.journal import Journal
from wendascope.backends.opengl.calls.packed import CallBatch, CallStream, stream_of
from wendascope.backends.opengl.calls.relinks import LinkSettler
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.records import (
    AttachmentRecord,
    DefaultFramebuffer,
    FramebufferRecord,
    ImageRecord,
    Objects,
    ProgramRecord,
    ShaderRecord,
    TextureRecord,
    UniformRecord,
)
from wendascope.frame.blobs import BlobStore
from wendascope.frame.context import ContextInfo
from wendascope.frame.frame import Metadata
from wendascope.registry import GL

FLAT, SHOW, WRITER = 1, 2, 3
"""Programs: one that reads nothing, one that samples unit 0, one that writes a buffer."""
SAMPLES = "#version 450\nuniform sampler2D image;\nout vec4 c;\nvoid main() { c = texture(image, vec2(0.5)); }\n"
PLAIN = "#version 450\nout vec4 c;\nvoid main() { c = vec4(1.0); }\n"
WRITES = "#version 450\nbuffer B { int n; };\nout vec4 c;\nvoid main() { n = 1; c = vec4(1.0); }\n"


def _frame(batch: CallBatch, following: CallBatch | None = None) -> OpenGLFrame:
    objects = Objects()
    for name, source in ((FLAT, PLAIN), (SHOW, SAMPLES), (WRITER, WRITES)):
        uniforms = [UniformRecord("image", GL.SAMPLER_2D, 1, [0], bytes(4))] if name == SHOW else []
        objects.programs.append(
            ProgramRecord(name, [ShaderRecord(GL.FRAGMENT_SHADER, source)], True, uniforms=uniforms)
        )
    for name in (1, 2, 3):
        objects.textures.append(
            TextureRecord(name, GL.TEXTURE_2D, images=[ImageRecord(GL.TEXTURE_2D, 0, 8, 8, 1, GL.RGBA8)])
        )
        objects.framebuffers.append(
            FramebufferRecord(
                name,
                [AttachmentRecord(GL.COLOR_ATTACHMENT0, "texture", name, 0, 0, 0, False)],
                [GL.COLOR_ATTACHMENT0],
                0,
            )
        )
    state = {
        "program": {(0, 0): (FLAT,)},
        "active_texture": {(0, 0): (GL.TEXTURE0,)},
        "framebuffer": {(t, 0): (0,) for t in (GL.DRAW_FRAMEBUFFER, GL.READ_FRAMEBUFFER)},
    }
    return OpenGLFrame(
        Metadata(),
        ContextInfo(major=4, minor=5),
        DefaultFramebuffer(width=8, height=8),
        state,
        objects,
        BlobStore(),
        stream_of(batch),
        following=stream_of(following or CallBatch()),
    )


def _draw(batch: CallBatch, into: int, program: int = FLAT, reads: int = 0) -> None:
    batch.call("glBindFramebuffer", GL.FRAMEBUFFER, into)
    if reads:
        batch.call("glBindTexture", GL.TEXTURE_2D, reads)
    batch.call("glUseProgram", program)
    batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)


def _made(
    *rows: tuple[int, ...],
    before_end: Callable[[CallBatch], None] = lambda _: None,
    following: Callable[[CallBatch], None] | None = None,
) -> list[bool]:
    batch, after = CallBatch(), CallBatch()
    for row in rows:
        _draw(batch, *row)
    before_end(batch)
    if following:
        following(after)
    return list(without_effect(_frame(batch, after if following else None)).tolist())


def test_chains_are_followed_to_the_window() -> None:
    assert _made((1, FLAT), (2, SHOW, 1), (0, SHOW, 2)) == [False, False, False]
    assert _made((1, FLAT), (2, SHOW, 1), (0, FLAT)) == [
        True,
        True,
        False,
    ], "what only serves what nobody reads has no effect either"
    assert _made((1, FLAT), (2, FLAT), (0, SHOW, 2)) == [True, False, False]


def test_a_reader_before_the_writer_means_the_frame_before() -> None:
    assert _made((0, SHOW, 1), (1, FLAT)) == [False, False]


def test_the_frame_after_may_be_the_reader() -> None:
    assert _made((1, FLAT), (0, FLAT), following=lambda b: _draw(b, 0, FLAT)) == [True, False]
    assert _made((1, FLAT), (0, FLAT), following=lambda b: _draw(b, 0, SHOW, 1)) == [False, False]


@pytest.mark.parametrize(
    "read",
    [
        lambda b: b.call("glBlitNamedFramebuffer", 1, 0, 0, 0, 8, 8, 0, 0, 8, 8, GL.COLOR_BUFFER_BIT, GL.NEAREST),
        lambda b: b.call("glGetTextureImage", 1, 0, GL.RGBA, GL.UNSIGNED_BYTE, 256, b.out(256)),
        lambda b: (
            b.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, 1),
            b.call("glReadPixels", 0, 0, 8, 8, GL.RGBA, GL.UNSIGNED_BYTE, b.out(256)),
        ),
        lambda b: b.call("glGetTextureHandleARB", 1),
        lambda b: (
            b.call("glBindFramebuffer", GL.READ_FRAMEBUFFER, 1),
            b.call("glBindFramebuffer", GL.DRAW_FRAMEBUFFER, 0),
            b.call("glBlitFramebuffer", 0, 0, 8, 8, 0, 0, 8, 8, GL.COLOR_BUFFER_BIT, GL.NEAREST),
        ),
    ],
    ids=["named blit", "texture read back", "pixels read back", "a handle, which is not followed", "blit"],
)
def test_other_ways_to_read(read: Callable[[CallBatch], None]) -> None:
    assert _made((1, FLAT), (0, FLAT), before_end=read)[0] is False


def test_copies_hand_the_effect_on() -> None:
    def copied(batch: CallBatch, shown: bool) -> None:
        where = (GL.TEXTURE_2D, 0, 0, 0, 0)
        batch.call("glCopyImageSubData", 1, *where, 3, *where, 8, 8, 1)
        _draw(batch, 0, SHOW if shown else FLAT, 3)

    assert _made((1, FLAT), before_end=lambda b: copied(b, True)) == [False, False, False]
    assert _made((1, FLAT), before_end=lambda b: copied(b, False)) == [True, True, False]


def test_writers_of_buffers_and_counted_steps_have_an_effect() -> None:
    assert _made((1, WRITER), (0, FLAT)) == [False, False]

    batch = CallBatch()
    batch.call("glBeginQuery", GL.SAMPLES_PASSED, 7)
    _draw(batch, 1)
    batch.call("glEndQuery", GL.SAMPLES_PASSED)
    _draw(batch, 0)
    assert without_effect(_frame(batch)).tolist() == [False, False]


def test_reads_within_a_pass_are_found() -> None:
    batch = CallBatch()
    _draw(batch, 1)
    batch.call("glBlitNamedFramebuffer", 1, 2, 0, 0, 8, 8, 0, 0, 8, 8, GL.COLOR_BUFFER_BIT, GL.NEAREST)
    batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
    batch.call("glReadPixels", 0, 0, 8, 8, GL.RGBA, GL.UNSIGNED_BYTE, batch.out(256))
    batch.call("glDrawArrays", GL.TRIANGLES, 0, 3)
    _draw(batch, 0)
    frame = _frame(batch)
    assert reads_of_targets(frame)[0] == [1, 3], "by the blit, and before the last draw by a readback"


# ---- programs linked within a frame ----------------------------------------------------------------------


def _journalled(calls: CallStream, group: int) -> CallStream:
    """Calls as the journal has them: with the share group beside each."""
    words = calls.words.copy()
    words[calls.offsets + 1] = (words[calls.offsets + 1] & np.uint64(0xFFFFFFFF)) | np.uint64(group << 32)
    return CallStream(words, calls.arena, calls.offsets)


def _program(batch: CallBatch, source: bytes) -> None:
    """Program 5 of shader 6, linked."""
    batch.call("glCreateShader", GL.FRAGMENT_SHADER)
    batch.words[-1] = 6
    batch.call("glShaderSource", 6, 1, [source], struct.pack("<i", len(source)))
    batch.call("glCompileShader", 6)
    batch.call("glCreateProgram")
    batch.words[-1] = 5
    batch.call("glAttachShader", 5, 6)
    batch.call("glLinkProgram", 5)


def _settled(source: bytes, changed: bytes | None, uses: int = 5) -> tuple[Objects, CallStream, LinkSettler]:
    made = CallBatch()
    _program(made, source)
    journal = Journal(_journalled(stream_of(made), 1), 1)
    before = ProgramRecord(
        5,
        [ShaderRecord(GL.FRAGMENT_SHADER, source.decode(), 6)],
        True,
        uniforms=[UniformRecord("k", GL.FLOAT, 1, [0], struct.pack("<f", 3.0))],
    )
    objects = Objects(programs=[before])
    batch = CallBatch()
    batch.call("glUseProgram", uses)
    if changed is not None:
        batch.call("glShaderSource", 6, 1, [changed], struct.pack("<i", len(changed)))
        batch.call("glCompileShader", 6)
    batch.call("glLinkProgram", 5)
    batch.call("glUseProgram", 5)
    batch.call("glUniform1f", 0, 1.0)
    settler = LinkSettler(journal, objects, {"program": {(0, 0): (0,)}})
    return objects, settler.settle(stream_of(batch)), settler


def test_a_link_from_the_same_sources_is_a_program_of_its_own() -> None:
    objects, calls, settler = _settled(b"uniform float k; void main() {}", None)
    assert objects.programs[0].name == 5 and len(objects.programs) == 2 and not objects.relinked
    made = objects.programs[1]
    assert made.uniforms[0].values == bytes(4), "linking sets uniforms to zero"
    names = [calls.command(c).name for c in range(len(calls))]
    assert "glLinkProgram" not in names and [
        int(calls.argument(c, "program")) for c in calls.calls_of("glUseProgram")
    ] == [5, made.name, made.name]
    assert len(settler.caveats) == 1


def test_a_link_from_other_sources_is_known_to_the_replay_alone() -> None:
    objects, _, _ = _settled(b"uniform float k; void main() {}", b"uniform float j; void main() {}")
    assert len(objects.programs) == 1 and objects.relinked[0].shaders[0].source.startswith("uniform float j")


def test_a_link_of_what_is_not_in_use_changes_nothing_that_is() -> None:
    _, calls, _ = _settled(b"uniform float k; void main() {}", None, uses=9)
    assert [int(calls.argument(c, "program")) for c in calls.calls_of("glUseProgram")][:2] == [9, 9]


def test_the_frame_after_goes_on_with_the_new_program() -> None:
    objects, _, settler = _settled(b"uniform float k; void main() {}", None)
    batch = CallBatch()
    batch.call("glUseProgram", 5)
    after = settler.settle(stream_of(batch))
    assert int(after.argument(0, "program")) == objects.programs[1].name


def test_frames_without_links_are_left_alone() -> None:
    batch = CallBatch()
    batch.call("glUseProgram", 5)
    calls = stream_of(batch)
    settler = LinkSettler(Journal(stream_of(CallBatch()), 1), Objects(programs=[ProgramRecord(5, [], True)]), {})
    assert settler.settle(calls) is calls and settler.caveats == []
